package tunnel

import (
	"encoding/binary"
	"net/netip"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// Numbers are given from the lowest never used; those of things that are gone
// come last, so that what comes back finds its own again (section 4 of the
// domain: stability). A numbers set is a growing bitmap.
type numbers struct {
	used, stale []uint64
	next        uint64
	spent       bool // nothing is left, not even what was stale
}

func (n *numbers) grow(i uint64) {
	for uint64(len(n.used)) <= i/64 {
		n.used = append(n.used, 0)
		n.stale = append(n.stale, 0)
	}
}

func (n *numbers) has(i uint64) bool {
	return i/64 < uint64(len(n.used)) && n.used[i/64]&(1<<(i%64)) != 0
}

// claim marks a number and reports whether it was free.
func (n *numbers) claim(i uint64) bool {
	n.grow(i)
	if n.has(i) {
		return false
	}
	n.used[i/64] |= 1 << (i % 64)
	return true
}

func (n *numbers) reserve(i uint64) {
	n.grow(i)
	n.stale[i/64] |= 1 << (i % 64)
}

// give returns the lowest number from first to last that is neither used nor
// stale, then the lowest stale one, then false.
func (n *numbers) give(first, last uint64) (uint64, bool) {
	for i := max(n.next, first); i <= last; i++ {
		if n.grow(i); n.stale[i/64]&(1<<(i%64)) == 0 && n.claim(i) {
			n.next = i + 1
			return i, true
		}
	}
	n.next = last + 1
	if n.spent {
		return 0, false
	}
	for i := first; i <= last && i/64 < uint64(len(n.used)); i++ {
		if n.claim(i) {
			return i, true
		}
	}
	n.spent = true
	return 0, false
}

// maxNumbers bounds the bitmap of one pool; a pool of more is never filled.
const maxNumbers = 1 << 22

// A pool gives out transit addresses of one prefix.
type pool struct {
	prefix netip.Prefix
	bits   int // length of what it gives: 31 or 127 per tunnel, 32 or 128 per site
	first  uint64
	last   uint64
	given  numbers
}

func newPool(prefix netip.Prefix, perSite bool) *pool {
	p := &pool{prefix: prefix, bits: prefix.Addr().BitLen()}
	if perSite {
		p.first = 1 // the network address of the pool is no host's
	} else {
		p.bits--
	}
	width := p.bits - prefix.Bits()
	switch {
	case width < 0:
		p.last, p.first = 0, 1 // too small to give anything
	case width >= 22:
		p.last = maxNumbers - 1
	default:
		p.last = 1<<width - 1
	}
	return p
}

// number returns which number of the pool a prefix is.
func (p *pool) number(block netip.Prefix) (uint64, bool) {
	if !block.IsValid() || block.Bits() != p.bits || !addr.Covers(p.prefix, block) {
		return 0, false
	}
	n := (low64(block.Addr()) - low64(p.prefix.Masked().Addr())) >> (p.prefix.Addr().BitLen() - p.bits)
	return n, n >= p.first && n <= p.last
}

func low64(a netip.Addr) uint64 {
	if a.Is4() {
		four := a.As4()
		return uint64(binary.BigEndian.Uint32(four[:]))
	}
	sixteen := a.As16()
	return binary.BigEndian.Uint64(sixteen[8:])
}

func (p *pool) give() (netip.Prefix, bool) {
	n, ok := p.given.give(p.first, p.last)
	if !ok {
		return netip.Prefix{}, false
	}
	return addr.Nth(p.prefix, p.bits, n)
}

// An allocator keeps what the estate's record holds and gives out the rest.
type allocator struct {
	plan  *Plan
	ports []numbers // by site
	slots []numbers // by site
	pools [][]*pool // by overlay
}

func (p *Plan) allocate() {
	a := &allocator{
		plan:  p,
		ports: make([]numbers, len(p.Estate.Sites)),
		slots: make([]numbers, len(p.Estate.Sites)),
	}
	for i := range p.Estate.Sites {
		for _, port := range p.Estate.Sites[i].Gateway.UsedPorts {
			a.ports[i].claim(uint64(port))
		}
	}
	for i := range p.Overlays {
		var pools []*pool
		for _, prefix := range p.Overlays[i].Spec.Transit {
			pools = append(pools, newPool(prefix.Masked(), p.Overlays[i].perSite()))
		}
		a.pools = append(a.pools, pools)
	}
	if recorded := p.Estate.Allocations; len(recorded.Tunnels)+len(recorded.Sites) > 0 {
		a.keepLive()
		a.reserveStale()
	}
	for i := range p.Overlays {
		if p.Overlays[i].perSite() {
			a.giveSeats(i)
		}
	}
	p.eachTunnel(func(o *Overlay, _ *Adjacency, t *Tunnel, at End) { a.complete(at.Overlay, o, t) })
	a.keepStale()
}

func (o *Overlay) perSite() bool { return o.Spec.Numbering == estate.PerSite }

// keepLive gives every tunnel of the plan what the record says it has, unless
// the pool has moved away or two tunnels claim the same.
func (a *allocator) keepLive() {
	p := a.plan
	p.eachTunnel(func(o *Overlay, _ *Adjacency, t *Tunnel, at End) {
		lot, ok := p.Estate.Allocations.Tunnels[o.Spec.Key][p.Ident(t)]
		if !ok {
			return
		}
		first, second := p.InIdentOrder(t)
		for i, end := range []*Port{first, second} {
			if n := lot.Ports[i]; n > 0 && n <= 65535 && a.ports[end.Site].claim(uint64(n)) {
				end.UDP = n
			}
			if n := lot.Slots[i]; n > 0 && n <= 65535 && a.slots[end.Site].claim(uint64(n)) {
				end.Slot = n
			}
		}
		if o.perSite() {
			return
		}
		for _, block := range lot.Transit {
			for _, pool := range a.pools[at.Overlay] {
				if n, ok := pool.number(block); ok && pool.given.claim(n) {
					p.seat(t, block)
				}
			}
		}
	})
}

// InIdentOrder returns the ends of a tunnel in the order of the tunnel's ident.
func (p *Plan) InIdentOrder(t *Tunnel) (first, second *Port) {
	if p.Site(t.B.Site).Key < p.Site(t.A.Site).Key {
		return &t.B, &t.A
	}
	return &t.A, &t.B
}

// seat gives the two addresses of a /31 or /127 to the ends in ident order.
func (p *Plan) seat(t *Tunnel, block netip.Prefix) {
	first, second := p.InIdentOrder(t)
	low := netip.PrefixFrom(block.Addr(), block.Bits())
	high := netip.PrefixFrom(block.Addr().Next(), block.Bits())
	if block.Addr().Is4() {
		first.Address4, second.Address4 = low, high
	} else {
		first.Address6, second.Address6 = low, high
	}
}

// reserveStale keeps what vanished tunnels and sites had from being given away
// while anything else is left.
func (a *allocator) reserveStale() {
	p := a.plan
	for i := range p.Overlays {
		o := &p.Overlays[i]
		for ident, lot := range p.Estate.Allocations.Tunnels[o.Spec.Key] {
			for j, key := range sitesOfIdent(ident) {
				if site, ok := p.index[key]; ok && lot.Ports[j] > 0 && lot.Ports[j] <= 65535 && lot.Slots[j] > 0 && lot.Slots[j] <= 65535 {
					a.ports[site].reserve(uint64(lot.Ports[j]))
					a.slots[site].reserve(uint64(lot.Slots[j]))
				}
			}
			for _, block := range lot.Transit {
				a.reserveBlock(i, block)
			}
		}
		for _, seat := range p.Estate.Allocations.Sites[o.Spec.Key] {
			for _, address := range seat.Addresses {
				a.reserveBlock(i, netip.PrefixFrom(address, address.BitLen()))
			}
		}
	}
}

func (a *allocator) reserveBlock(overlay int, block netip.Prefix) {
	for _, pool := range a.pools[overlay] {
		if n, ok := pool.number(block); ok {
			pool.given.reserve(n)
		}
	}
}

// giveSeats numbers an overlay per site: one address of each family for each
// member, whatever tunnels it has.
func (a *allocator) giveSeats(overlay int) {
	p, o := a.plan, &a.plan.Overlays[overlay]
	seats := make(map[int][2]netip.Prefix, len(o.Members)) // IPv4, IPv6
	take := func(site int, block netip.Prefix) {
		pair := seats[site]
		if block.Addr().Is4() {
			pair[0] = block
		} else {
			pair[1] = block
		}
		seats[site] = pair
	}
	for _, m := range o.Members {
		for _, address := range p.Estate.Allocations.Sites[o.Spec.Key][p.Site(m).Key].Addresses {
			block := netip.PrefixFrom(address, address.BitLen())
			for _, pool := range a.pools[overlay] {
				if n, ok := pool.number(block); ok && pool.given.claim(n) {
					take(m, block)
				}
			}
		}
	}
	for _, m := range o.Members {
		for _, pool := range a.pools[overlay] {
			have := seats[m][0]
			if pool.prefix.Addr().Is6() {
				have = seats[m][1]
			}
			if have.IsValid() {
				continue
			}
			if block, ok := pool.give(); ok {
				take(m, block)
			}
		}
	}
	for i := range o.Adjacencies {
		for j := range o.Adjacencies[i].Tunnels {
			t := &o.Adjacencies[i].Tunnels[j]
			for _, end := range []*Port{&t.A, &t.B} {
				end.Address4, end.Address6 = seats[end.Site][0], seats[end.Site][1]
			}
		}
	}
}

// complete gives a tunnel whatever the record did not have for it.
func (a *allocator) complete(overlay int, o *Overlay, t *Tunnel) {
	p := a.plan
	first, second := p.InIdentOrder(t)
	for _, end := range []*Port{first, second} {
		if end.UDP == 0 {
			base := uint64(p.Site(end.Site).Gateway.ListenPortOf())
			if n, ok := a.ports[end.Site].give(base, 65535); ok {
				end.UDP = int(n)
			}
		}
		if end.Slot == 0 {
			if n, ok := a.slots[end.Site].give(1, 65535); ok {
				end.Slot = int(n)
			}
		}
	}
	first.Interface = interfaceName(p.Site(second.Site).Key, first.Slot)
	second.Interface = interfaceName(p.Site(first.Site).Key, second.Slot)
	if !o.perSite() {
		for _, pool := range a.pools[overlay] {
			have := t.A.Address4
			if pool.prefix.Addr().Is6() {
				have = t.A.Address6
			}
			if have.IsValid() {
				continue
			}
			if block, ok := pool.give(); ok {
				p.seat(t, block)
			}
		}
	}
	if o.Needs4 && !t.A.Address4.IsValid() && !t.A.Address6.IsValid() || o.Needs6 && !o.Needs4 && !t.A.Address6.IsValid() {
		o.Starved++
	}
}
