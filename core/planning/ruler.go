package planning

import (
	"cmp"
	"net/netip"
	"slices"

	"wideknot/core/addr"

	"wideknot/core/estate"
)

// Held is a prefix that something has.
type Held struct {
	Prefix  netip.Prefix `json:"prefix"`
	What    string       `json:"what" enum:"subnet,map,transit,reserved"`
	Site    string       `json:"site,omitempty"`
	Zone    string       `json:"zone,omitempty"`
	Name    string       `json:"name,omitempty"`
	Share   []string     `json:"share"`
	Overlay string       `json:"overlay,omitempty"`
	Clash   string       `json:"clash" enum:",error,warning,note" doc:"the worst finding about its address"`
	Mapped  netip.Prefix `json:"mapped,omitzero"`
}

// Clashes are the worst severities of findings, by prefix and site; the site of
// an overlay's pool is empty.
type Clashes map[string]string

// Add notes a severity, if there is no worse one; the worst are added first.
func (c Clashes) Add(site string, p netip.Prefix, severity string) {
	c[site+" "+p.String()] = cmp.Or(c.of(site, p), severity)
}

func (c Clashes) of(site string, p netip.Prefix) string { return c[site+" "+p.String()] }

// Holdings lists what has which prefix, in address order.
func Holdings(e *estate.Estate, clashes Clashes) []Held {
	out := []Held{}
	for i := range e.Sites {
		s := &e.Sites[i]
		for j := range s.Subnets {
			n := &s.Subnets[j]
			held := Held{
				Prefix: n.Prefix, What: "subnet", Site: s.Key, Zone: n.Zone, Name: n.Name, Share: append([]string{}, n.Share...),
				Clash: clashes.of(s.Key, n.Prefix), Mapped: n.Map,
			}
			out = append(out, held)
			if n.Map.IsValid() {
				held.Prefix, held.What, held.Clash, held.Mapped = n.Map, "map", "", n.Prefix
				out = append(out, held)
			}
		}
	}
	for i := range e.Overlays {
		for _, p := range e.Overlays[i].Transit {
			out = append(out, Held{Prefix: p, What: "transit", Overlay: e.Overlays[i].Key, Share: []string{}, Clash: clashes.of("", p)})
		}
	}
	for _, r := range e.About.Reserved {
		out = append(out, Held{Prefix: r.Prefix, What: "reserved", Name: r.For, Share: []string{}})
	}
	slices.SortStableFunc(out, func(a, b Held) int { return netip.Prefix.Compare(a.Prefix, b.Prefix) })
	return out
}

// A Line is one line of the ruler, a stretch of address space to scale. Lines
// that hold nothing, or one and the same block, become one of several.
type Line struct {
	Kind   string       `json:"kind" enum:"title,stretch,run"`
	Prefix netip.Prefix `json:"prefix" doc:"of a title, the whole stretch; else the line, or the first of several"`
	Name   string       `json:"name,omitempty" doc:"of a title"`
	Used   int          `json:"used,omitempty" doc:"of a title: blocks in use"`
	Count  int          `json:"count,omitempty" doc:"of a run: lines it stands for"`
	Block  *int         `json:"block,omitempty" doc:"of a run: place in held of the block that fills it"`
	Bars   []Bar        `json:"bars,omitempty" doc:"of a stretch"`
}

// A Bar is a block, or the part of it that lies in a line.
type Bar struct {
	Block int     `json:"block" doc:"place in held"`
	From  float64 `json:"from" doc:"part of the line before it"`
	Width float64 `json:"width" doc:"part of the line that it takes"`
	Lane  int     `json:"lane" doc:"blocks that overlap lie in lanes, one below the other"`
}

// Ruler cuts address space into lines: that of one prefix, or where it is not
// valid of all region blocks, then of what lies outside them by /16, or /48 of
// IPv6. held is in address order, as Holdings returns it.
func Ruler(held []Held, rooms []Room, within netip.Prefix) []Line {
	if within.IsValid() {
		return stretch(held, within.Masked(), "")
	}
	lines := []Line{}
	for _, r := range rooms {
		lines = append(lines, stretch(held, r.Block.Masked(), r.Region)...)
	}
	var elsewhere []netip.Prefix
	for i := range held {
		p := held[i].Prefix
		if slices.ContainsFunc(rooms, func(r Room) bool { return addr.Covers(r.Block, p) }) {
			continue
		}
		group := netip.PrefixFrom(p.Addr(), min(p.Bits(), map[bool]int{true: 16, false: 48}[p.Addr().Is4()])).Masked()
		elsewhere = append(elsewhere, group)
	}
	slices.SortFunc(elsewhere, netip.Prefix.Compare)
	for _, p := range slices.Compact(elsewhere) {
		lines = append(lines, stretch(held, p, "outside the regions")...)
	}
	return lines
}

