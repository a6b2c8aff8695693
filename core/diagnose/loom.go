package diagnose

import (
	"slices"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/tunnel"
)

// A Thread is how a tunnel of a pair stands, as the gateways at its ends say.
type Thread string

// The threads. What stands by is alive and used by no way; whether it is used is not known of a
// gateway that runs another release.
const (
	ThreadCarries  Thread = "carries"
	ThreadStandsBy Thread = "stands-by"
	ThreadBeyond   Thread = "beyond" // its limits
	ThreadDead     Thread = "dead"
	ThreadUnseen   Thread = "unseen" // neither gateway is there
)

// Bounds of a live loom: from how many sites on its rows are regions, and the rows of sites shown.
const (
	FewSites     = 80
	mostLoomRows = 200
)

// A LiveLoom is how the pairs of an overlay are joined at present. Its rows are sites, or regions
// where there are more than FewSites, of which one may be unfolded.
type LiveLoom struct {
	ByRegion bool         `json:"by_region"`
	Columns  []LiveColumn `json:"columns"`
	Rows     []LiveRow    `json:"rows"`
	Sum      LiveCell     `json:"sum" doc:"of all pairs of the overlay"`
	Left     int          `json:"left" doc:"sites of the region that are not listed, as they are too many"`
}

// A LiveColumn is a site, or a region.
type LiveColumn struct {
	Site   string `json:"site,omitempty"`
	Region string `json:"region" doc:"of the site, or the region itself"`
}

// A LiveRow is a site, or a region.
type LiveRow struct {
	Site   string     `json:"site,omitempty"`
	Name   string     `json:"name,omitempty"`
	Region string     `json:"region" doc:"of the site, or the region itself"`
	Sites  int        `json:"sites" doc:"that it sums up"`
	Cells  []LiveCell `json:"cells" doc:"that have pairs"`
}

// A LiveCell sums up the pairs between a row and a column.
type LiveCell struct {
	Column  int      `json:"column"`
	Pairs   int      `json:"pairs"`
	Whole   int      `json:"whole" doc:"of which all tunnels live"`
	Thin    int      `json:"thin" doc:"of which the first choice lives, and another one is dead or beyond its limits"`
	Moved   int      `json:"moved" doc:"of which the first choice is dead or beyond its limits, and another one lives"`
	Dead    int      `json:"dead" doc:"of which no tunnel lives"`
	Unseen  int      `json:"unseen" doc:"of which nothing is known"`
	Threads []Thread `json:"threads,omitempty" doc:"of a single pair, its tunnels, the first choice first"`
}

// LoomSites lists the sites that have rows of their own in the live loom of an overlay, of which
// Weave wants to know which tunnels carry.
func LoomSites(p *tunnel.Plan, o *tunnel.Overlay, region string) (rows []int, left int) {
	rows = o.Members
	if len(rows) > FewSites {
		rows = slices.DeleteFunc(slices.Clone(rows), func(site int) bool { return region == "" || p.Site(site).Region != region })
	}
	if len(rows) > mostLoomRows {
		return rows[:mostLoomRows], len(rows) - mostLoomRows
	}
	return rows, 0
}

// weaver makes a live loom.
type weaver struct {
	plan     *tunnel.Plan
	known    []*Gateway                        // by site
	ends     []map[string]*gateway.TunnelState // by site, of those that report anything dead
	regions  []string
	rowOf    map[int]int // site → row of its own
	regionAt map[string]int
	columnOf map[int]int // site → column
	out      LiveLoom
	cells    []LiveCell // row by row
}

// Weave says how the pairs of an overlay are joined at present, with the sites of a region where
// its rows are regions.
func Weave(k *Known, o *tunnel.Overlay, region string) LiveLoom {
	w := &weaver{plan: k.Routes.Plan, rowOf: map[int]int{}, regionAt: map[string]int{}, columnOf: map[int]int{}}
	w.out = LiveLoom{ByRegion: len(o.Members) > FewSites, Columns: []LiveColumn{}, Rows: []LiveRow{}}
	for i := range w.plan.Estate.Sites {
		g := k.Of(w.plan.Site(i).Key)
		w.known = append(w.known, g)
		ends := map[string]*gateway.TunnelState(nil)
		if g.State != nil {
			ends = make(map[string]*gateway.TunnelState, len(g.State.Tunnels))
			for j := range g.State.Tunnels {
				ends[g.State.Tunnels[j].Interface] = &g.State.Tunnels[j]
			}
		}
		w.ends = append(w.ends, ends)
	}
	w.rows(o, region)
	w.columns(o)
	w.cells = make([]LiveCell, len(w.out.Rows)*len(w.out.Columns))
	for i := range o.Adjacencies {
		w.pair(&o.Adjacencies[i])
	}
	for r := range w.out.Rows {
		w.out.Rows[r].Cells = []LiveCell{}
		for c := range w.out.Columns {
			if cell := w.cells[r*len(w.out.Columns)+c]; cell.Pairs > 0 {
				cell.Column = c
				w.out.Rows[r].Cells = append(w.out.Rows[r].Cells, cell)
			}
		}
	}
	w.out.Sum.Threads = nil
	return w.out
}

