package main

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"time"

	"wideknot/core/outage"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A question is a probe and what was predicted of it.
type question struct {
	probe
	want route.Trace
}

// Counts say how much was compared.
type Counts struct {
	Pairs, Ways, Failures, Verdicts, MTUs int
	Packets                               int           // that arrived on both planes
	Echoes                                int           // of gateways that asked each other
	Again                                 int           // asked again, as agents saw a tunnel die that was only late
	Slowest                               time.Duration // that an agent was in seeing a tunnel die
}

func (c *Counts) add(d Counts) {
	c.Pairs += d.Pairs
	c.Ways += d.Ways
	c.Failures += d.Failures
	c.Verdicts += d.Verdicts
	c.MTUs += d.MTUs
	c.Packets += d.Packets
	c.Echoes += d.Echoes
	c.Again += d.Again
	c.Slowest = max(c.Slowest, d.Slowest)
}

// A round compares one estate with its predictions.
type round struct {
	w      *world
	f      *field
	m      *route.Map
	random *rand.Rand
	counts Counts
	wrong  []string // differences, in words
}

// How long a probe may take: far longer than any way here.
const (
	patience = 300 * time.Millisecond
	tries    = 6
	lag      = 100 * time.Millisecond // who watches interfaces may be behind
)

// questions lists what is asked: every subnet of a site from every one of
// another site, by the address as the overlays see it, and some of the internet.
func (r *round) questions() (out []*question) {
	p := r.m.Plan
	protocols := []string{"udp"}
	if slices.ContainsFunc(p.Overlays, func(o tunnel.Overlay) bool { return o.Spec.Policy != nil }) {
		protocols = append(protocols, "tcp", "icmp")
	}
	for a := range p.Estate.Sites {
		for _, from := range p.Site(a).Subnets {
			ask := func(to netip.Addr) {
				if to.Is4() != from.Prefix.Addr().Is4() {
					return
				}
				for _, protocol := range protocols {
					q := &question{probe: probe{from: hostOn(from.Prefix), to: to, site: a, protocol: protocol}}
					if protocol != "icmp" {
						q.port = openPorts[r.random.IntN(len(openPorts))]
					}
					out = append(out, q)
				}
			}
			for b := range p.Estate.Sites {
				if a == b {
					continue
				}
				for j := range p.Site(b).Subnets {
					n := &p.Site(b).Subnets[j]
					ask(hostOn(n.Taking()))
				}
			}
			for _, to := range internet {
				ask(to)
			}
		}
	}
	return out
}

// predict says what becomes of each question while some tunnels fail, and
// leaves out those about which nothing can be said.
func (r *round) predict(all []*question, failing route.Failing) (out []*question) {
	for _, q := range all {
		q.want = r.m.FollowIn(failing, route.Packet{From: q.from, To: q.to, Protocol: q.protocol, Port: q.port})
		partly := q.want.Forward.Partly || q.want.Return != nil && q.want.Return.Partly
		if q.want.Forward.End != route.Unknown && !partly {
			out = append(out, q)
		}
	}
	return out
}

// arrives and comes say whether the question, and its answer, should arrive.
func (q *question) arrives() bool {
	// What goes out for an address that is nobody's there finds nobody.
	return q.want.Forward.End == route.Delivered || q.want.Forward.End == route.Leaves && len(q.want.Forward.Steps) > 0 && slices.Contains(internet, q.to)
}

// away says whether it leaves by the site's own link.
func (q *question) away() bool {
	return q.want.Forward.End == route.Leaves && len(q.want.Forward.Steps) == 0
}

// getsOut says whether what leaves by the site's own link is seen to arrive.
func (r *round) getsOut(q *question) bool {
	return q.away() && q.protocol == "udp" && slices.Contains(internet, q.to) && r.w.online(q.site, q.to.Is4())
}

func (q *question) comes() bool {
	return q.arrives() && q.want.Return != nil && q.want.Return.End == route.Delivered
}

// done reports whether all that should happen did.
func (q *question) done() bool {
	return q.answered.Load() || !q.comes() && q.asked.Load()
}

