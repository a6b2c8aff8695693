package main

import (
	"bufio"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// A mutant is one small wrong change of one file.
type mutant struct {
	file     string
	line     int
	function string
	from, to int    // bytes of the file that are replaced
	was, is  string // what stood there, and what stands there instead
}

func (m mutant) String() string {
	return fmt.Sprintf("%s:%d %s: %s → %s", m.file, m.line, m.function, brief(m.was), brief(m.is))
}

// key names a mutant whatever line it is on.
func (m mutant) key() string {
	return fmt.Sprintf("%s %s: %s → %s", m.file, m.function, brief(m.was), brief(m.is))
}

func brief(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if len(s) > 90 {
		s = s[:87] + "…"
	}
	if s == "" {
		return "nothing"
	}
	return s
}

// find lists every mutant of the code in a folder but one, tests left out.
func find(root, skip string) ([]mutant, error) {
	var out []mutant
	err := filepath.WalkDir(root, func(file string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() && file == skip {
			return filepath.SkipDir
		}
		if entry.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return nil
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		set := token.NewFileSet()
		parsed, err := parser.ParseFile(set, file, text, 0)
		if err != nil {
			return err
		}
		for _, d := range parsed.Decls {
			f := finder{set: set, file: file, text: string(text)}
			switch d := d.(type) {
			case *ast.FuncDecl:
				f.function = d.Name.Name
				if d.Body != nil {
					ast.Inspect(d.Body, f.visit)
				}
			case *ast.GenDecl:
				if f.function = "declaration"; d.Tok == token.CONST || d.Tok == token.VAR {
					ast.Inspect(d, f.visit)
				}
			}
			out = append(out, f.found...)
		}
		return nil
	})
	return out, err
}

type finder struct {
	set      *token.FileSet
	file     string
	text     string
	function string
	found    []mutant
}

// swaps lists what an operator is mistaken for.
var swaps = map[token.Token]string{
	token.LSS: "<=", token.LEQ: "<", token.GTR: ">=", token.GEQ: ">", token.EQL: "!=", token.NEQ: "==",
	token.LAND: "||", token.LOR: "&&", token.ADD: "-", token.SUB: "+", token.MUL: "/", token.QUO: "*",
	token.AND: "|", token.OR: "&", token.SHL: ">>", token.SHR: "<<", token.REM: "*",
}

func (f *finder) visit(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.BinaryExpr:
		if to, ok := swaps[n.Op]; ok {
			f.add(n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), to)
		}
	case *ast.BasicLit:
		if n.Kind == token.INT {
			if value, err := strconv.ParseInt(n.Value, 0, 64); err == nil {
				f.add(n.Pos(), n.End(), strconv.FormatInt(value+1, 10))
			}
		}
	case *ast.Ident:
		if n.Name == "true" {
			f.add(n.Pos(), n.End(), "false")
		} else if n.Name == "false" {
			f.add(n.Pos(), n.End(), "true")
		}
	case *ast.IfStmt:
		f.add(n.Cond.Pos(), n.Cond.End(), "!("+f.between(n.Cond.Pos(), n.Cond.End())+")")
	case *ast.BranchStmt:
		if n.Label == nil && (n.Tok == token.CONTINUE || n.Tok == token.BREAK) {
			f.add(n.Pos(), n.End(), "")
		}
	case *ast.ExprStmt, *ast.IncDecStmt:
		f.add(n.Pos(), n.End(), "")
	case *ast.AssignStmt:
		if n.Tok != token.DEFINE {
			f.add(n.Pos(), n.End(), "")
		}
	}
	return true
}

func (f *finder) between(from, to token.Pos) string {
	return f.text[f.set.Position(from).Offset:f.set.Position(to).Offset]
}

func (f *finder) add(from, to token.Pos, is string) {
	f.found = append(f.found, mutant{
		file: f.file, line: f.set.Position(from).Line, function: f.function,
		from: f.set.Position(from).Offset, to: f.set.Position(to).Offset, was: f.between(from, to), is: is,
	})
}

// readEquivalent returns the keys of the mutants that change nothing anybody
// could see; the reason stands before each group, after a #.
func readEquivalent(file string) (map[string]bool, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	known := map[string]bool{}
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		if text := strings.TrimSpace(lines.Text()); text != "" && !strings.HasPrefix(text, "#") {
			known[text] = true
		}
	}
	return known, lines.Err()
}
