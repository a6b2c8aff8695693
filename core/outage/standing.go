package outage

import (
	"slices"

	"wideknot/core/estate"
)

// Standing is how available sites are, and what would make them more so.
type Standing struct {
	Sites       []SiteStanding `json:"sites" doc:"the least available first"`
	Fates       []FateSheet    `json:"fates"`
	Suggestions []Suggested    `json:"suggestions" doc:"those that gain most"`
	Timings     []TimingSheet  `json:"timings"`
	Shed        []string       `json:"shed" doc:"zones in the order in which they are shed"`
	Zones       []string       `json:"zones"`
	Idle        []string       `json:"idle" doc:"sites without automatic failover, where a dead tunnel stays in use until somebody intervenes"`

	Patterns []estate.LinkPattern `json:"patterns" doc:"sites by the order of their links, the pattern of most sites first"`
}

// SiteStanding is how available a site is.
type SiteStanding struct {
	Site    string   `json:"site"`
	Percent float64  `json:"percent"`
	Minutes float64  `json:"minutes" doc:"a year without any tunnel"`
	Switch  float64  `json:"switch_minutes" doc:"a year besides, until failures are noticed"`
	Unknown []string `json:"unknown" doc:"links without a figure; they count as always there"`
	OwnOnly bool     `json:"own_only" doc:"too many links are involved: those of the hubs count as always there"`
}

// FateSheet is a shared fate of a site's links.
type FateSheet struct {
	Site  string   `json:"site"`
	Group string   `json:"group"`
	Links []string `json:"links"`
	All   bool     `json:"all" doc:"the site has no other link"`
	Other []string `json:"other" doc:"further sites with links in the group"`
}

// Suggested is a change and what it gains.
type Suggested struct {
	Site string  `json:"site"`
	Kind string  `json:"kind" enum:"another-path,another-link"`
	Link string  `json:"link"`
	Text string  `json:"text"`
	Now  float64 `json:"now" doc:"minutes a year"`
	Then float64 `json:"then" doc:"minutes a year"`
}

// TimingSheet is how fast an overlay's probes are, in seconds.
type TimingSheet struct {
	Overlay string       `json:"overlay"`
	Probe   estate.Probe `json:"probe" doc:"as set; what is missing stands for the usual"`
	Timing  Timing       `json:"timing"`
	Beyond  []string     `json:"beyond" doc:"tunnels beyond the limits by the survey's figures, at most 50"`
	Exceed  int          `json:"exceed" doc:"how many those are"`
}

// mostBeyond bounds the list of tunnels beyond limits.
const mostBeyond = 50

// exceeding lists an overlay's tunnels that are beyond its limits by the survey.
func (m *Model) exceeding(overlay int, t *TimingSheet) {
	n := &m.nets[overlay]
	for j := range n.overlay.Adjacencies {
		a := &n.overlay.Adjacencies[j]
		for k := range a.Tunnels {
			if n.limits == nil || !n.beyond[int(n.start[j])+k] {
				continue
			}
			if t.Exceed++; len(t.Beyond) < mostBeyond {
				t.Beyond = append(t.Beyond, m.Plan.Ident(&a.Tunnels[k]))
			}
		}
	}
}

// Standing returns how things stand.
func (m *Model) Standing() Standing {
	out := Standing{Sites: []SiteStanding{}, Fates: []FateSheet{}, Suggestions: []Suggested{}, Timings: []TimingSheet{}, Shed: []string{}, Zones: m.Plan.Estate.Zones(), Idle: m.IdleKeys(), Patterns: m.Plan.Estate.LinkPatterns()}
	out.Shed = append(out.Shed, m.Plan.Estate.About.Shed...)
	for i := range m.Plan.Estate.Sites {
		if len(m.Plan.Ends(i)) == 0 {
			continue
		}
		a := m.Availability(i)
		out.Sites = append(out.Sites, SiteStanding{m.Plan.Site(i).Key, a.Part * 100, a.Minutes, a.Switch, append([]string{}, a.Unknown...), a.OwnOnly})
	}
	slices.SortStableFunc(out.Sites, func(a, b SiteStanding) int {
		switch {
		case a.Minutes > b.Minutes:
			return -1
		case a.Minutes < b.Minutes:
			return 1
		}
		return 0
	})
	for _, f := range m.CommonFates() {
		out.Fates = append(out.Fates, FateSheet{m.Plan.Site(f.Site).Key, f.Group, f.Links, f.All, append([]string{}, f.Other...)})
	}
	for _, s := range m.Suggest() {
		if len(out.Suggestions) == 50 {
			break
		}
		out.Suggestions = append(out.Suggestions, Suggested{m.Plan.Site(s.Site).Key, s.Kind, s.Link, s.Text, s.Now, s.Then})
	}
	for i := range m.Plan.Estate.Overlays {
		o := &m.Plan.Estate.Overlays[i]
		t := TimingSheet{Overlay: o.Key, Timing: TimingOf(o.Probe), Beyond: []string{}}
		m.exceeding(i, &t)
		if o.Probe != nil {
			t.Probe = *o.Probe
		}
		out.Timings = append(out.Timings, t)
	}
	return out
}