// rows lists regions in the estate's order, each with its sites where those have rows.
func (w *weaver) rows(o *tunnel.Overlay, region string) {
	sites, left := LoomSites(w.plan, o, region)
	w.out.Left = left
	members := map[string]int{}
	for _, site := range o.Members {
		members[w.plan.Site(site).Region]++
	}
	for _, r := range w.plan.Estate.About.Regions {
		w.regions = append(w.regions, r.Key)
	}
	for _, site := range o.Members { // those that are listed nowhere, and none
		if r := w.plan.Site(site).Region; !slices.Contains(w.regions, r) {
			w.regions = append(w.regions, r)
		}
	}
	for _, r := range w.regions {
		if members[r] == 0 {
			continue
		}
		if w.out.ByRegion {
			w.regionAt[r] = len(w.out.Rows)
			w.out.Rows = append(w.out.Rows, LiveRow{Region: r, Sites: members[r]})
		}
		for _, i := range sites {
			if s := w.plan.Site(i); s.Region == r {
				w.rowOf[i] = len(w.out.Rows)
				w.out.Rows = append(w.out.Rows, LiveRow{Site: s.Key, Name: s.Name, Region: r, Sites: 1})
			}
		}
	}
}

// columns are the hubs, and the sites that are joined to others than hubs; of these the regions
// where they are many.
func (w *weaver) columns(o *tunnel.Overlay) {
	add := func(site int) {
		if _, has := w.columnOf[site]; !has {
			w.columnOf[site] = len(w.out.Columns)
			s := w.plan.Site(site)
			w.out.Columns = append(w.out.Columns, LiveColumn{Site: s.Key, Region: s.Region})
		}
	}
	for _, hub := range o.Hubs {
		add(hub)
	}
	rest := o.Members
	if o.Spec.Shape != estate.FullMesh {
		joined := map[int]bool{}
		for i := range o.Adjacencies {
			if a := &o.Adjacencies[i]; a.Kind == tunnel.Direct {
				joined[a.A], joined[a.B] = true, true
			}
		}
		rest = slices.DeleteFunc(slices.Clone(o.Members), func(site int) bool { return !joined[site] })
	}
	if len(rest) <= FewSites {
		for _, site := range rest {
			add(site)
		}
		return
	}
	for _, r := range w.regions {
		at := len(w.out.Columns)
		w.out.Columns = append(w.out.Columns, LiveColumn{Region: r})
		for _, site := range rest {
			if _, has := w.columnOf[site]; !has && w.plan.Site(site).Region == r {
				w.columnOf[site] = at
			}
		}
	}
}

// pair adds two sites to the cells that they are of.
func (w *weaver) pair(a *tunnel.Adjacency) {
	cell := w.judge(a)
	if cell.Pairs == 0 {
		return
	}
	w.out.Sum.plus(&cell)
	before := -1
	for _, ends := range [2][2]int{{a.A, a.B}, {a.B, a.A}} {
		column, has := w.columnOf[ends[1]]
		if !has {
			continue
		}
		if row, has := w.rowOf[ends[0]]; has {
			w.cells[row*len(w.out.Columns)+column].plus(&cell)
		}
		if row, has := w.regionAt[w.plan.Site(ends[0]).Region]; has {
			if at := row*len(w.out.Columns) + column; at != before { // both of one region
				before = at
				w.cells[at].plus(&cell)
			}
		}
	}
}

func (c *LiveCell) plus(one *LiveCell) {
	c.Pairs, c.Whole, c.Thin, c.Moved, c.Dead, c.Unseen = c.Pairs+one.Pairs, c.Whole+one.Whole, c.Thin+one.Thin, c.Moved+one.Moved, c.Dead+one.Dead, c.Unseen+one.Unseen
	c.Threads = nil
	if c.Pairs == 1 {
		c.Threads = one.Threads
	}
}

// judge says how two sites are joined; a pair that no tunnel can serve is none.
func (w *weaver) judge(a *tunnel.Adjacency) (out LiveCell) {
	_, here := w.rowOf[a.A]
	_, there := w.rowOf[a.B]
	lead, live, first, poor, unseen := -1, 0, 0, 0, 0
	for i := range a.Tunnels {
		t := &a.Tunnels[i]
		if t.Mute {
			continue // the design says already that it stays dead
		}
		if lead < 0 {
			lead = t.Lead
		}
		is := w.thread(t)
		switch is {
		case ThreadDead:
			poor++
		case ThreadUnseen:
			unseen++
		default:
			live++
			if is == ThreadBeyond {
				poor++
			} else if t.Lead == lead {
				first++
			}
		}
		if here || there {
			out.Threads = append(out.Threads, is)
		}
	}
	switch {
	case lead < 0:
		return LiveCell{}
	case unseen > 0:
		out.Unseen = 1
	case live == 0:
		out.Dead = 1
	case first == 0:
		out.Moved = 1
	case poor > 0:
		out.Thin = 1
	default:
		out.Whole = 1
	}
	out.Pairs = 1
	return out
}

// thread says how a tunnel stands.
func (w *weaver) thread(t *tunnel.Tunnel) Thread {
	seen, beyond, carries := false, false, false
	for _, p := range [2]*tunnel.Port{&t.A, &t.B} {
		g := w.known[p.Site]
		if !g.Joined || !g.Up || g.State == nil && !g.Well {
			continue
		}
		seen = true
		if g.State != nil {
			s := w.ends[p.Site][p.Interface]
			if s == nil || !s.Up {
				return ThreadDead
			}
			beyond = beyond || s.Beyond
		}
		carries = carries || g.Carries[p.Interface]
	}
	switch {
	case !seen:
		return ThreadUnseen
	case beyond:
		return ThreadBeyond
	case carries:
		return ThreadCarries
	}
	return ThreadStandsBy
}