// How finely a stretch is cut: so that what is used in it takes about enough
// lines, into 2 to the power of coarsest at least and of finest at most, and not
// finer than leaves eight of the smallest blocks to a line.
const (
	enough   = 9
	coarsest = 4
	finest   = 10
	eight    = 3
)

func stretch(held []Held, whole netip.Prefix, name string) []Line {
	var inside []int
	for i := range held {
		if held[i].Prefix.Overlaps(whole) {
			inside = append(inside, i)
		}
	}
	bits := fineness(held, inside, whole)
	fine := bits - whole.Bits()
	in := make([][]int, 1<<fine) // line → blocks in it
	for _, i := range inside {
		first, last := 0, len(in)-1
		if p := held[i].Prefix; p.Bits() > whole.Bits() {
			first = int(between(p.Addr(), whole.Bits(), bits))
			last = first + 1<<max(0, bits-p.Bits()) - 1
		}
		for line := first; line <= last; line++ {
			in[line] = append(in[line], i)
		}
	}
	out := []Line{{Kind: "title", Prefix: whole, Name: name, Used: len(inside)}}
	for n, blocks := range in {
		line, _ := addr.Nth(whole, bits, uint64(n))
		var fills *int
		if len(blocks) == 1 && addr.Covers(held[blocks[0]].Prefix, line) {
			fills = &blocks[0]
		}
		if len(blocks) > 0 && fills == nil {
			out = append(out, Line{Kind: "stretch", Prefix: line, Bars: bars(held, blocks, line)})
			continue
		}
		if last := &out[len(out)-1]; last.Kind == "run" && same(last.Block, fills) {
			last.Count++
			continue
		}
		out = append(out, Line{Kind: "run", Prefix: line, Count: 1, Block: fills})
	}
	return out
}

func same(a, b *int) bool { return a == nil && b == nil || a != nil && b != nil && *a == *b }

// fineness is the length of the lines of a stretch.
func fineness(held []Held, inside []int, whole netip.Prefix) int {
	smallest := whole.Bits() + finest - eight
	for _, i := range inside {
		smallest = max(smallest, held[i].Prefix.Bits())
	}
	most := min(max(whole.Bits(), smallest-eight), whole.Addr().BitLen())
	bits := min(whole.Bits()+coarsest, most)
	for bits < min(whole.Bits()+finest, most) {
		seen := map[uint64]bool{}
		for _, i := range inside {
			start := whole.Addr()
			if addr.Covers(whole, held[i].Prefix) {
				start = held[i].Prefix.Addr()
			}
			seen[between(start, whole.Bits(), bits+1)] = true
		}
		if len(seen) > enough {
			break
		}
		bits++
	}
	return bits
}

// bars draws blocks on a line.
func bars(held []Held, blocks []int, line netip.Prefix) []Bar {
	out := make([]Bar, len(blocks))
	var ends []float64 // of the lanes
	for n, i := range blocks {
		b := Bar{Block: i, Width: 1}
		if p := held[i].Prefix; p.Bits() > line.Bits() {
			const precise = 50 // of the 53 bits that a float64 holds
			to := min(line.Bits()+precise, line.Addr().BitLen())
			b.From = float64(between(p.Addr(), line.Bits(), to)) / float64(uint64(1)<<(to-line.Bits()))
			b.Width = 1 / float64(uint64(1)<<min(precise, p.Bits()-line.Bits()))
		}
		b.Lane = slices.IndexFunc(ends, func(end float64) bool { return end <= b.From })
		if b.Lane < 0 {
			b.Lane = len(ends)
			ends = append(ends, 0)
		}
		ends[b.Lane] = b.From + b.Width
		out[n] = b
	}
	return out
}

// between is the number that the bits of an address from one place to another
// make; there are at most 64.
func between(a netip.Addr, from, to int) (n uint64) {
	bytes := a.AsSlice()
	for bit := from; bit < to; bit++ {
		n = n<<1 | uint64(bytes[bit/8]>>(7-bit%8)&1)
	}
	return n
}
