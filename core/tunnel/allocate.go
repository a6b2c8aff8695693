package tunnel

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"wideknot/core/addr"
	"wideknot/core/estate"
)

// Numbers are given from the lowest never used; those of things that are gone
// come last, so that what comes back finds its own again (section 4 of the
// domain: stability). A numbers set is a bitmap that exists only where something
// was marked.
type numbers struct {
	chunks map[uint64]*chunk
	next   uint64
	spent  bool // nothing is left, not even what was stale
}

const chunkSize = 512

// A chunk is chunkSize numbers from a multiple of it on.
type chunk struct{ used, stale [chunkSize / 64]uint64 }

// at returns the chunk of a number, its word there and its bit.
func (n *numbers) at(i uint64) (c *chunk, word int, bit uint64) {
	c = n.chunks[i/chunkSize]
	if c == nil {
		if n.chunks == nil {
			n.chunks = map[uint64]*chunk{}
		}
		c = &chunk{}
		n.chunks[i/chunkSize] = c
	}
	return c, int(i % chunkSize / 64), 1 << (i % 64)
}

func (n *numbers) has(i uint64) bool {
	c := n.chunks[i/chunkSize]
	return c != nil && c.used[i%chunkSize/64]&(1<<(i%64)) != 0
}

// claim marks a number and reports whether it was free.
func (n *numbers) claim(i uint64) bool {
	c, word, bit := n.at(i)
	if c.used[word]&bit != 0 {
		return false
	}
	c.used[word] |= bit
	return true
}

func (n *numbers) reserve(i uint64) {
	c, word, bit := n.at(i)
	c.stale[word] |= bit
}

// give returns the lowest number from first to last that is neither used nor
// stale, then the lowest stale one, then false.
func (n *numbers) give(first, last uint64) (uint64, bool) {
	for i := max(n.next, first); i <= last; i++ {
		if c, word, bit := n.at(i); c.stale[word]&bit == 0 && n.claim(i) {
			n.next = i + 1
			return i, true
		}
	}
	n.next = last + 1
	if n.spent {
		return 0, false
	}
	for i := first; i <= last; i++ {
		if n.chunks[i/chunkSize] == nil { // not even stale
			i |= chunkSize - 1
			continue
		}
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
	found []int     // by overlay: its tunnels that the record knows
	fresh bool      // not everything is as the record has it
}

func (p *Plan) allocate() {
	a := &allocator{
		plan:  p,
		ports: make([]numbers, len(p.Estate.Sites)),
		slots: make([]numbers, len(p.Estate.Sites)),
		found: make([]int, len(p.Overlays)),
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
		if !a.allFound() {
			a.reserveStale()
		}
	}
	for i := range p.Overlays {
		if p.Overlays[i].perSite() {
			a.giveSeats(i)
		}
	}
	p.eachTunnel(func(o *Overlay, _ *Adjacency, t *Tunnel, at End) { a.complete(at.Overlay, o, t) })
	a.fresh = a.fresh || len(p.Estate.Allocations.Sites) > 0
	a.keepStale()
}

func (o *Overlay) perSite() bool { return o.Spec.Numbering == estate.PerSite }

// keepLive gives every tunnel of the plan what the record says it has, unless
// the pool has moved away or two tunnels claim the same.
func (a *allocator) keepLive() {
	p := a.plan
	var room [256]byte
	p.eachTunnel(func(o *Overlay, _ *Adjacency, t *Tunnel, at End) {
		first, second := p.InIdentOrder(t)
		ident := estate.AppendTunnelIdent(room[:0], p.Site(first.Site).Key, p.Link(first).Key, p.Site(second.Site).Key, p.Link(second).Key)
		lot, ok := p.Estate.Allocations.Tunnels[o.Spec.Key][string(ident)]
		if !ok {
			return
		}
		a.found[at.Overlay]++
		for i, end := range []*Port{first, second} {
			if n := lot.Ports[i]; n > 0 && n <= 65535 && a.ports[end.Site].claim(uint64(n)) {
				end.UDP = n
			}
			if n := lot.Slots[i]; n > 0 && n <= 65535 && a.slots[end.Site].claim(uint64(n)) {
				end.Slot = n
			}
		}
		if !o.perSite() {
			for _, block := range lot.Transit {
				for _, pool := range a.pools[at.Overlay] {
					if n, ok := pool.number(block); ok && pool.given.claim(n) {
						p.seat(t, block)
					}
				}
			}
		}
		a.fresh = a.fresh || !lotIs(lot, first, second)
	})
}

// lotIs reports whether a lot is what the two ends have, in ident order.
func lotIs(lot estate.TunnelLot, first, second *Port) bool {
	var room [2]netip.Prefix
	return lot.Ports == [2]int{first.UDP, second.UDP} && lot.Slots == [2]int{first.Slot, second.Slot} && slices.Equal(lot.Transit, blocksOf(first, room[:0]))
}

// blocksOf appends the transit prefixes of a tunnel numbered by itself, by one end.
func blocksOf(end *Port, to []netip.Prefix) []netip.Prefix {
	for _, block := range [2]netip.Prefix{end.Address4, end.Address6} {
		if block.IsValid() {
			to = append(to, block.Masked())
		}
	}
	return to
}

// allFound reports whether the record speaks of tunnels of the plan alone.
func (a *allocator) allFound() bool {
	recorded := a.plan.Estate.Allocations
	lots, found := 0, 0
	for i := range a.found {
		lots += len(recorded.Tunnels[a.plan.Overlays[i].Spec.Key])
		found += a.found[i]
	}
	return lots == found && len(recorded.Sites) == 0
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
	a.fresh = true
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
				end.UDP, a.fresh = int(n), true
			}
		}
		if end.Slot == 0 {
			if n, ok := a.slots[end.Site].give(1, 65535); ok {
				end.Slot, a.fresh = int(n), true
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
				a.fresh = true
			}
		}
	}
	if o.Needs4 && !t.A.Address4.IsValid() && !t.A.Address6.IsValid() || o.Needs6 && !o.Needs4 && !t.A.Address6.IsValid() {
		o.Starved++
	}
}
