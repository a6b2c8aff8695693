// Package identity knows who may do what: accounts, sessions, tokens, roles,
// the audit; and keeps secrets at rest.
package identity

import (
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"hash"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/crypto/chacha20poly1305"
)

// A Sealer encrypts secrets with a master key (XChaCha20-Poly1305). What is
// sealed for one purpose cannot be opened for another. It may know older keys
// besides, which only open. It is safe for concurrent use.
type Sealer struct {
	path string // of the file its keys are in; empty when they are not in one

	mu   sync.Mutex
	seen os.FileInfo // of the file that was read
	keys []masterKey
}

// A masterKey seals secrets, and signs backups with a key that follows from it.
type masterKey struct {
	cipher.AEAD
	signing []byte
}

// ErrNoKey is returned for a master key file that is not there.
var ErrNoKey = errors.New("the master key is missing")

// LoadSealer reads master keys from a file, one a line in base64, the present
// one first. One that is not there is ErrNoKey; one that others can read is
// refused. A file that changes is read again, so a running server takes part in
// changing the key.
func LoadSealer(path string) (*Sealer, error) {
	s := &Sealer{path: path}
	return s, s.refresh()
}

// NewSealer is LoadSealer on a file that is made when it is not there.
func NewSealer(path string) (*Sealer, error) {
	if err := MakeKey(path); err != nil {
		return nil, err
	}
	return LoadSealer(path)
}

// MakeKey makes the master key file, unless it is there already.
func MakeKey(path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("making the folder of the master key: %w", err)
	}
	return WithKeysLocked(path, func() error {
		if _, err := os.Stat(path); !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return writeKeys(path, newKey())
	})
}

// WithKeysLocked runs f while no other process changes a key file.
func WithKeysLocked(path string, f func() error) error {
	lock, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("locking the master key: %w", err)
	}
	defer lock.Close() // which unlocks
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return fmt.Errorf("locking the master key: %w", err)
	}
	return f()
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
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%w: there is no %s", ErrNoKey, s.path)
	} else if err != nil {
		return fmt.Errorf("looking for the master key: %w", err)
	}
	if s.seen != nil && os.SameFile(info, s.seen) && info.ModTime().Equal(s.seen.ModTime()) && info.Size() == s.seen.Size() {
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
	s.keys, s.seen = keys, info
	return nil
}

func parseKeys(text string) ([]masterKey, error) {
	var keys []masterKey
	for _, line := range strings.Fields(text) {
		key, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(key) != chacha20poly1305.KeySize {
			return nil, fmt.Errorf("each line must hold %d bytes in base64", chacha20poly1305.KeySize)
		}
		aead, err := chacha20poly1305.NewX(key)
		if err != nil {
			return nil, err
		}
		signing, err := hkdf.Key(sha256.New, key, nil, "wideknot backup", sha256.Size)
		if err != nil {
			return nil, err
		}
		keys = append(keys, masterKey{aead, signing})
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

// writeKeys writes a key file all at once, so that a crash, or a power cut, leaves
// the former or the new one. Its folder must be locked.
func writeKeys(path string, keys ...string) error {
	fresh := path + ".new"
	file, err := os.OpenFile(fresh, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("writing the master key: %w", err)
	}
	_, err = file.WriteString(strings.Join(keys, "\n") + "\n")
	if err := errors.Join(err, file.Sync(), file.Close()); err != nil {
		return fmt.Errorf("writing the master key: %w", err)
	}
	if err := os.Rename(fresh, path); err != nil {
		return fmt.Errorf("writing the master key: %w", err)
	}
	folder, err := os.Open(filepath.Dir(path))
	if err != nil {
		return fmt.Errorf("writing the master key: %w", err)
	}
	defer folder.Close()
	return folder.Sync()
}

// AddKey puts a new key before those of a file, which must be locked.
func AddKey(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("reading the master key: %w", err)
	}
	return writeKeys(path, slices.Insert(strings.Fields(string(text)), 0, newKey())...)
}

// ForgetKeys leaves only the first key in a file, which must be locked.
func ForgetKeys(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("reading the master key: %w", err)
	}
	keys := strings.Fields(string(text))
	if len(keys) == 0 {
		return fmt.Errorf("the master key %s is damaged: it holds no key", path)
	}
	return writeKeys(path, keys[0])
}

// BackupCodes returns what a backup is signed with: under the present master key
// first, then under each older one.
func (s *Sealer) BackupCodes() []hash.Hash {
	var out []hash.Hash
	for _, key := range s.ring() {
		out = append(out, hmac.New(sha256.New, key.signing))
	}
	return out
}

// ring returns the present keys.
func (s *Sealer) ring() []masterKey {
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
