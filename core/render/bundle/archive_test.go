package bundle

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/render"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

// An archive has what differs, names by what it is known, and what is to be taken down: the gateway
// of a site that is gone, and one that has no tunnels any more.
func TestArchivesSince(t *testing.T) {
	read := func(change func(e *estate.Estate)) *route.Map {
		e, err := examples.Estate("two-hubs")
		if err != nil {
			t.Fatal(err)
		}
		e.Allocations = route.Build(tunnel.Derive(e)).Plan.Allocations()
		if change != nil {
			change(e)
		}
		return route.Build(tunnel.Derive(e))
	}
	old := read(nil)
	last := len(old.Plan.Estate.Sites) - 1
	first, spoke := old.Plan.Site(0).Key, old.Plan.Site(last).Key
	others := keysOf(old)[:last]
	spokes := func(e *estate.Estate, without string) {
		o := &e.Overlays[0]
		o.Spokes = slices.DeleteFunc(o.Spokes, func(s estate.Spoke) bool { return s.Site == without })
	}
	for _, c := range []struct {
		name   string
		a      Archive
		new    *route.Map
		sites  []string // with files; all have routes to the spoke
		remove []string
		file   string
		head   string
	}{
		{"all", Archive{Estate: "demo"}, old, keysOf(old), nil, "demo", "# demo"},
		{"all of a release", Archive{Estate: "demo", Options: Options{Release: 7}}, old, keysOf(old), nil, "demo-release-7", "# demo, release 7"},
		{"one", Archive{Estate: "demo", Only: spoke}, old, []string{spoke}, nil, "demo-" + spoke, "# demo"},
		{"nothing differs", Archive{Estate: "demo", Since: old, From: 6, Options: Options{Release: 7}}, old, nil, nil, "demo-release-7-since-6", "# demo, release 7, what differs from release 6"},
		{"a spoke has left the overlay", Archive{Estate: "demo", Since: old}, read(func(e *estate.Estate) { spokes(e, spoke) }), others, []string{spoke}, "demo-since-0", "# demo, what differs from another document"},
		{"a site is gone", Archive{Estate: "demo", Since: old}, read(func(e *estate.Estate) {
			spokes(e, spoke)
			e.Sites = e.Sites[:last]
		}), others, []string{spoke}, "demo-since-0", "# demo, what differs from another document"},
		{"a site is new", Archive{Estate: "demo", Since: read(func(e *estate.Estate) {
			spokes(e, spoke)
			e.Sites = e.Sites[:last]
		})}, old, keysOf(old), nil, "demo-since-0", "# demo, what differs from another document"},
		{"another one, of one site", Archive{Estate: "demo", Since: old, Only: first}, read(func(e *estate.Estate) {
			spokes(e, spoke)
			e.Sites = e.Sites[:last]
		}), []string{first}, nil, "demo-" + first + "-since-0", "# demo, what differs from another document"},
	} {
		var sites []string
		var manifest []byte
		err := c.a.Each(c.new, func(files []render.File) error {
			if files[0].Path == "manifest" {
				manifest = files[0].Text
				return nil
			}
			site, _, _ := strings.Cut(files[0].Path, "/")
			sites = append(sites, site)
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		var listed, remove []string
		for line := range strings.Lines(string(manifest)) {
			word, rest, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
			switch {
			case word == "remove":
				remove = append(remove, rest)
			case word != "#":
				if digest := gateway.Of(c.new, c.new.Plan.SiteIndex(word)).Digest(); rest != digest {
					t.Errorf("%s: %s is %s, not %s", c.name, word, rest, digest)
				}
				listed = append(listed, word)
			}
		}
		if !slices.Equal(sites, c.sites) || !slices.Equal(listed, sites) || !slices.Equal(remove, c.remove) || c.a.Name() != c.file || !strings.HasPrefix(string(manifest), c.head+"\n") {
			t.Errorf("%s: %s has %v, lists %v, removes %v:\n%s", c.name, c.a.Name(), sites, listed, remove, manifest)
		}
	}
}

func keysOf(m *route.Map) (out []string) {
	for i := range m.Plan.Estate.Sites {
		out = append(out, m.Plan.Site(i).Key)
	}
	return out
}

// An error of one who takes the files ends it.
func TestAnArchiveEndsWithAnError(t *testing.T) {
	e, err := examples.Estate("two-hubs")
	if err != nil {
		t.Fatal(err)
	}
	full, n := fmt.Errorf("no room"), 0
	err = (&Archive{Estate: "demo"}).Each(route.Build(tunnel.Derive(e)), func([]render.File) error {
		n++
		return full
	})
	if err != full || n != 1 {
		t.Errorf("%v after %d", err, n)
	}
}
