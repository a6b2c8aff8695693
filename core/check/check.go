// Package check finds what is wrong or risky in an estate and its plan. Each
// family of findings has a file of its own, each check a line in Checks.
package check

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"wideknot/core/outage"
	"wideknot/core/planning"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// Severity orders findings: an error breaks something, a warning may, a note
// is worth knowing.
type Severity string

// The severities.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

func (s Severity) order() int { return slices.Index([]Severity{Error, Warning, Note}, s) }

// A Finding is something wrong or risky.
type Finding struct {
	ID       string            `json:"id"`   // code and subjects; stays the same while the finding does
	Code     string            `json:"code"` // family/name
	Severity Severity          `json:"severity"`
	Title    string            `json:"title"`
	Evidence []string          `json:"evidence,omitempty"`
	Why      string            `json:"why"`               // why it matters
	Fix      string            `json:"fix"`               // what to do about it
	Subjects []Subject         `json:"subjects"`          // the first is where it is fixed
	Repairs  []planning.Repair `json:"repairs,omitempty"` // that can be applied as they are
}

// A Subject is what a finding is about: a site, or a link, subnet or overlay
// of it. Fields that do not apply are empty.
type Subject struct {
	Site    string       `json:"site,omitempty"`
	Link    string       `json:"link,omitempty"`
	Prefix  netip.Prefix `json:"prefix,omitzero"`
	Overlay string       `json:"overlay,omitempty"`
}

func (s Subject) String() string {
	var parts []string
	for _, part := range []string{s.Overlay, s.Site, s.Link} {
		if part != "" {
			parts = append(parts, part)
		}
	}
	if s.Prefix.IsValid() {
		parts = append(parts, s.Prefix.String())
	}
	return strings.Join(parts, " ")
}

// Input is what checks read.
type Input struct {
	Plan   *tunnel.Plan
	Routes *route.Map
	used   []netip.Prefix // everything a new subnet must not overlap, once it was asked for
}

// Run returns the findings, errors first, else in the order of the checks.
func Run(p *tunnel.Plan, m *route.Map) []Finding {
	return WithLoads(Prompt(p, m), p, outage.New(m))
}

// Prompt returns the findings but those of loads, which take as long as all others
// together; WithLoads adds them.
func Prompt(p *tunnel.Plan, m *route.Map) []Finding {
	in := &Input{Plan: p, Routes: m}
	return sorted(in.run())
}

// WithLoads returns the findings of Prompt with those of loads, by the model of
// the same derivation.
func WithLoads(prompt []Finding, p *tunnel.Plan, model *outage.Model) []Finding {
	in := &Input{Plan: p, Routes: model.Map}
	out := slices.Clone(prompt)
	load(in, model, func(f Finding) { out = append(out, f.named()) })
	return sorted(out)
}

// Acceptable reports whether a release may add the finding although it is an
// error, if a reason is given: nothing in the design is wrong, and what is to be
// done is not done there.
func (f *Finding) Acceptable() bool { return f.Code == noSwitching }

// run runs all checks but those of loads.
func (in *Input) run() (out []Finding) {
	for _, c := range Checks {
		if c.Run != nil {
			c.Run(in, func(f Finding) { out = append(out, f.named()) })
		}
	}
	return out
}

// named gives a finding its ID, by its code and what it is about.
func (f Finding) named() Finding {
	f.ID = f.Code
	for _, s := range f.Subjects {
		if f.Code != noSwitching { // one for the estate, whoever it is about
			f.ID += " " + s.String()
		}
	}
	return f
}

func sorted(findings []Finding) []Finding {
	slices.SortStableFunc(findings, func(a, b Finding) int { return cmp.Compare(a.Severity.order(), b.Severity.order()) })
	return findings
}

// Count counts findings by severity.
func Count(findings []Finding) map[Severity]int {
	n := map[Severity]int{}
	for _, f := range findings {
		n[f.Severity]++
	}
	return n
}
