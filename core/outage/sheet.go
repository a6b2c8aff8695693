package outage

import "net/netip"

// The sheets are outcomes in keys instead of indexes, for people and programs
// to read. Rates are in Mbit/s.
type (
	// An OutcomeSheet is what one failure does.
	OutcomeSheet struct {
		Fail     []string    `json:"fail" doc:"parts, as KIND:NAME"`
		Moved    int         `json:"moved" doc:"pairs of sites that take another way and fit there"`
		Squeezed int         `json:"squeezed" doc:"pairs of sites"`
		Beyond   int         `json:"beyond" doc:"of those squeezed: what is held to limits of latency, jitter or loss is left with tunnels beyond them"`
		Cut      int         `json:"cut" doc:"pairs of sites"`
		Isolated int         `json:"isolated" doc:"sites that reach nobody"`
		Lost     []string    `json:"lost" doc:"sites that are cut though their gateway is alive"`
		Over     []LineSheet `json:"over" doc:"links and gateways with more than they can carry"`
		Sites    []SiteSheet `json:"sites,omitempty" doc:"those that are not untouched"`
	}
	// A SiteSheet is what one failure does to a site.
	SiteSheet struct {
		Site     string `json:"site"`
		Verdict  string `json:"verdict" enum:"untouched,moved,squeezed,cut"`
		Moved    int    `json:"moved"`
		Squeezed int    `json:"squeezed"`
		Cut      int    `json:"cut"`
	}
	// A LineSheet is a link, or without one a gateway, and its load.
	LineSheet struct {
		Site     string  `json:"site"`
		Link     string  `json:"link,omitempty"`
		Before   float64 `json:"before_mbps"`
		After    float64 `json:"after_mbps"`
		Capacity float64 `json:"capacity_mbps" doc:"0 when unknown"`
		Dead     bool    `json:"dead,omitempty"`
		Shed     []Shed  `json:"shed,omitempty" doc:"zones that are shed"`
	}
	// A DetailSheet is what one failure does, and how.
	DetailSheet struct {
		OutcomeSheet
		Another   int             `json:"another_way" doc:"pairs of sites that take another way, whether they fit there or not"`
		Takeovers []TakeoverSheet `json:"takeovers"`
		Pairs     []LostSheet     `json:"pairs" doc:"the first of the pairs of which nothing, or only a part, is reached any more"`
		Idle      []string        `json:"idle" doc:"sites without automatic failover, where a dead tunnel stays in use until somebody intervenes"`
		Lines     []LineSheet     `json:"lines" doc:"links and gateways with another load than before, the fullest first"`
	}
	// A TakeoverSheet is a tunnel of a site that stands in for another.
	TakeoverSheet struct {
		Site  string        `json:"site"`
		From  *StretchSheet `json:"from,omitempty"`
		To    *StretchSheet `json:"to,omitempty" doc:"none where nothing takes over"`
		Pairs int           `json:"pairs"`
	}
	// A StretchSheet is a tunnel as the first on the way.
	StretchSheet struct {
		Overlay string `json:"overlay"`
		Tunnel  string `json:"tunnel"`
		Link    string `json:"link" doc:"at the site"`
		Via     string `json:"via" doc:"the site at its far end"`
		ViaLink string `json:"via_link"`
		Rank    int    `json:"rank"`
		Cost    int    `json:"cost"`
		// Tunnels between the same sites that share the load with it.
		Beside []Beside `json:"beside,omitempty" doc:"tunnels that share the load with it"`
		Beyond bool     `json:"beyond,omitempty" doc:"it is beyond the limits to which the traffic is held"`
	}
	// A ChangeSheet is a site that a failure hits differently than before.
	ChangeSheet struct {
		Fail   string `json:"fail"`
		Site   string `json:"site"`
		Was    string `json:"was"`
		Now    string `json:"now"`
		Better bool   `json:"better"`
	}
	// A LostSheet is two sites that no longer reach each other.
	LostSheet struct {
		A  string `json:"a"`
		B  string `json:"b"`
		At string `json:"at" doc:"the site where the packets end"`
		// Some subnets of the two are cut from each other, others not.
		Partly  bool              `json:"partly,omitempty" doc:"only some subnets are cut from each other; the pair counts as squeezed"`
		Subnets [][2]netip.Prefix `json:"subnets,omitempty" doc:"those, two by two, at most 20"`
	}
)