// ask sends questions until all that should be answered are, and then once more
// those that should not.
func (r *round) ask(all []*question) error {
	send := func(list []*question, wait time.Duration) error {
		probes := make([]*probe, len(list))
		for i, q := range list {
			probes[i] = &q.probe
		}
		return r.f.send(probes, wait)
	}
	var good, bad []*question
	for _, q := range all {
		if q.comes() || q.protocol == "udp" && q.arrives() || r.getsOut(q) {
			good = append(good, q)
		} else {
			bad = append(bad, q)
		}
	}
	for try := range tries {
		if err := send(good, patience*time.Duration(1+try)); err != nil {
			return err
		}
		good = slices.DeleteFunc(good, func(q *question) bool { return q.done() })
		if len(good) == 0 {
			break
		}
	}
	for range 3 { // a handshake that was lost is tried again after 5 s
		if len(good) == 0 {
			break
		}
		time.Sleep(5500 * time.Millisecond)
		if err := send(good, 3*patience); err != nil {
			return err
		}
		good = slices.DeleteFunc(good, func(q *question) bool { return q.done() })
	}
	return send(bad, patience)
}

// judge compares what was seen of a question with what was predicted.
func (r *round) judge(q *question, when string) {
	say := func(format string, args ...any) {
		there, back := r.seen(q, 'Q'), r.seen(q, 'R')
		r.wrong = append(r.wrong, fmt.Sprintf("%s, %s to %s by %s, port %d: %s\n    predicted: %s\n    seen: there %s, arrived %v; back %s, arrived %v",
			when, q.from, q.to, q.protocol, q.port, fmt.Sprintf(format, args...), r.tell(q), there, q.asked.Load(), back, q.answered.Load()))
	}
	r.counts.Verdicts++
	away := q.away()
	if q.protocol != "udp" { // of which no more is seen
		if q.answered.Load() != q.comes() && !away {
			say("whether the answer arrives")
		}
		return
	}
	switch {
	case !away && q.asked.Load() != q.arrives():
		say("whether it arrives")
		return
	case away && slices.Contains(internet, q.to) && q.asked.Load() != r.getsOut(q):
		say("whether it leaves by the site's own link")
		return
	case q.answered.Load() != q.comes() && !away:
		say("whether the answer arrives")
		return
	}
	if q.want.Forward.End == route.Leaves && !away {
		if source, _ := q.seenFrom.Load().(netip.Addr); source.IsValid() {
			if site, ok := r.w.outside[source]; !ok || site != q.want.Forward.Where {
				say("it leaves under %s", source)
				return
			}
		}
	}
	if !q.arrives() && !away {
		return
	}
	r.counts.Ways++
	there, ok := r.way(q, &q.want.Forward, 'Q')
	if !ok {
		say("the way there")
		return
	}
	if q.comes() {
		back, ok := r.way(q, q.want.Return, 'R')
		if !ok {
			say("the way back")
			return
		}
		if q.want.Symmetric {
			slices.Reverse(back)
			if !slices.Equal(there, back) {
				say("there and back differ")
			}
		}
	}
}

// way returns the tunnels that a packet took, and whether they are those
// predicted.
func (r *round) way(q *question, want *route.Walk, kind byte) (took []*tunnel.Tunnel, ok bool) {
	left := map[int][]string{}
	for site := range r.w.gateways {
		for _, device := range r.w.watched.of(q.number, site, kind) {
			if r.w.ends[[2]string{r.m.Plan.Site(site).Key, device}] != nil {
				left[site] = append(left[site], device)
			}
		}
	}
	for _, s := range want.Steps {
		hops := append([]route.Hop{s.Hop}, s.Beside...)
		if len(left[s.Site]) == 0 {
			return took, false
		}
		device := left[s.Site][0]
		left[s.Site] = left[s.Site][1:]
		at := slices.IndexFunc(hops, func(h route.Hop) bool { return h.Interface == device })
		if at < 0 {
			return took, false
		}
		_, _, t := r.m.Plan.At(hops[at].End)
		took = append(took, t)
	}
	for _, rest := range left {
		if len(rest) > 0 {
			return took, false
		}
	}
	return took, true
}

// seen tells by which devices a packet left the gateways.
func (r *round) seen(q *question, kind byte) string {
	var out []string
	for site := range r.w.gateways {
		for _, device := range r.w.watched.of(q.number, site, kind) {
			out = append(out, r.m.Plan.Site(site).Key+">"+device)
		}
	}
	return strings.Join(out, " ")
}

func (r *round) tell(q *question) string {
	words := func(w *route.Walk) string {
		if w == nil {
			return "nothing"
		}
		var out []string
		for _, s := range w.Steps {
			out = append(out, r.m.Plan.Site(s.Site).Key+">"+s.Hop.Interface)
		}
		where := "?"
		if w.Where >= 0 {
			where = r.m.Plan.Site(w.Where).Key
		}
		return strings.Join(append(out, string(w.End)+" at "+where, w.Why), " ")
	}
	return "there " + words(&q.want.Forward) + "; back " + words(q.want.Return)
}

