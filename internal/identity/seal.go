// Package identity keeps secrets at rest.
package identity

import (
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
)

// A Sealer encrypts secrets with a master key (XChaCha20-Poly1305). What is
// sealed for one purpose cannot be opened for another.
type Sealer struct{ aead cipher.AEAD }

// LoadSealer reads the master key from a file, which is made when it is not
// there. A file that others can read is refused.
func LoadSealer(path string) (*Sealer, error) {
	info, err := os.Stat(path)
	if errors.Is(err, os.ErrNotExist) {
		if err := writeKey(path); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, fmt.Errorf("looking for the master key: %w", err)
	} else if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the master key %s can be read by others; run chmod 600 on it", path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("reading the master key: %w", err)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != chacha20poly1305.KeySize {
		return nil, fmt.Errorf("the master key %s is damaged: it must hold %d bytes in base64", path, chacha20poly1305.KeySize)
	}
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	return &Sealer{aead}, nil
}

// writeKey makes a key file all at once, so that a crash leaves none or a
// whole one.
func writeKey(path string) error {
	key := make([]byte, chacha20poly1305.KeySize)
	_, _ = rand.Read(key) // never fails
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("making the folder of the master key: %w", err)
	}
	fresh := path + ".new"
	if err := os.WriteFile(fresh, []byte(base64.StdEncoding.EncodeToString(key)+"\n"), 0o600); err != nil {
		return fmt.Errorf("writing the master key: %w", err)
	}
	return os.Rename(fresh, path)
}

// Seal encrypts a secret for a purpose.
func (s *Sealer) Seal(secret []byte, purpose string) []byte {
	nonce := make([]byte, s.aead.NonceSize(), s.aead.NonceSize()+len(secret)+s.aead.Overhead())
	_, _ = rand.Read(nonce) // never fails
	return s.aead.Seal(nonce, nonce, secret, []byte(purpose))
}

// Open decrypts what was sealed for the same purpose.
func (s *Sealer) Open(sealed []byte, purpose string) ([]byte, error) {
	n := s.aead.NonceSize()
	if len(sealed) < n {
		return nil, errors.New("the sealed secret is too short")
	}
	secret, err := s.aead.Open(nil, sealed[:n], sealed[n:], []byte(purpose))
	if err != nil {
		return nil, errors.New("the secret cannot be opened: it was sealed with another master key, or for another purpose")
	}
	return secret, nil
}
