// Package internal_test guards which package may know which.
package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// may lists, for each package outside the core, which others it may import. None
// imports what imports it, and the core imports none of them (see core/imports_test.go).
var may = map[string][]string{
	"internal/line/yang":       {},
	"internal/line":            {"core"},
	"internal/gateway/stamp":   {},
	"internal/gateway/socket":  {},
	"internal/gateway/agent":   {"core", "internal/gateway/socket", "internal/gateway/stamp", "internal/line"},
	"internal/gateway/join":    {"internal/line"},
	"internal/gateway/kernel":  {"core", "internal/gateway/agent", "internal/gateway/socket", "internal/gateway/stamp"},
	"internal/gateway/memory":  {"core", "internal/gateway/agent", "internal/gateway/stamp"},
	"internal/fleet":           {"core", "internal/gateway/agent", "internal/gateway/join", "internal/gateway/memory", "internal/line"},
	"internal/server/store":    {},
	"internal/server/turns":    {},
	"internal/server/identity": {"internal/server/store"},
	"internal/server/desk":     {"core", "internal/server/identity", "internal/server/series", "internal/server/store"},
	"packaging":                {},
	"internal/server/enrol":    {"internal/line", "internal/server/identity", "internal/server/store", "packaging"},
	"internal/server/watch":    {"core", "internal/line", "internal/server/desk", "internal/server/enrol", "internal/server/identity", "internal/server/series", "internal/server/store", "internal/server/turns"},
	"internal/server/series":   {"core", "internal/server/store"},
	"internal/server/events":   {"core", "internal/server/desk", "internal/server/identity", "internal/server/store", "internal/server/turns"},
	"internal/server/drills":   {"core", "internal/server/desk", "internal/server/events", "internal/server/identity", "internal/server/store", "internal/server/turns"},
	"internal/server/rollouts": {"core", "internal/server/desk", "internal/server/identity", "internal/server/store", "internal/server/turns"},
	"internal/server/api":      {"core", "internal/server/desk", "internal/server/drills", "internal/server/enrol", "internal/server/events", "internal/server/identity", "internal/server/rollouts", "internal/server/series", "internal/server/store"},
	"cmd/wideknot":             {"core", "examples", "internal/fleet", "internal/gateway/agent", "internal/gateway/join", "internal/gateway/kernel", "internal/gateway/socket", "internal/line", "internal/server/api", "internal/server/desk", "internal/server/drills", "internal/server/enrol", "internal/server/events", "internal/server/identity", "internal/server/rollouts", "internal/server/store", "internal/server/watch"},
	"examples":                 {"core"},
	"lab":                      {"core", "internal/fleet", "internal/gateway/memory", "internal/gateway/socket"},
	"mutate":                   {},
	"notices":                  {},
	"golden":                   {},
	"e2e":                      {"core", "e2e", "examples", "internal/gateway/join", "internal/line", "internal/server/series", "internal/server/store"},
}

func TestArrows(t *testing.T) {
	err := filepath.WalkDir("..", func(file string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() && slices.Contains([]string{"node_modules", "core", ".git", "var"}, entry.Name()) {
			return filepath.SkipDir
		}
		if entry.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return nil
		}
		folder, err := filepath.Rel("..", filepath.Dir(file))
		if err != nil {
			return err
		}
		home := path.Clean(filepath.ToSlash(folder))
		if strings.HasPrefix(home, "e2e/") {
			home = "e2e"
		}
		allowed, known := may[home]
		if !known {
			t.Errorf("%s has no line here: say what it may import", home)
			return nil
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range parsed.Imports {
			name, _ := strconv.Unquote(spec.Path.Value)
			own, isOwn := strings.CutPrefix(name, "wideknot/")
			if isOwn && !slices.ContainsFunc(allowed, func(a string) bool { return own == a || strings.HasPrefix(own, a+"/") && (a == "core" || a == "e2e") }) {
				t.Errorf("%s imports %s", file, name)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// A function longer than a screen says in its comment why ("Long …").
func TestLongFunctionsSayWhy(t *testing.T) {
	const screen = 60 // lines
	err := filepath.WalkDir("..", func(file string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() && slices.Contains([]string{"node_modules", ".git", "var"}, entry.Name()) {
			return filepath.SkipDir
		}
		if entry.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return nil
		}
		set := token.NewFileSet()
		parsed, err := parser.ParseFile(set, file, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		for _, d := range parsed.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			if lines := set.Position(f.End()).Line - set.Position(f.Pos()).Line + 1; lines > screen && !strings.Contains(f.Doc.Text(), "Long ") {
				t.Errorf("%s: %s has %d lines; split it, or say why not", file, f.Name.Name, lines)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}
