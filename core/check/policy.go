package check

import (
	"fmt"
	"slices"

	"wideknot/core/estate"
	"wideknot/core/route"
)

// clauses reports policy rules that cannot do what they say.
func clauses(in *Input, report func(Finding)) {
	for i := range in.Plan.Overlays {
		policy := in.Routes.Policy(i)
		if policy == nil {
			continue
		}
		key := in.Plan.Overlays[i].Spec.Key
		subjects := []Subject{{Overlay: key}}
		for j := range policy.Rules {
			r := &policy.Rules[j]
			name := fmt.Sprintf("rule %d of %s (%s)", j+1, key, r.Spec)
			if r.From.Empty() || r.To.Empty() {
				report(Finding{
					Code: "policy/dead", Severity: Warning, Subjects: subjects,
					Title: name + " can never match",
					Why:   "No subnet that takes part has the zone or lies at the site it names.",
					Fix:   "Correct the rule, or delete it.",
				})
				continue
			}
			if k := slices.IndexFunc(policy.Rules[:j], func(earlier route.Clause) bool { return in.covers(&earlier, r) }); k >= 0 {
				f := Finding{
					Code: "policy/shadowed", Severity: Warning, Subjects: subjects,
					Title:    fmt.Sprintf("%s is shadowed by rule %d", name, k+1),
					Evidence: []string{fmt.Sprintf("rule %d: %s", k+1, policy.Rules[k].Spec)},
					Why:      "The first rule that matches decides, and the earlier one matches all this one would.",
					Fix:      "Move the rule up, or narrow the earlier one.",
				}
				if policy.Rules[k].Spec.Action == r.Spec.Action {
					f.Severity, f.Why, f.Fix = Note, "It is redundant: the earlier rule does the same for more traffic.", "Delete it."
				}
				report(f)
				continue
			}
			in.returns(policy, j, name, subjects, report)
		}
	}
}

// returns reports a permit whose answers an earlier rule denies, and a denial
// that under a permitting default lets sessions start whose answers it denies.
func (in *Input) returns(policy *route.Policy, j int, name string, subjects []Subject, report func(Finding)) {
	r := &policy.Rules[j]
	against := func(other *route.Clause) bool {
		return in.Routes.Meet(&other.From, &r.To) && in.Routes.Meet(&other.To, &r.From) &&
			len(other.Spec.Ports) == 0 && protocolsMeet(other.Spec.Protocol, r.Spec.Protocol)
	}
	if r.Spec.Action == estate.Permit {
		k := slices.IndexFunc(policy.Rules[:j], func(other route.Clause) bool { return other.Spec.Action == estate.Deny && against(&other) })
		if k >= 0 {
			report(Finding{
				Code: "policy/return", Severity: Warning, Subjects: subjects,
				Title: fmt.Sprintf("%s permits sessions whose replies rule %d denies", name, k+1),
				Why:   "Packets arrive, and no replies come back: the hardest failure to trace.",
				Fix:   fmt.Sprintf("Move the permit above rule %d; a permit lets replies pass from where it stands.", k+1),
			})
		}
		return
	}
	if policy.Default == estate.Permit && len(r.Spec.Ports) == 0 &&
		!slices.ContainsFunc(policy.Rules, func(other route.Clause) bool {
			return other.Spec.Action == estate.Deny && in.covers(&other, &route.Clause{Spec: estate.Rule{Protocol: r.Spec.Protocol}, From: r.To, To: r.From})
		}) {
		report(Finding{
			Code: "policy/one-way", Severity: Warning, Subjects: subjects,
			Title: fmt.Sprintf("%s also denies replies to sessions from the other side", name),
			Why:   "The default permits such sessions; their replies are dropped here.",
			Fix:   "Deny the other direction too, or permit it above this rule.",
		})
	}
}

// covers reports whether whatever the second clause matches the first matches
// too.
func (in *Input) covers(outer, inner *route.Clause) bool {
	if p := outer.Spec.Protocol; p != "" && p != "any" && p != inner.Spec.Protocol {
		return false
	}
	for _, text := range inner.Spec.Ports {
		low, high := route.PortRange(text)
		if len(outer.Spec.Ports) > 0 && !slices.ContainsFunc(outer.Spec.Ports, func(o string) bool {
			from, to := route.PortRange(o)
			return from <= low && high <= to
		}) {
			return false
		}
	}
	if len(outer.Spec.Ports) > 0 && len(inner.Spec.Ports) == 0 {
		return false
	}
	return in.Routes.Within(&inner.From, &outer.From) && in.Routes.Within(&inner.To, &outer.To)
}

func protocolsMeet(a, b string) bool {
	any := func(p string) bool { return p == "" || p == "any" }
	return any(a) || any(b) || a == b
}
