package agent

import (
	"net/netip"
	"time"

	"wideknot/internal/gateway/stamp"
)

// How large a packet may be on its way through a tunnel and back is measured by padded
// probes that are never cut up: first of the MTU that the plan gives the tunnel; where
// they get no answer although others do, the largest that does is looked for in steps.
const (
	sizeStep  = 16
	sizeTries = 3
	sizeEvery = 5 * time.Minute
	sizeFirst = 5 * time.Second // after the tunnel came to life
	leastSize = 576             // every IPv4 network takes that (RFC 791, 3.2)
)

// sizing marks the sessions of padded probes.
const sizing = 1 << 14

// A sizer looks for the path MTU of one tunnel.
type sizer struct {
	session   stamp.Session
	next      time.Time
	size      int // what is tried, 0 while nothing is
	low, high int // the largest that was answered, the least that was not
	tries     int
	found     int // 0 where nothing was found yet
}

// begin starts a search, from the top.
func (s *sizer) begin(mtu int) { s.size, s.low, s.high, s.tries = mtu, 0, mtu+1, 0 }

// answered and missed take how a try ended; done is true when the search is over.
func (s *sizer) answered() (done bool) {
	s.low, s.tries = s.size, 0
	return s.advance()
}

func (s *sizer) missed() (done bool) {
	if s.tries++; s.tries < sizeTries {
		return false
	}
	s.high, s.tries = s.size, 0
	return s.advance()
}

func (s *sizer) advance() (done bool) {
	low := max(s.low, leastSize)
	if s.high-low <= sizeStep || s.high <= leastSize {
		s.found, s.size = s.low, 0
		return true
	}
	s.size = low + max(1, (s.high-low)/2/sizeStep)*sizeStep
	return false
}

// measure goes on with the search of a tunnel that lives.
func (p *prober) measure(w *watched, now time.Time) {
	s := &w.sizer
	if !w.alive(now) || w.quality.Answered == 0 {
		s.size, s.next = 0, now.Add(sizeFirst)
		s.session.Void()
		return
	}
	for s.size > 0 {
		if _, late := s.session.Overdue(now); !late {
			break
		}
		if s.missed() {
			p.measured(w, now)
		}
	}
	if s.size == 0 {
		if now.Before(s.next) {
			return
		}
		s.begin(w.tunnel.MTU)
	}
	if s.session.Out() == 0 {
		packet := s.session.Next(now)
		headers := 28
		if w.far.Is6() {
			headers = 48
		}
		text := stamp.Pad(packet.Append(make([]byte, 0, s.size)), s.size-headers)
		if conn := p.conns[w.far.Is4()]; conn != nil {
			_ = conn.Write(text, stamp.Meta{Far: netip.AddrPortFrom(w.far, stamp.Port), Near: w.near, Interface: w.index}) // as good as lost
		}
	}
}

// sized takes an answer to a padded probe.
func (p *prober) sized(w *watched, r *stamp.Reflection, at time.Time) {
	if _, ok := w.sizer.session.Answer(r, at); ok && w.sizer.size > 0 && w.sizer.answered() {
		p.measured(w, time.Now())
	}
}

// measured says where the path does not take what the plan gives the tunnel.
func (p *prober) measured(w *watched, now time.Time) {
	s := &w.sizer
	s.next = now.Add(sizeEvery)
	if before := w.toldSize; before != s.found {
		w.toldSize = s.found
		switch {
		case s.found < w.tunnel.MTU:
			p.events(PathMTU, w.tunnel.Interface, "%s to %s/%s takes packets of %d bytes at most; the plan gives it %d", w.tunnel.Interface, w.tunnel.Peer, w.tunnel.PeerLink, s.found, w.tunnel.MTU)
		case before != 0:
			p.events(PathMTU, w.tunnel.Interface, "%s to %s/%s takes packets of %d bytes again, as planned", w.tunnel.Interface, w.tunnel.Peer, w.tunnel.PeerLink, s.found)
		}
	}
}
