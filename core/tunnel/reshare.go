package tunnel

import (
	"net/netip"
	"reflect"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// Reshare derives an estate that differs from the plan's only in the subnets of
// one site: tunnels, addresses and ports are those of the plan, which is shared
// and not changed. It is false when more differs, or when the edit changes
// which families run inside an overlay; then Derive is needed.
func (p *Plan) Reshare(e *estate.Estate, site int) (*Plan, bool) {
	if len(e.Sites) != len(p.Estate.Sites) || len(e.Overlays) != len(p.Overlays) || site < 0 || site >= len(e.Sites) {
		return nil, false
	}
	was, is := &p.Estate.Sites[site], &e.Sites[site]
	if was.Key != is.Key || !reflect.DeepEqual(was.Links, is.Links) || !reflect.DeepEqual(was.Gateway, is.Gateway) {
		return nil, false
	}
	out := *p
	out.Estate = e
	out.Overlays = slices.Clone(p.Overlays)
	for i := range out.Overlays {
		o := &out.Overlays[i]
		o.Spec = &e.Overlays[i]
		if !o.member[site] || slices.Equal(was.Shared(o.Spec.Key), is.Shared(o.Spec.Key)) {
			continue
		}
		needs4, needs6 := o.Needs4, o.Needs6
		o.share(&out)
		if o.Needs4 != needs4 || o.Needs6 != needs6 {
			return nil, false
		}
	}
	return &out, true
}

// share collects what the members share and which families run inside.
func (o *Overlay) share(p *Plan) {
	all := make([]netip.Prefix, 0, len(o.Members))
	for _, m := range o.Members {
		subnets := p.Site(m).Subnets
		for i := range subnets {
			if subnets[i].SharedInto(o.Spec.Key) {
				all = append(all, subnets[i].Taking())
			}
		}
	}
	o.Shared = addr.Aggregate(all)
	o.Needs4, o.Needs6 = false, false
	for _, list := range [][]netip.Prefix{o.Spec.Transit, o.Shared} {
		for _, prefix := range list {
			o.Needs4 = o.Needs4 || prefix.Addr().Is4()
			o.Needs6 = o.Needs6 || prefix.Addr().Is6()
		}
	}
}
