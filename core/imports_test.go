// Package core_test guards what the whole core promises.
package core_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// The core computes; it imports the standard library, itself, in estate one
// parser of YAML and what reads the encodings of sheets, and in route a trie of
// prefixes. It reads no clock, no network and no files.
func TestCoreImportsOnlyWhatItMay(t *testing.T) {
	forbidden := []string{"net/http", "os", "os/exec", "math/rand", "crypto/rand", "time"}
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range file.Imports {
			name, _ := strconv.Unquote(spec.Path.Value)
			first, _, _ := strings.Cut(name, "/")
			switch {
			case strings.HasPrefix(name, "wideknot/core/"):
			case name == "go.yaml.in/yaml/v3" && strings.HasPrefix(path, "estate/"):
			case name == "github.com/gaissmai/bart" && path == "route/prefixes.go":
			case strings.HasPrefix(name, "golang.org/x/text/") && path == "estate/csv.go":
			case strings.Contains(first, "."), strings.HasPrefix(name, "wideknot/"):
				t.Errorf("%s imports %s", path, name)
			}
			for _, f := range forbidden {
				if name == f {
					t.Errorf("%s imports %s", path, name)
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}
