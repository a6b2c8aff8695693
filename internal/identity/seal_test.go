package identity

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
)

func TestSealer(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "master.key")
	s, err := LoadSealer(path)
	if err != nil {
		t.Fatal(err)
	}
	again, err := LoadSealer(path)
	if err != nil {
		t.Fatal(err)
	}
	sealed := s.Seal([]byte("secret"), "site a")
	if bytes.Contains(sealed, []byte("secret")) {
		t.Error("the secret can be read")
	}
	if got, err := again.Open(sealed, "site a"); err != nil || string(got) != "secret" {
		t.Errorf("%q, %v", got, err)
	}
	if _, err := again.Open(sealed, "site b"); err == nil {
		t.Error("opened for another purpose")
	}
	sealed[len(sealed)-1] ^= 1
	if _, err := again.Open(sealed, "site a"); err == nil {
		t.Error("opened after a change")
	}
	if _, err := again.Open(sealed[:5], "site a"); err == nil {
		t.Error("opened a stump")
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := LoadSealer(path); err == nil {
		t.Error("took a key that everybody can read")
	}
	if err := os.WriteFile(path, []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	os.Chmod(path, 0o600)
	if _, err := LoadSealer(path); err == nil {
		t.Error("took a damaged key")
	}
}
