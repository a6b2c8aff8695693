// Package identity knows who may do what: accounts, sessions, tokens, roles,
// the audit; and keeps secrets at rest.
package identity

import (
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/chacha20poly1305"
)

// A Sealer encrypts secrets with a master key (XChaCha20-Poly1305). What is
// sealed for one purpose cannot be opened for another. It may know older keys
// besides, which only open. It is safe for concurrent use.
type Sealer struct {
	path string // of the file its keys are in; empty when they are not in one

	mu   sync.Mutex
	seen time.Time // when the file was changed that was read
	keys []cipher.AEAD
}

// LoadSealer reads master keys from a file, one a line in base64, the present
// one first. The file is made when it is not there; one that others can read is
// refused. A file that changes is read again, so a running server takes part in
// changing the key.
func LoadSealer(path string) (*Sealer, error) {
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, fmt.Errorf("making the folder of the master key: %w", err)
		}
		if err := writeKeys(path, newKey()); err != nil {
			return nil, err
		}
	}
	s := &Sealer{path: path}
	return s, s.refresh()
}

// ParseSealer reads master keys as they are in a file, from elsewhere.
func ParseSealer(text string) (*Sealer, error) {
	keys, err := parseKeys(text)
	return &Sealer{keys: keys}, err
}

func (s *Sealer) refresh() error {
	if s.path == "" {
		return nil
	}
	info, err := os.Stat(s.path)
	if err != nil {
		return fmt.Errorf("looking for the master key: %w", err)
	}
	if info.ModTime().Equal(s.seen) {
		return nil
	}
	if info.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("the master key %s can be read by others; run chmod 600 on it", s.path)
	}
	text, err := os.ReadFile(s.path)
	if err != nil {
		return fmt.Errorf("reading the master key: %w", err)
	}
	keys, err := parseKeys(string(text))
	if err != nil {
		return fmt.Errorf("the master key %s is damaged: %w", s.path, err)
	}
	s.keys, s.seen = keys, info.ModTime()
	return nil
}

func parseKeys(text string) ([]cipher.AEAD, error) {
	var keys []cipher.AEAD
	for _, line := range strings.Fields(text) {
		key, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(key) != chacha20poly1305.KeySize {
			return nil, fmt.Errorf("each line must hold %d bytes in base64", chacha20poly1305.KeySize)
		}
		aead, err := chacha20poly1305.NewX(key)
		if err != nil {
			return nil, err
		}
		keys = append(keys, aead)
	}
	if len(keys) == 0 {
		return nil, errors.New("it holds no key")
	}
	return keys, nil
}

func newKey() string {
	key := make([]byte, chacha20poly1305.KeySize)
	_, _ = rand.Read(key) // never fails
	return base64.StdEncoding.EncodeToString(key)
}

// writeKeys writes a key file all at once, so that a crash leaves the former
// or the new one.
func writeKeys(path string, keys ...string) error {
	fresh := path + ".new"
	if err := os.WriteFile(fresh, []byte(strings.Join(keys, "\n")+"\n"), 0o600); err != nil {
		return fmt.Errorf("writing the master key: %w", err)
	}
	return os.Rename(fresh, path)
}

// AddKey puts a new key before those of a file.
func AddKey(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("reading the master key: %w", err)
	}
	return writeKeys(path, slices.Insert(strings.Fields(string(text)), 0, newKey())...)
}

// ForgetKeys leaves only the first key in a file.
func ForgetKeys(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("reading the master key: %w", err)
	}
	return writeKeys(path, strings.Fields(string(text))[:1]...)
}

// ring returns the present keys.
func (s *Sealer) ring() []cipher.AEAD {
	s.mu.Lock()
	defer s.mu.Unlock()
	_ = s.refresh() // keys once read stay good when the file cannot be read any more
	return s.keys
}

// Seal encrypts a secret for a purpose.
func (s *Sealer) Seal(secret []byte, purpose string) []byte {
	aead := s.ring()[0]
	nonce := make([]byte, aead.NonceSize(), aead.NonceSize()+len(secret)+aead.Overhead())
	_, _ = rand.Read(nonce) // never fails
	return aead.Seal(nonce, nonce, secret, []byte(purpose))
}

// Open decrypts what was sealed for the same purpose.
func (s *Sealer) Open(sealed []byte, purpose string) ([]byte, error) {
	secret, _, err := s.open(sealed, purpose)
	return secret, err
}

func (s *Sealer) open(sealed []byte, purpose string) (secret []byte, present bool, err error) {
	for i, aead := range s.ring() {
		n := aead.NonceSize()
		if len(sealed) < n {
			return nil, false, errors.New("the sealed secret is too short")
		}
		if secret, err := aead.Open(nil, sealed[:n], sealed[n:], []byte(purpose)); err == nil {
			return secret, i == 0, nil
		}
	}
	return nil, false, errors.New("the secret cannot be opened: it was sealed with another master key, or for another purpose")
}

// Reseal seals with the present key what an older one sealed. It returns nil
// for what is sealed with the present key already.
func (s *Sealer) Reseal(sealed []byte, purpose string) ([]byte, error) {
	secret, present, err := s.open(sealed, purpose)
	if err != nil || present {
		return nil, err
	}
	return s.Seal(secret, purpose), nil
}