// compare asks everything, then again while each part of the estate has failed
// that may, as many as most, and those that are named; and looks at the MTU of ways.
func (r *round) compare(most int, named []string) error {
	all := r.questions()
	pairs := r.predict(all, route.Failing{})
	r.counts.Pairs += len(pairs)
	if err := r.hold(pairs, route.Failing{}, "nothing failed"); err != nil {
		return err
	}
	if err := r.sizes(pairs); err != nil {
		return err
	}
	if err := r.echoes(); err != nil {
		return err
	}
	model := outage.New(r.m)
	parts := model.Parts()
	r.random.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
	parts = parts[:min(most, len(parts))]
	for _, text := range named {
		part, err := outage.ParsePart(text)
		if err != nil {
			return err
		}
		parts = append(parts, part)
	}
	for _, part := range parts {
		failing, err := model.Kills(part)
		if err != nil {
			return err
		}
		r.w.watched.forget()
		if err := r.w.fail(failing); err != nil {
			return err
		}
		r.counts.Failures++
		if err := r.hold(r.predict(all, failing), failing, part.String()+" failed"); err != nil {
			return err
		}
	}
	return r.w.fail(route.Failing{})
}

// hold asks and judges. A busy machine may be late with a probe's answer: what differs
// where agents keep the gateways is asked once more when they have seen it is not so.
func (r *round) hold(list []*question, failing route.Failing, when string) error {
	if err := r.ask(list); err != nil {
		return err
	}
	time.Sleep(lag)
	before := len(r.wrong)
	var differ []*question
	for _, q := range list {
		was := len(r.wrong)
		if r.judge(q, when); len(r.wrong) > was {
			differ = append(differ, q)
		}
	}
	if !r.w.agents || len(differ) == 0 {
		return nil
	}
	r.wrong, r.counts.Again = r.wrong[:before], r.counts.Again+len(differ)
	if _, err := r.w.settle(failing); err != nil {
		return err
	}
	r.w.watched.forget()
	for _, q := range differ {
		q.asked.Store(false)
		q.answered.Store(false)
	}
	if err := r.ask(differ); err != nil {
		return err
	}
	time.Sleep(lag)
	for _, q := range differ {
		r.judge(q, when)
	}
	return nil
}

// sizes sends packets of exactly the MTU predicted, and one byte more.
func (r *round) sizes(pairs []*question) error {
	r.w.watched.forget()
	var fit, wide []*probe
	least := map[[2]any]int{} // a host knows one MTU for an address, from wherever it asks
	for _, q := range pairs {
		at := [2]any{q.site, q.to}
		if had, ok := least[at]; q.want.MTU > 0 && (!ok || q.want.MTU < had) {
			least[at] = q.want.MTU
		}
	}
	for _, q := range pairs {
		// The tunnels that share a load may have MTUs of their own.
		if q.protocol != "udp" || q.want.Forward.End != route.Delivered || !q.comes() || q.want.MTU == 0 || slices.ContainsFunc(q.want.Forward.Steps, func(s route.Step) bool { return len(s.Beside) > 0 }) {
			continue
		}
		fit = append(fit, &probe{from: q.from, to: q.to, site: q.site, protocol: "udp", port: q.port, size: q.want.MTU})
		wide = append(wide, &probe{from: q.from, to: q.to, site: q.site, protocol: "udp", port: q.port, size: q.want.MTU + 1})
	}
	known := func(p *probe) bool { return p.tooBig == p.size-1 || p.tooBig == least[[2]any{p.site, p.to}] }
	for _, step := range []struct {
		probes []*probe
		pass   bool
	}{{fit, true}, {wide, false}} {
		left := slices.Clone(step.probes)
		for range tries {
			if err := r.f.send(left, patience); err != nil {
				return err
			}
			left = slices.DeleteFunc(left, func(p *probe) bool {
				return p.asked.Load() == step.pass && (step.pass || known(p))
			})
			if len(left) == 0 {
				break
			}
		}
		for _, p := range step.probes {
			r.counts.MTUs++
			switch {
			case p.asked.Load() != step.pass:
				r.wrong = append(r.wrong, fmt.Sprintf("a packet of %d bytes from %s to %s: arrived %v", p.size, p.from, p.to, p.asked.Load()))
			case !step.pass && !known(p):
				r.wrong = append(r.wrong, fmt.Sprintf("a packet of %d bytes from %s to %s is too big, but the host takes the MTU for %d", p.size, p.from, p.to, p.tooBig))
			}
		}
	}
	return nil
}
