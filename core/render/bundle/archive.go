package bundle

import (
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
	From   int        // release that Since is
	Options
}

// Each calls yield with the files of one site after another, and last with a list
// of the sites: what is in the archive, what it is known by, and which gateways are
// to be taken down. It ends with the first error, or that of yield.
func (a *Archive) Each(m *route.Map, yield func([]render.File) error) error {
	t := &render.Text{}
	t.Str("# ").Name(a.Estate)
	if a.Release > 0 {
		t.Str(", release ").Num(a.Release)
	}
	if a.Since != nil {
		t.Str(", what differs from release ").Num(a.From)
	}
	t.End().Line("# site, digest of its configuration")
	for i := range m.Plan.Estate.Sites {
		key := m.Plan.Site(i).Key
		if a.Only != "" && key != a.Only {
			continue
		}
		c := gateway.Of(m, i)
		digest := c.Digest()
		if a.Since != nil && digest == a.before(key) {
			continue
		}
		files, err := Write(m, i, c, a.Options)
		if err != nil {
			return err
		}
		if len(files) == 0 {
			if a.before(key) != "" {
				t.Str("remove ").Word(key).End()
			}
			continue
		}
		t.Word(key).Str(" ").Line(digest)
		if err := yield(files); err != nil {
			return err
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
