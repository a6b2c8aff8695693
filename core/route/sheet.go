package route

import "slices"

// A WalkSheet is a walk in keys instead of indexes, for people and programs to
// read.
type WalkSheet struct {
	From  string `json:"from,omitempty" doc:"site; none when not known"`
	To    string `json:"to,omitempty" doc:"site; none when not known"`
	End   Ending `json:"end"`
	Where string `json:"where,omitempty" doc:"the site where it ends"`
	Why   string `json:"why,omitempty"`
	Fix   string `json:"fix,omitempty"`
	// Partly is set where some flows end so and others do not.
	Partly bool        `json:"partly,omitempty" doc:"it ends so for some flows only, by the tunnel each takes"`
	Rule   int         `json:"rule,omitempty" doc:"policy rule that decided, from 1; 0 for the default or none"`
	Steps  []StepSheet `json:"steps"`
}

// A StepSheet is one tunnel on the way.
type StepSheet struct {
	Site          string `json:"site" doc:"that sends"`
	Overlay       string `json:"overlay"`
	Tunnel        string `json:"tunnel"`
	Interface     string `json:"interface"`
	Next          string `json:"next" doc:"site at the other end"`
	NextInterface string `json:"next_interface"`
	// Beside are the tunnels that share the load with this one, at the same ends.
	Beside []BesideSheet `json:"beside,omitempty" doc:"tunnels that share the load with it; a flow takes one of them all, by their weights"`
	Weight int           `json:"weight,omitempty" doc:"its part among those; absent where it shares with none"`
	MTU    int           `json:"mtu"`
	Cost   int           `json:"cost" doc:"of the path from here"`
	Why    Rule          `json:"why,omitempty" doc:"the rule this route won by"`
	Beyond []string      `json:"beyond,omitempty" doc:"limits that the tunnel is beyond, where the packet is held to them"`
}

// A BesideSheet is a tunnel that shares the load with another.
type BesideSheet struct {
	Tunnel    string `json:"tunnel"`
	Interface string `json:"interface"`
	Weight    int    `json:"weight"`
}

// Sheet writes a walk down, which was followed while something failed; it is nil for none.
func (m *Map) Sheet(w *Walk, failing Failing) *WalkSheet {
	if w == nil {
		return nil
	}
	key := func(i int) string {
		if i < 0 {
			return ""
		}
		return m.Plan.Site(i).Key
	}
	out := &WalkSheet{From: key(w.FromSite), To: key(w.ToSite), End: w.End, Partly: w.Partly, Where: key(w.Where), Why: w.Why, Fix: w.Fix, Rule: w.Rule, Steps: []StepSheet{}}
	for _, s := range w.Steps {
		step := StepSheet{
			Site: key(s.Site), Overlay: s.Overlay, Tunnel: m.Plan.Ident(s.Tunnel), Interface: s.Hop.Interface, Next: key(s.Far), NextInterface: s.FarFace,
			Weight: s.Hop.Weight, MTU: s.Tunnel.MTU, Cost: s.Hop.Cost, Why: s.Hop.Why,
		}
		if s.Held {
			step.Beyond = m.Beyond(&s.Hop, failing)
		}
		for _, h := range s.Beside {
			_, _, t := m.Plan.At(h.End)
			step.Beside = append(step.Beside, BesideSheet{m.Plan.Ident(t), h.Interface, h.Weight})
		}
		out.Steps = append(out.Steps, step)
	}
	return out
}

// Followed is the way of a packet and of its answer.
type Followed struct {
	Arrives   bool        `json:"arrives" doc:"the packet and its answer"`
	Symmetric bool        `json:"symmetric" doc:"the answer takes the same tunnels"`
	MTU       int         `json:"mtu" doc:"least on the way, bytes; 0 without tunnel"`
	Forward   WalkSheet   `json:"forward"`
	Return    *WalkSheet  `json:"return,omitempty"`
	Overlays  []RuleTexts `json:"rules" doc:"the policies on the way"`
}

// RuleTexts is an overlay's policy in words, as far as a walk met it.
type RuleTexts struct {
	Overlay string   `json:"overlay"`
	Rules   []string `json:"rules"`
	Default string   `json:"default"`
}

// Followed writes a trace in keys, which was followed while something failed.
func (m *Map) Followed(t Trace, failing Failing) Followed {
	out := Followed{
		Arrives: t.Return != nil && t.Arrives(), Symmetric: t.Symmetric, MTU: t.MTU,
		Forward: *m.Sheet(&t.Forward, failing), Return: m.Sheet(t.Return, failing), Overlays: []RuleTexts{},
	}
	for i := range m.Plan.Overlays {
		o := &m.Plan.Overlays[i]
		spec := o.Spec
		met := slices.ContainsFunc(t.Forward.Steps, func(s Step) bool { return s.Overlay == spec.Key }) ||
			len(t.Forward.Steps) == 0 && t.Forward.End == Denied && o.Has(t.Forward.FromSite)
		if spec.Policy == nil || !met {
			continue
		}
		texts := RuleTexts{Overlay: spec.Key, Default: string(spec.Policy.Default), Rules: []string{}}
		for _, r := range spec.Policy.Rules {
			texts.Rules = append(texts.Rules, r.String())
		}
		out.Overlays = append(out.Overlays, texts)
	}
	return out
}
