package bundle

import (
	"runtime"
	"strconv"

	"wideknot/core/gateway"
	"wideknot/core/render"
	"wideknot/core/route"
)

// An Archive is the bundles of an estate, made one after another.
type Archive struct {
	Estate string     // its key or name
	Only   string     // this site only; empty for all
	Since  *route.Map // only what differs from this; nil for all
	From   int        // release that Since is; 0 where it is none
	Options
}

// A part is one site of an archive: what became of it.
type part struct {
	files   []render.File
	digest  string
	skipped bool
	gone    bool // it has no tunnels any more
	err     error
}

// Each calls yield with the files of one site after another, and last with a list
// of the sites: what is in the archive, what it is known by, and which gateways are
// to be taken down. It ends with the first error, or that of yield. Sites are
// rendered on all cores, a few ahead of what was yielded.
func (a *Archive) Each(m *route.Map, yield func([]render.File) error) error {
	t := a.heading()
	var sites []int
	for i := range m.Plan.Estate.Sites {
		if a.Only == "" || m.Plan.Site(i).Key == a.Only {
			sites = append(sites, i)
		}
	}
	ahead := 2 * runtime.GOMAXPROCS(0)
	parts := make(chan chan part, ahead)
	done := make(chan struct{})
	defer close(done)
	go func() {
		defer close(parts)
		for _, site := range sites {
			one := make(chan part, 1)
			select {
			case parts <- one:
			case <-done:
				return
			}
			go func() { one <- a.part(m, site) }()
		}
	}()
	for _, site := range sites {
		one := <-<-parts
		key := m.Plan.Site(site).Key
		switch {
		case one.err != nil:
			return one.err
		case one.gone:
			t.Str("remove ").Word(key).End()
		case !one.skipped:
			t.Word(key).Str(" ").Line(one.digest)
			if err := yield(one.files); err != nil {
				return err
			}
		}
	}
	if a.Since != nil && a.Only == "" {
		for i := range a.Since.Plan.Estate.Sites {
			if key := a.Since.Plan.Site(i).Key; m.Plan.SiteIndex(key) < 0 && a.before(key) != "" {
				t.Str("remove ").Word(key).End()
			}
		}
	}
	if t.Err != nil {
		return t.Err
	}
	return yield([]render.File{{Path: "manifest", Text: t.Bytes}})
}

func (a *Archive) heading() *render.Text {
	t := &render.Text{}
	t.Str("# ").Name(a.Estate)
	if a.Release > 0 {
		t.Str(", release ").Num(a.Release)
	}
	if a.Since != nil {
		t.Str(", what differs from ")
		if a.From > 0 {
			t.Str("release ").Num(a.From)
		} else {
			t.Str("another document")
		}
	}
	return t.End().Line("# site, digest of its configuration")
}

// part renders one site.
func (a *Archive) part(m *route.Map, site int) (out part) {
	c := gateway.Of(m, site)
	out.digest = c.Digest()
	was := a.before(m.Plan.Site(site).Key)
	if was == out.digest {
		return part{skipped: true}
	}
	if out.files, out.err = write(m, site, c, a.Options, out.digest); len(out.files) == 0 {
		out.skipped, out.gone = true, was != ""
	}
	return out
}

// before returns the digest that a site had; empty where it had no tunnels.
func (a *Archive) before(site string) string {
	if a.Since == nil {
		return ""
	}
	i := a.Since.Plan.SiteIndex(site)
	if i < 0 || len(a.Since.Plan.Ends(i)) == 0 {
		return ""
	}
	return gateway.Of(a.Since, i).Digest()
}

// Name is what an archive is called, without what follows the dot.
func (a *Archive) Name() string {
	name := a.Estate
	if a.Only != "" {
		name += "-" + a.Only
	}
	if a.Release > 0 {
		name += "-release-" + strconv.Itoa(a.Release)
	}
	if a.Since != nil {
		name += "-since-" + strconv.Itoa(a.From)
	}
	return name
}