// Tunnels names the tunnel, with those that share the load with it.
func (s *StretchSheet) Tunnels() string {
	text := s.Tunnel
	for _, b := range s.Beside {
		text += " + " + b.Tunnel
	}
	return text
}

func (m *Model) key(site int) string { return m.Plan.Site(site).Key }

func (m *Model) linkKey(site, link int) string {
	if link < 0 {
		return ""
	}
	return m.Plan.Site(site).Links[link].Key
}

// Sheet writes an outcome down, with its sites when they are wanted.
func (m *Model) Sheet(o *Outcome, sites bool) OutcomeSheet {
	out := OutcomeSheet{Fail: []string{}, Moved: o.Moved, Squeezed: o.Squeezed, Beyond: o.Beyond, Cut: o.Cut, Isolated: o.Isolated, Lost: []string{}, Over: []LineSheet{}}
	gone := map[Part]bool{}
	for _, p := range o.Parts {
		out.Fail = append(out.Fail, p.String())
		gone[p] = true
	}
	for _, s := range o.Sites {
		site := m.Plan.Site(s.Site)
		if s.Verdict == Cut && !gone[Part{Kind: Gateway, Name: site.Key}] && !gone[Part{Kind: Region, Name: site.Region}] {
			out.Lost = append(out.Lost, site.Key)
		}
		if sites {
			out.Sites = append(out.Sites, SiteSheet{site.Key, s.Verdict.String(), s.Moved, s.Squeezed, s.Cut})
		}
	}
	for i := range o.Over {
		out.Over = append(out.Over, m.OverSheet(&o.Over[i]))
	}
	return out
}

// IdleKeys names the sites of Idle.
func (m *Model) IdleKeys() []string {
	out := []string{}
	for _, site := range m.Idle() {
		out = append(out, m.key(site))
	}
	return out
}

// OverSheet writes down what has too much to carry.
func (m *Model) OverSheet(o *Over) LineSheet {
	return LineSheet{Site: m.key(o.Site), Link: m.linkKey(o.Site, o.Link), Before: o.Before, After: o.Load, Capacity: o.Capacity}
}

// DetailSheet writes a detail down.
func (m *Model) DetailSheet(d *Detail) DetailSheet {
	out := DetailSheet{OutcomeSheet: m.Sheet(&d.Outcome, true), Another: d.Another, Takeovers: []TakeoverSheet{}, Pairs: []LostSheet{}, Idle: m.IdleKeys(), Lines: []LineSheet{}}
	stretch := func(s *Stretch) *StretchSheet {
		if s == nil {
			return nil
		}
		return &StretchSheet{s.Overlay, s.Tunnel, s.Link, m.key(s.Via), s.ViaLink, s.Rank, s.Cost, s.Beside, s.Beyond}
	}
	for _, t := range d.Takeovers {
		out.Takeovers = append(out.Takeovers, TakeoverSheet{m.key(t.Site), stretch(t.From), stretch(t.To), t.Pairs})
	}
	for _, p := range d.Lost {
		out.Pairs = append(out.Pairs, LostSheet{m.key(p.A), m.key(p.B), m.key(p.At), p.Partly, p.Subnets})
	}
	for _, l := range d.Lines {
		out.Lines = append(out.Lines, LineSheet{m.key(l.Site), m.linkKey(l.Site, l.Link), l.Before, l.After, l.Capacity, l.Dead, l.Shed})
	}
	return out
}

// Sheet writes a change down.
func (c *Change) Sheet() ChangeSheet {
	return ChangeSheet{c.Part.String(), c.Site, c.Was.String(), c.Now.String(), c.Better()}
}
