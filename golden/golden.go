// Package golden compares what tests make with files beside them, which
// go test -update writes anew.
package golden

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"testing"
)

var update = flag.Bool("update", false, "write the golden files anew")

// Text compares a text with a file.
func Text(t testing.TB, path string, text []byte) {
	t.Helper()
	if *update {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, text, 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Errorf("%v (go test -update writes it)", err)
	} else if !bytes.Equal(text, want) {
		t.Errorf("%s differs from its golden file (go test -update writes it anew):\n%s", path, text)
	}
}

// JSON compares a value, written as JSON, with a file.
func JSON(t testing.TB, path string, value any) {
	t.Helper()
	text, err := json.MarshalIndent(value, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	Text(t, path, text)
}
