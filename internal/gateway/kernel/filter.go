package kernel

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"wideknot/core/gateway"
	"wideknot/core/render/linux"
)

// nft runs Debian's nft with a text; its words are in the error.
func nft(text []byte, arguments ...string) ([]byte, error) {
	command := exec.Command("nft", arguments...)
	command.Stdin = bytes.NewReader(text)
	var out, said bytes.Buffer
	command.Stdout, command.Stderr = &out, &said
	if err := command.Run(); err != nil {
		if errors.Is(err, exec.ErrNotFound) {
			return nil, errors.New("nft is missing; on Debian: apt install nftables")
		}
		return nil, fmt.Errorf("nft: %w: %.300s", err, strings.TrimSpace(said.String()))
	}
	return out.Bytes(), nil
}

// filter loads what judges packets, in one transaction. also is whose interfaces
// belong to the overlays too.
func (p *Plane) filter(c, also *gateway.Config) error {
	text, err := linux.Filter(c, also)
	if err != nil {
		return err
	}
	if also == nil && bytes.Equal(text, p.loaded) {
		return nil // its counters count on
	}
	if _, err := nft(text, "-f", "-"); err != nil {
		return fmt.Errorf("the filter: %w", err)
	}
	p.loaded = nil
	if also == nil {
		p.loaded = text
	}
	return nil
}

// dropFilter takes our table away; it may be gone.
func dropFilter() error {
	_, err := nft([]byte("table inet wideknot\ndelete table inet wideknot\n"), "-f", "-")
	return err
}

// counts reads the counters of policies, and of what is kept off tunnels, by interface.
func counts(c *gateway.Config) (out []gateway.RuleState, kept map[string]uint64, err error) {
	text, err := nft(nil, "-j", "list", "counters", "table", "inet", "wideknot")
	if err != nil {
		return nil, nil, err
	}
	var document struct {
		Nftables []struct {
			Counter *struct {
				Name           string `json:"name"`
				Packets, Bytes uint64
			} `json:"counter"`
		} `json:"nftables"`
	}
	if err := json.Unmarshal(text, &document); err != nil {
		return nil, nil, fmt.Errorf("reading counters: %w", err)
	}
	byName := map[string]gateway.RuleState{}
	for _, n := range document.Nftables {
		if n.Counter != nil {
			byName[n.Counter.Name] = gateway.RuleState{Packets: gateway.Counter(n.Counter.Packets), Bytes: gateway.Counter(n.Counter.Bytes)}
		}
	}
	for i := range c.Filter.Overlays {
		o := &c.Filter.Overlays[i]
		for _, n := range o.Rules() {
			state := byName[linux.Counter(o.Overlay, n)]
			state.Overlay, state.Rule = o.Overlay, n
			out = append(out, state)
		}
	}
	kept = map[string]uint64{}
	for i := range c.Filter.Kept {
		kept[c.Filter.Kept[i].Interface] = uint64(byName[linux.KeptCounter(i)].Packets)
	}
	return out, kept, nil
}

// settings sets the kernel's, and keeps what those that outlive our interfaces were
// at first.
func (p *Plane) settings(c *gateway.Config) error {
	text, err := linux.Settings(c)
	if err != nil {
		return err
	}
	before, err := p.before()
	if err != nil {
		return err
	}
	mine := map[string]bool{}
	for i := range c.Tunnels {
		mine[c.Tunnels[i].Interface] = true
	}
	for line := range strings.Lines(string(text)) {
		name, value, ok := strings.Cut(strings.TrimSpace(line), " = ")
		if !ok || strings.HasPrefix(name, "#") {
			continue
		}
		path := settingPath(name)
		was, err := os.ReadFile(path)
		if err != nil {
			return fmt.Errorf("the kernel's setting %s: %w", name, err)
		}
		is := strings.TrimSpace(string(was))
		if is == value {
			continue
		}
		if _, known := before[name]; !known && !ofInterface(name, mine) {
			before[name] = is
			if err := p.keepBefore(before); err != nil {
				return err
			}
		}
		if err := os.WriteFile(path, []byte(value), 0o644); err != nil {
			return fmt.Errorf("the kernel's setting %s: %w", name, err)
		}
	}
	return nil
}

// settingPath is where a setting is written. Its fourth word, the name of an
// interface, may have dots; no other has.
func settingPath(name string) string {
	parts := strings.Split(name, ".")
	if len(parts) > 5 {
		parts = append(append(parts[:3:3], strings.Join(parts[3:len(parts)-1], ".")), parts[len(parts)-1])
	}
	return filepath.Join(append([]string{"/proc/sys"}, parts...)...)
}

func ofInterface(name string, mine map[string]bool) bool {
	path := settingPath(name)
	return mine[filepath.Base(filepath.Dir(path))]
}

// before reads what settings were at first.
func (p *Plane) before() (map[string]string, error) {
	out := map[string]string{}
	text, err := os.ReadFile(p.beforeFile())
	if errors.Is(err, os.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(text, &out); err != nil {
		return nil, fmt.Errorf("%s: %w", p.beforeFile(), err)
	}
	return out, nil
}

func (p *Plane) beforeFile() string { return filepath.Join(p.state, "settings-before.json") }

func (p *Plane) keepBefore(values map[string]string) error {
	text, err := json.MarshalIndent(values, "", " ")
	if err != nil {
		return err
	}
	return writeFile(p.beforeFile(), text)
}

// writeFile replaces a file as a whole.
func writeFile(path string, text []byte) error {
	next := path + ".next"
	if err := os.WriteFile(next, text, 0o600); err != nil {
		return err
	}
	return os.Rename(next, path)
}

// restore gives settings back what they were at first.
func (p *Plane) restore() error {
	before, err := p.before()
	if err != nil {
		return err
	}
	for name, value := range before {
		if err := os.WriteFile(settingPath(name), []byte(value), 0o644); err != nil {
			return fmt.Errorf("the kernel's setting %s: %w", name, err)
		}
	}
	if err := os.Remove(p.beforeFile()); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}
