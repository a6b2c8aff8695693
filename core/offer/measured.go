package offer

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"wideknot/core/estate"
)

// Measured is what a site's gateway measured for some time.
type Measured struct {
	Tunnels []MeasuredTunnel
	Links   []MeasuredLink
	Rates   []MeasuredRate // the newest first
}

// A MeasuredRate is what a tunnel of a WAN link bore one way, as packets are on the link.
type MeasuredRate struct {
	Link  string
	Up    bool
	Mbps  float64
	Limit bool    // more was tried, and was lost
	Far   float64 // the far link's figure of the other direction; 0 where it has none
	With  string  // the far end
	Day   string
}

// A MeasuredTunnel is one end of a tunnel: what half the time was not exceeded there and back, and
// the loss of one way, in hundredths.
type MeasuredTunnel struct {
	Link, Peer, PeerLink string
	LatencyMs, JitterMs  float64
	LossPercent          float64
	Hours                float64 // that this is of
}

// A MeasuredLink is how long a WAN link was looked at, and how much of it none of its tunnels
// lived.
type MeasuredLink struct {
	Link        string
	Hours       float64
	DownPercent float64
}

// How long must have been measured before a figure is compared, in hours.
const (
	enoughForQuality      = 1
	enoughForAvailability = 7 * 24
)

// Figures compares what was measured with the figures of a site's WAN links. What a link adds to a
// tunnel is what the tunnel has beyond the far link's figure (estate.Quality.Through); of all its
// tunnels the one in the middle counts, so that one far end with a wrong figure does not move it.
// A figure differs where it is off by more than measuring is.
func Figures(e *estate.Estate, key string, seen *Measured) (out []Item) {
	site := e.Site(key)
	if site == nil {
		return nil
	}
	for i := range site.Links {
		l := &site.Links[i]
		for _, up := range []bool{true, false} {
			if o, ok := rateOf(l, up, seen.Rates); ok {
				out = append(out, o)
			}
		}
		var latency, jitter, loss []float64
		for k := range seen.Tunnels {
			t := &seen.Tunnels[k]
			far := e.Site(t.Peer)
			if t.Link != l.Key || t.Hours < enoughForQuality || far == nil {
				continue
			}
			at := slices.IndexFunc(far.Links, func(f estate.Link) bool { return f.Key == t.PeerLink })
			if at < 0 {
				continue
			}
			f := &far.Links[at]
			latency = append(latency, max(0, t.LatencyMs-f.LatencyMs))
			jitter = append(jitter, max(0, t.JitterMs-f.JitterMs))
			loss = append(loss, max(0, 100-100*(100-t.LossPercent)/max(1, 100-f.LossPercent)))
		}
		if len(latency) > 0 {
			of := fmt.Sprintf(", by %d tunnels", len(latency))
			if len(latency) == 1 {
				of = ", by one tunnel"
			}
			out = append(out,
				figure(l, "latency", l.LatencyMs, middle(latency), 2, .15, " ms", of, "limits, and the choice between ways, count with it", func(l *estate.Link, v float64) { l.LatencyMs = v }),
				figure(l, "jitter", l.JitterMs, middle(jitter), 2, .5, " ms", of, "limits count with it", func(l *estate.Link, v float64) { l.JitterMs = v }),
				figure(l, "loss", l.LossPercent, middle(loss), .3, .5, " %", of, "limits count with it", func(l *estate.Link, v float64) { l.LossPercent = v }))
		}
		at := slices.IndexFunc(seen.Links, func(m MeasuredLink) bool { return m.Link == l.Key })
		if at < 0 || seen.Links[at].Hours < enoughForAvailability {
			continue
		}
		m := &seen.Links[at]
		out = append(out, figure(l, "availability", l.Availability, 100-m.DownPercent, .05, 0, " %", fmt.Sprintf(", in %.0f days", m.Hours/24), "availability is planned with it", func(l *estate.Link, v float64) { l.Availability = v }))
	}
	return out
}

// asTried is the part of a figure from which on a rate is as it is said: a gateway sends no more
// than 95 % of it by itself (operating.md, 3, Shaping).
const asTried = .9

// rateOf compares a link's rate with the last time that one of its tunnels was loaded. Where the
// far end's figure is no more than what was borne, the far end may be what bears no more.
func rateOf(l *estate.Link, up bool, rates []MeasuredRate) (Item, bool) {
	what, said, matters := "down rate", l.DownMbps, "what a site sends here is shaped by it, and outages count with it"
	set := func(l *estate.Link, v float64) { l.DownMbps = v }
	if up {
		what, said, matters = "up rate", l.UpMbps, "what leaves by it is shaped by it, and outages count with it"
		set = func(l *estate.Link, v float64) { l.UpMbps = v }
	}
	at := slices.IndexFunc(rates, func(r MeasuredRate) bool { return r.Link == l.Key && r.Up == up })
	if at < 0 {
		return Item{}, false
	}
	r := &rates[at]
	out := figure(l, what, said, r.Mbps, 0, 0, " Mbit/s", ", tried with "+r.With+" on "+r.Day, matters, set)
	less := r.Limit && (r.Far == 0 || r.Far > r.Mbps/asTried)
	out.Differs, out.Missing = less && said > 0 && r.Mbps < asTried*said, less && said == 0
	switch {
	case !out.Differs && !out.Missing:
		out.Matters = ""
	case r.Far > 0 && r.Far < said || said == 0:
		out.Matters += "; it may be the far end that passes no more: try another tunnel of this link as well"
	}
	if !r.Limit {
		out.Seen = "at least " + out.Seen
	}
	return out, true
}

// figure is one offer. One that is not in the survey is missing where it is more than nothing.
func figure(l *estate.Link, what string, said, seen, off, part float64, unit, of, matters string, set func(*estate.Link, float64)) Item {
	seen = rounded(seen)
	key := l.Key
	out := Item{
		ID: "link:" + key + ":" + strings.ReplaceAll(what, " ", "-"), About: what + " of WAN link " + key, Seen: number(seen) + unit + of,
		take: func(s *estate.Site) {
			for i := range s.Links {
				if s.Links[i].Key == key {
					set(&s.Links[i], seen)
				}
			}
		},
	}
	differs := math.Abs(seen-said) > max(off, part*said)
	if said > 0 {
		out.Survey = number(said) + unit
		out.Differs = differs
	} else {
		out.Missing = seen > off
	}
	if out.Differs || out.Missing {
		out.Matters = matters
	}
	return out
}

// rounded keeps what measuring can tell: three digits, and of availability those that count.
func rounded(v float64) float64 {
	if v == 0 {
		return 0
	}
	if v > 90 {
		return math.Round(v*1000) / 1000
	}
	scale := math.Pow(10, 2-math.Floor(math.Log10(v)))
	return math.Round(math.Round(v*scale)/scale*1000) / 1000
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// middle is the median.
func middle(list []float64) float64 {
	slices.Sort(list)
	if n := len(list); n%2 == 0 {
		return (list[n/2-1] + list[n/2]) / 2
	}
	return list[len(list)/2]
}
