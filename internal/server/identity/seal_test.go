package identity

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"
)

func TestSealer(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "master.key")
	if _, err := LoadSealer(path); !errors.Is(err, ErrNoKey) {
		t.Errorf("a file that is not there: %v", err)
	}
	s, err := NewSealer(path)
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

// A new key seals from the moment it is in the file; the former one opens
// until it is forgotten.
func TestTheMasterKeyIsChangedUnderWay(t *testing.T) {
	path := filepath.Join(t.TempDir(), "master.key")
	s, err := NewSealer(path)
	if err != nil {
		t.Fatal(err)
	}
	old := s.Seal([]byte("secret"), "p")
	if err := AddKey(path); err != nil {
		t.Fatal(err)
	}
	fresh := s.Seal([]byte("secret"), "p")
	for _, sealed := range [][]byte{old, fresh} {
		if got, err := s.Open(sealed, "p"); err != nil || string(got) != "secret" {
			t.Errorf("%q, %v", got, err)
		}
	}
	if again, err := s.Reseal(fresh, "p"); err != nil || again != nil {
		t.Errorf("what the new key sealed was sealed again: %v", err)
	}
	again, err := s.Reseal(old, "p")
	if err != nil || again == nil {
		t.Fatal(err)
	}
	if err := ForgetKeys(path); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Open(old, "p"); err == nil {
		t.Error("the forgotten key opens")
	}
	for _, sealed := range [][]byte{fresh, again} {
		if _, err := s.Open(sealed, "p"); err != nil {
			t.Error(err)
		}
	}
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	fromText, err := ParseSealer(string(text))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := fromText.Open(again, "p"); err != nil {
		t.Error(err)
	}
	for _, bad := range []string{"", "x", "AAAA"} {
		if _, err := ParseSealer(bad); err == nil {
			t.Errorf("the key %q was taken", bad)
		}
	}
}
