package agent

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"wideknot/core/gateway"
)

// A Version is a configuration with what is known of it.
type Version struct {
	Release int             `json:"release,omitempty"`
	Digest  string          `json:"digest"`
	Config  *gateway.Config `json:"-"`
}

// A Trial is a version that goes back by itself unless it is confirmed.
type Trial struct {
	Version
	Token   string `json:"token"`
	Seconds int    `json:"seconds"`
}

// An Outcome is how a trial ended.
type Outcome struct {
	Token string `json:"token,omitempty"`
	How   string `json:"how,omitempty"` // Confirmed or WentBack
	Why   string `json:"why,omitempty"` // of going back
}

// is reports whether a trial ended so.
func (o *Outcome) is(token, how string) bool { return o.Token == token && o.How == how }

// A store is the state folder: confirmed, former and at most one trial. What is
// written is whole and on the disk before anything acts on it.
type store struct{ folder string }

// Names of versions in the folder.
const (
	confirmed = "confirmed"
	former    = "former"
	trial     = "trial"
)

// kept is a file of the store: a version and, beside it in one file, so that neither
// is there without the other, its configuration.
type kept struct {
	Trial
	Gateway json.RawMessage `json:"configuration"`
}

func openStore(folder string) (*store, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("the state folder: %w", err)
	}
	return &store{folder}, nil
}

func (s *store) path(name string) string { return filepath.Join(s.folder, name+".json") }

// write keeps a version under a name.
func (s *store) write(name string, t *Trial) error {
	text, err := gateway.Write(t.Config)
	if err != nil {
		return err
	}
	out, err := json.Marshal(kept{*t, text})
	if err != nil {
		return err
	}
	return writeWhole(s.path(name), out)
}

// writeWhole replaces a file as a whole, and returns when it is on the disk.
func writeWhole(path string, text []byte) error {
	next := path + ".next"
	file, err := os.OpenFile(next, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("keeping %s: %w", filepath.Base(path), err)
	}
	_, err = file.Write(text)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		_ = os.Remove(next)
		return fmt.Errorf("keeping %s: %w", filepath.Base(path), err)
	}
	if err := os.Rename(next, path); err != nil {
		return fmt.Errorf("keeping %s: %w", filepath.Base(path), err)
	}
	return syncFolder(filepath.Dir(path))
}

func syncFolder(path string) error {
	folder, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(folder.Sync(), folder.Close())
}

// read returns what is kept under a name; nil where nothing is.
func (s *store) read(name string) (*Trial, error) {
	text, err := os.ReadFile(s.path(name))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the %s configuration: %w", name, err)
	}
	var k kept
	if err := json.Unmarshal(text, &k); err != nil {
		return nil, fmt.Errorf("the %s configuration is damaged: %w", name, err)
	}
	if k.Config, err = gateway.Parse(k.Gateway); err != nil {
		return nil, fmt.Errorf("the %s configuration is damaged: %w", name, err)
	}
	if k.Config.Digest() != k.Digest {
		return nil, fmt.Errorf("the %s configuration is damaged: its digest is another", name)
	}
	return &k.Trial, nil
}

// promote makes a version the confirmed one; what was that is the former.
func (s *store) promote(t *Trial) error {
	if was, err := s.read(confirmed); err == nil && was != nil && was.Digest != t.Digest {
		if err := s.write(former, was); err != nil {
			return err
		}
	}
	if err := s.write(confirmed, &Trial{Version: t.Version}); err != nil {
		return err
	}
	return s.drop(trial)
}

// drop forgets what is kept under a name.
func (s *store) drop(name string) error {
	if err := os.Remove(s.path(name)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return syncFolder(s.folder)
}

// note keeps a small value under a name, and recall reads it.
func (s *store) note(name string, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return writeWhole(s.path(name), text)
}

// jot keeps one that may be lost in a power cut, and costs no wait for the disk.
func (s *store) jot(name string, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	next := s.path(name) + ".next"
	if err := os.WriteFile(next, text, 0o600); err != nil {
		return err
	}
	return os.Rename(next, s.path(name))
}

func (s *store) recall(name string, into any) error {
	text, err := os.ReadFile(s.path(name))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

// ReadSecrets reads the keys of a configuration from a folder: its private key, see
// privateKey, and INTERFACE.psk for each that wants one.
func ReadSecrets(folder string, c *gateway.Config) (out Secrets, err error) {
	if len(c.Tunnels) == 0 {
		return out, nil
	}
	if out.Private, _, err = privateKey(folder, c.PublicKey); err != nil {
		return out, err
	}
	out.Shared = map[string][32]byte{}
	for i := range c.Tunnels {
		if t := &c.Tunnels[i]; t.WireGuard != nil && t.WireGuard.Preshared {
			key, err := readKey(filepath.Join(folder, t.Interface+".psk"))
			if err != nil {
				return out, fmt.Errorf("the pre-shared key of %s: %w", t.Interface, err)
			}
			out.Shared[t.Interface] = key
		}
	}
	return out, nil
}

// readKey reads 32 bytes in base64.
func readKey(path string) (key [32]byte, err error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return key, err
	}
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(raw) != len(key) {
		return key, fmt.Errorf("%s holds no key of 32 bytes in base64", path)
	}
	return [32]byte(raw), nil
}

// Kept returns what was confirmed last in a state folder; nil where nothing was.
func Kept(folder string) (*gateway.Config, error) {
	t, err := (&store{folder}).read(confirmed)
	if err != nil || t == nil {
		return nil, err
	}
	return t.Config, nil
}
