package diff

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/render/linux"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

func derived(t *testing.T, before *route.Map, change ...string) *route.Map {
	t.Helper()
	e, err := examples.Estate("two-hubs", change...)
	if err != nil {
		t.Fatal(err)
	}
	if before != nil {
		e.Allocations = before.Plan.Allocations()
	}
	return route.Build(tunnel.Derive(e))
}

func TestCompare(t *testing.T) {
	old := derived(t, nil)
	for _, c := range []struct {
		name   string
		change []string
		want   func(*Diff) error
	}{
		{"nothing", nil, func(d *Diff) error {
			if !d.Sites.Empty() || !d.Overlays.Empty() || !d.Tunnels.Empty() || len(d.Moves)+len(d.Touched) > 0 {
				return fmt.Errorf("%+v", d)
			}
			return nil
		}},
		{"hub order of one site", []string{"{site: tarn}", "{site: tarn, hubs: [second, first]}"}, func(d *Diff) error {
			if !d.Tunnels.Empty() || !d.Sites.Empty() || len(d.Overlays.Changed) != 1 {
				return fmt.Errorf("%+v", d)
			}
			i := slices.IndexFunc(d.Moves, func(m Move) bool { return m.Site == "tarn" && m.Prefix.String() == "10.50.2.0/24" })
			if i < 0 || d.Moves[i].From != "first/fibre tarn/fibre via first to second" || d.Moves[i].Why != "path cost: 110 became 100" {
				return fmt.Errorf("%+v", d.Moves)
			}
			return nil
		}},
		{"hub order of all", []string{"hubs: [first, second]", "hubs: [second, first]"}, func(d *Diff) error {
			i := slices.IndexFunc(d.Moves, func(m Move) bool { return m.Site == "tarn" && m.Prefix.String() == "10.50.4.0/24" })
			if i < 0 || d.Moves[i].Why != "path cost by first: 200 became 310" {
				return fmt.Errorf("%+v", d.Moves)
			}
			return nil
		}},
		{"a link's MTU", []string{"addresses: [203.0.113.10]", "addresses: [203.0.113.10], mtu: 1492"}, func(d *Diff) error {
			if len(d.Tunnels.Changed) != 2 || d.Tunnels.Changed[0].What[0] != "MTU: 1440 became 1432" || len(d.Moves) > 0 || strings.Join(d.Touched, " ") != "first second tarn" {
				return fmt.Errorf("%+v", d)
			}
			if w := d.Sites.Changed[0].What; len(w) != 1 || w[0] != "link fibre mtu: unset became 1492" {
				return fmt.Errorf("%+v", w)
			}
			return nil
		}},
		{"another site comes first in the list", []string{"sites:\n", "sites:\n  - {key: aft, name: Aft}\n"}, func(d *Diff) error {
			if len(d.Sites.Added) != 1 || !d.Tunnels.Empty() || len(d.Moves) > 0 {
				return fmt.Errorf("%+v", d)
			}
			return nil
		}},
		{"a site moves in the list and its hub order turns", []string{"sites:\n", "sites:\n  - {key: aft, name: Aft}\n", "{site: tarn}", "{site: tarn, hubs: [second, first]}"}, func(d *Diff) error {
			i := slices.IndexFunc(d.Moves, func(m Move) bool { return m.Site == "tarn" && m.Prefix.String() == "10.50.1.0/24" })
			if i < 0 || d.Moves[i].Why != "path cost: 100 became 110" {
				return fmt.Errorf("%+v", d.Moves)
			}
			return nil
		}},
		{"a site leaves", []string{"{site: tarn}, ", ""}, func(d *Diff) error {
			if len(d.Tunnels.Removed) != 2 || len(d.Moves) != 6 || d.Moves[0].To != "" {
				return fmt.Errorf("%+v", d)
			}
			return nil
		}},
		{"a subnet is renumbered", []string{"10.50.3.0/24", "10.50.9.0/24"}, func(d *Diff) error {
			if !d.Tunnels.Empty() || len(d.Moves) != 6 || d.Sites.Changed[0].What[0] != "subnet 10.50.9.0/24 added" {
				return fmt.Errorf("%+v", d)
			}
			return nil
		}},
	} {
		if err := c.want(Compare(old, derived(t, old, c.change...))); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
	}
}

