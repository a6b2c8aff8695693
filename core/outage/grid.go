package outage

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"slices"
	"strconv"

	"wideknot/core/estate"
)

// A Grid is what single failures do, the worst first, by site.
type Grid struct {
	Sites    []GridSite  `json:"sites" doc:"the columns of the grid: by region, members of an overlay"`
	Rows     []GridRow   `json:"rows"`
	Total    int         `json:"total" doc:"failures of the kinds asked for, further than the rows"`
	Points   int         `json:"points" doc:"of those, how many cut a site whose own gateway is alive"`
	Harmless int         `json:"harmless" doc:"of those, how many touch nobody"`
	Crowded  []LineSheet `json:"crowded" doc:"links and gateways over capacity with nothing down"`
	Idle     []string    `json:"idle" doc:"sites without automatic failover, where a dead tunnel stays in use until somebody intervenes; everything here counts on that"`
}

// GridSite is a column of the grid.
type GridSite struct {
	Site   string `json:"site"`
	Name   string `json:"name"`
	Region string `json:"region"`
}

// GridRow is one failure.
type GridRow struct {
	OutcomeSheet
	Grid string `json:"grid" doc:"a letter for each site: - untouched, m moved, s squeezed, c cut"`
}

// letters writes verdicts into a grid.
const letters = "-msc"

// columns lists the sites of the grid by region.
func (m *Model) columns() ([]GridSite, []int) {
	regions := map[string]int{}
	for i, r := range m.Plan.Estate.About.Regions {
		regions[r.Key] = i + 1
	}
	var sites []int
	for i := range m.Plan.Estate.Sites {
		if len(m.Plan.Ends(i)) > 0 {
			sites = append(sites, i)
		}
	}
	slices.SortStableFunc(sites, func(a, b int) int {
		return regions[m.Plan.Site(a).Region] - regions[m.Plan.Site(b).Region]
	})
	out := make([]GridSite, len(sites))
	for i, s := range sites {
		site := m.Plan.Site(s)
		out[i] = GridSite{site.Key, site.Name, site.Region}
	}
	return out, sites
}

// mostTogether bounds the parts of which every two are tried.
const mostTogether = 400

// A Choice is of failures: of some kinds and of one degree, by their names; empty for
// all.
type Choice struct {
	Kinds  []string
	Degree string // dead, slow or lossy
}

func (c *Choice) has(p Part) bool {
	degree := c.Degree
	if degree == "dead" {
		degree = string(Dead)
	} else if degree == "" {
		degree = string(p.Degree)
	}
	return string(p.Degree) == degree && (len(c.Kinds) == 0 || slices.Contains(c.Kinds, string(p.Kind)))
}

// Together returns every two of the failures chosen, as far as that is worse than the
// two alone added up. There is an error where that is too much at once.
func (m *Model) Together(singles []Outcome, of Choice) ([]Outcome, error) {
	var parts []Part
	for i := range singles {
		if p := singles[i].Parts[0]; of.has(p) && p.Degree == Dead {
			parts = append(parts, p)
		}
	}
	if len(parts) > mostTogether {
		return nil, fmt.Errorf("every two of %d things are too many to try at once; choose a kind with at most %d, or use the command line", len(parts), mostTogether)
	}
	return m.Pairs(parts), nil
}

// Grid lists the failures chosen, up to a limit of rows.
func (m *Model) Grid(failures []Outcome, of Choice, limit int) Grid {
	columns, sites := m.columns()
	place := make(map[int]int, len(sites))
	for i, s := range sites {
		place[s] = i
	}
	out := Grid{Sites: columns, Rows: []GridRow{}, Crowded: []LineSheet{}, Idle: m.IdleKeys()}
	for i := range failures {
		o := &failures[i]
		if !of.has(o.Parts[0]) {
			continue
		}
		out.Total++
		if o.Lost > 0 {
			out.Points++
		}
		if len(o.Sites) == 0 {
			out.Harmless++
		}
		if len(out.Rows) >= limit {
			continue
		}
		grid := bytes.Repeat([]byte{letters[0]}, len(sites))
		for _, s := range o.Sites {
			if at, ok := place[s.Site]; ok {
				grid[at] = letters[s.Verdict]
			}
		}
		out.Rows = append(out.Rows, GridRow{m.Sheet(o, false), string(grid)})
	}
	for _, c := range m.Crowded() {
		out.Crowded = append(out.Crowded, m.OverSheet(&c))
	}
	return out
}

// CSV writes failures as RFC 4180 CSV, a line for each
// failure and site that it touches.
func (m *Model) CSV(failures []Outcome) []byte {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	_ = w.Write([]string{"failure", "site", "verdict", "pairs_moved", "pairs_squeezed", "pairs_cut"}) // a bytes.Buffer takes every write
	for i := range failures {
		sheet := m.Sheet(&failures[i], true)
		for _, s := range sheet.Sites {
			_ = w.Write([]string{estate.SafeCell(sheet.Fail[0]), s.Site, s.Verdict, strconv.Itoa(s.Moved), strconv.Itoa(s.Squeezed), strconv.Itoa(s.Cut)})
		}
	}
	w.Flush()
	return out.Bytes()
}
