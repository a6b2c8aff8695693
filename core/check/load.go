package check

import (
	"fmt"

	"wideknot/core/outage"
)

// load reports links and gateways that have more to carry than they can while
// nothing fails, by the same sums as Outages.
func load(in *Input, model *outage.Model, report func(Finding)) {
	p := in.Plan
	for _, c := range model.Crowded() {
		site := p.Site(c.Site)
		f := Finding{
			Code: "load/gateway", Severity: Warning,
			Title:    fmt.Sprintf("the gateway of %s has to carry %s Mbit/s on a capacity of %s with nothing down", site.Key, mbps(c.Load), mbps(c.Capacity)),
			Why:      "Traffic is dropped or delayed every day, not only in an outage.",
			Fix:      "Give the site a faster gateway, correct its throughput or the sites' demands, or take another hub first for some sites.",
			Subjects: []Subject{{Site: site.Key}},
		}
		if c.Link >= 0 {
			link := &site.Links[c.Link]
			f.Code = "load/link"
			f.Title = fmt.Sprintf("%s of %s has to carry %s Mbit/s on a capacity of %s with nothing down", link.Key, site.Key, mbps(c.Load), mbps(c.Capacity))
			f.Fix = "Rank a faster link before it, share the load, correct its bandwidth or the sites' demands, or take another hub first for some sites."
			f.Subjects[0].Link = link.Key
		}
		report(f)
	}
}

func mbps(n float64) string { return fmt.Sprintf("%.4g", n) }