func TestFilesOfASite(t *testing.T) {
	old := derived(t, nil)
	new := derived(t, old, "addresses: [203.0.113.10]", "addresses: [203.0.113.10], mtu: 1492")
	site := old.Plan.SiteIndex("tarn")
	was, errWas := linux.Site(old, site, linux.NoKeys)
	is, errIs := linux.Site(new, site, linux.NoKeys)
	if errWas != nil || errIs != nil {
		t.Fatal(errWas, errIs)
	}
	got := Files(was, is)
	if len(got) != 2 || got[1].Path != "tarn/tunnels" || !strings.Contains(got[1].Text, "-first-1 84000001 1440 ") || !strings.Contains(got[1].Text, "+first-1 84000001 1432 ") {
		t.Errorf("%+v", got)
	}
}

// The unified diff of random texts must turn the one into the other when the
// standard patch program applies it.
func TestPatchAppliesTheDiff(t *testing.T) {
	if _, err := exec.LookPath("patch"); err != nil {
		t.Fatal("patch is missing; make test-tools installs it")
	}
	r := rand.New(rand.NewPCG(31, 32))
	folder := t.TempDir()
	for range 60 {
		var a []string
		for range r.IntN(40) {
			a = append(a, fmt.Sprint("line ", r.IntN(8)))
		}
		b := slices.Clone(a)
		for range r.IntN(8) {
			if at := r.IntN(len(b) + 1); at < len(b) && r.IntN(2) == 0 {
				b = slices.Delete(b, at, at+1)
			} else {
				b = slices.Insert(b, at, fmt.Sprint("new ", r.IntN(8)))
			}
		}
		old, new := strings.Join(append(a, ""), "\n"), strings.Join(append(b, ""), "\n")
		text := Unified(old, new)
		if (text == "") != (old == new) {
			t.Fatalf("diff %q of %q and %q", text, old, new)
		}
		if text == "" || old == "" || new == "" {
			continue
		}
		file := filepath.Join(folder, "file")
		if err := os.WriteFile(file, []byte(old), 0o600); err != nil {
			t.Fatal(err)
		}
		command := exec.Command("patch", "-s", file)
		command.Stdin = strings.NewReader("--- file\n+++ file\n" + text)
		if out, err := command.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s\n%s", err, out, text)
		}
		if got, _ := os.ReadFile(file); string(got) != new {
			t.Fatalf("patched to %q, want %q\n%s", got, new, text)
		}
	}
}

// Lines are numbered as each side has them, behind a change too.
func TestEditsKnowTheirLines(t *testing.T) {
	old, new := strings.Split("a b c d e f", " "), strings.Split("a b X Y d e f", " ")
	for _, e := range shortest(old, new) {
		if e.kind != '+' && old[e.old] != e.line || e.kind != '-' && new[e.new] != e.line {
			t.Errorf("%c%s is said to be line %d and %d", e.kind, e.line, e.old, e.new)
		}
	}
}

// An overlay that another one of the same sites replaces is another one.
func TestOverlaysAreComparedByKey(t *testing.T) {
	old := derived(t, nil)
	e := old.Plan.Estate.Clone()
	e.Allocations = estate.Allocations{}
	was := e.Overlays[0].Key
	e.Overlays[0].Key = "renamed"
	for i := range e.Sites {
		for j := range e.Sites[i].Subnets {
			for k, o := range e.Sites[i].Subnets[j].Share {
				if o == was {
					e.Sites[i].Subnets[j].Share[k] = "renamed"
				}
			}
		}
	}
	c := Compare(old, route.Build(tunnel.Derive(e)))
	n := 0
	for i := range old.Plan.Overlays[0].Adjacencies {
		n += len(old.Plan.Overlays[0].Adjacencies[i].Tunnels)
	}
	if len(c.Tunnels.Added) != n || len(c.Tunnels.Removed) != n {
		t.Errorf("%d added, %d removed, of %d", len(c.Tunnels.Added), len(c.Tunnels.Removed), n)
	}
}
