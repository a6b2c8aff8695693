package outage

import (
	"cmp"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
)

// Verdict is what a failure does to a pair of sites, or to a site.
type Verdict int

// The verdicts, from the best to the worst.
const (
	Untouched Verdict = iota
	Moved             // to another tunnel, and it fits
	Squeezed          // what is left is too narrow, lets only some zones through, or is beyond the limits of some
	Cut
)

var verdicts = [...]string{"untouched", "moved", "squeezed", "cut"}

// String names the verdict.
func (v Verdict) String() string { return verdicts[v] }

// MarshalText names the verdict.
func (v Verdict) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// An Outcome is what one failure does.
type Outcome struct {
	Parts []Part
	// Pairs of sites with traffic that are not untouched, by verdict.
	Moved, Squeezed, Cut int
	Beyond               int           // of those squeezed: the traffic that is held to limits is left with tunnels beyond them
	Sites                []SiteOutcome // those that are not untouched, in the estate's order
	Isolated             int           // sites that reach nobody, their own gateways' failure included
	Lost                 int           // sites that are cut though their gateway is alive
	Over                 []Over        // links and gateways with more than they can carry
}

// A SiteOutcome is what a failure does to one site. A site is as badly off as
// its worst pair; a pair with a site that reaches nobody is that site's
// trouble, and one that moves at the far end only is the far end's.
type SiteOutcome struct {
	Site                 int
	Verdict              Verdict
	Moved, Squeezed, Cut int // pairs
}

// An Over is a link, or with Link -1 a gateway, that is asked to carry more
// than it can, and more than before the failure. Rates are in Mbit/s.
type Over struct {
	Site, Link             int
	Before, Load, Capacity float64
}

// worse orders outcomes by harm, the worst first: sites that are cut through no
// fault of their own gateway, then pairs that no longer fit, are cut, move.
func worse(a, b *Outcome) int {
	return cmp.Or(cmp.Compare(b.Lost, a.Lost), cmp.Compare(b.Squeezed, a.Squeezed), cmp.Compare(b.Cut, a.Cut), cmp.Compare(b.Moved, a.Moved))
}

// Fail evaluates the failure of all the parts at once. It errs when the estate
// has no such part.
func (m *Model) Fail(parts ...Part) (Outcome, error) {
	f, err := m.failing(parts)
	if err != nil {
		return Outcome{}, err
	}
	return m.bench().run(&f), nil
}

// Singles evaluates the failure of each part alone, the worst first.
func (m *Model) Singles(parts []Part) []Outcome {
	lots := make([][]Part, len(parts))
	for i, p := range parts {
		lots[i] = []Part{p}
	}
	return m.all(parts, lots)
}

// Pairs evaluates the failure of every two of the parts, the worst first, and
// returns those that do more harm than the two alone added up. Those that are not dead
// are left out: limits reorder tunnels of two sites, so one does not make another worse.
func (m *Model) Pairs(parts []Part) []Outcome {
	parts = slices.DeleteFunc(slices.Clone(parts), func(p Part) bool { return p.Degree != Dead })
	var lots [][]Part
	for i, p := range parts {
		for _, q := range parts[i+1:] {
			lots = append(lots, []Part{p, q})
		}
	}
	alone := map[Part]Outcome{}
	for _, o := range m.Singles(parts) {
		alone[o.Parts[0]] = o
	}
	return slices.DeleteFunc(m.all(parts, lots), func(o Outcome) bool {
		x, y := alone[o.Parts[0]], alone[o.Parts[1]]
		return o.Cut <= x.Cut+y.Cut && o.Squeezed <= x.Squeezed+y.Squeezed
	})
}

func (m *Model) all(parts []Part, lots [][]Part) []Outcome {
	takes := m.index(parts)
	out := make([]Outcome, len(lots))
	widest := func(lot []Part) (n int) {
		for _, p := range lot {
			n += len(takes[p].links) + len(takes[p].gates)
		}
		return n
	}
	// The widest first, so that none is left for one worker at the end.
	slices.SortStableFunc(lots, func(a, b []Part) int { return widest(b) - widest(a) })
	var next atomic.Int64
	var group sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), max(1, len(lots))) {
		group.Go(func() {
			b := m.bench()
			for {
				i := int(next.Add(1)) - 1
				if i >= len(lots) {
					return
				}
				f := takes.of(lots[i])
				out[i] = b.run(&f)
			}
		})
	}
	group.Wait()
	slices.SortStableFunc(out, func(a, b Outcome) int { return worse(&a, &b) })
	return out
}
