package agent

import (
	"net/netip"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
)

// ourTLV is the private type by which agents tell each other what they think of the
// tunnel; verdictVersion begins its value, then a byte of flags follows.
const (
	ourTLV         = stamp.FirstPrivate
	verdictVersion = 1
	saysDead       = 1 << 0
	saysBeyond     = 1 << 1 // its limits; of the end that decides
	saysSlow       = 1 << 2 // that it is to be taken for slow, or lossy, for a drill
	saysLossy      = 1 << 3
)

// refuses reports whether a probe gets no answer, and is not heard: it does not come by a
// tunnel of ours, or not from the gateway at its far end but from somebody behind that,
// who could say that a tunnel is dead; or it asks an address whose device carries
// nothing. That a LAN's cable is out must be seen where the LAN is what is probed.
func (p *prober) refuses(m stamp.Meta) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if m.TTL != stamp.MaxTTL || len(p.watched) == 0 || p.byIndex != nil && p.byIndex[m.Interface] == nil {
		return true
	}
	if w := p.byIndex[m.Interface]; w != nil && w.held(time.Now()) {
		return true
	}
	carries, known := p.carrying[m.Near]
	return known && !carries
}

// heard takes what a far end says of a tunnel.
func (p *prober) heard(packet []byte, m stamp.Meta) {
	value, ok := stamp.Find(packet, ourTLV)
	if !ok || len(value) < 2 || value[0] != verdictVersion {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	w := p.byIndex[m.Interface]
	if w == nil || !w.probes() {
		return
	}
	now := time.Now()
	was := w.alive(now)
	w.farDead, w.farSaid, w.farHeldAs = value[1]&saysDead != 0, now, gateway.HoldDead
	if value[1]&saysSlow != 0 {
		w.farHeldAs = gateway.HoldSlow
	} else if value[1]&saysLossy != 0 {
		w.farHeldAs = gateway.HoldLossy
	}
	if is := w.alive(now); is != was {
		if is { // servers ask when something is told, and would not know for seconds
			p.events(BothAlive, w.tunnel.Interface, "%s to %s/%s carries again: its far end says so too", w.tunnel.Interface, w.tunnel.Peer, w.tunnel.PeerLink)
		}
		p.signal(p.changed)
		p.retell(now)
	}
	if beyond := value[1]&saysBeyond != 0; !w.decides && beyond != w.beyond {
		p.tellLimits(w, beyond, ", by what the far end measures")
	}
	if p.hear(value[2:], w.tunnel.Peer, w.tunnel.Overlay, now) {
		p.signal(p.changed)
		p.tellSoon(now)
	}
}

// compare says once when the two ends differ for longer than either needs to see.
func (p *prober) compare(w *watched, now time.Time) {
	probe := w.tunnel.Probe
	if now.Sub(w.farSaid) > detection(probe) || w.farDead == w.life.dead {
		if w.farDead && now.Sub(w.farSaid) > detection(probe) { // it says nothing any more
			w.farDead = false
			p.signal(p.changed)
			p.retell(now)
		}
		w.disagrees, w.told = time.Time{}, false
		return
	}
	if w.disagrees.IsZero() {
		w.disagrees = now
	}
	if !w.told && now.Sub(w.disagrees) > detection(probe) {
		w.told = true
		here, there := "alive", "dead"
		if w.life.dead {
			here, there = there, here
		}
		p.events(Disagree, w.tunnel.Interface, "%s to %s/%s is %s by the probes of this end and %s by those of the far end: it carries nothing", w.tunnel.Interface, w.tunnel.Peer, w.tunnel.PeerLink, here, there)
	}
}

// announcing marks the session of a packet that is sent for what it tells alone: no
// answer is waited for.
const announcing = 1 << 15

// send sends a packet through a tunnel, with what this end says.
func (p *prober) send(w *watched, packet stamp.Packet) {
	conn := p.conns[w.far.Is4()]
	if conn == nil || w.held(time.Now()) {
		return
	}
	flags := byte(0)
	if w.life.dead {
		flags |= saysDead
	}
	if w.decides && w.beyond {
		flags |= saysBeyond
	}
	now := time.Now()
	if now.Before(w.heldUntil) && w.heldAs == gateway.HoldSlow {
		flags |= saysSlow
	} else if now.Before(w.heldUntil) && w.heldAs == gateway.HoldLossy {
		flags |= saysLossy
	}
	value := append(make([]byte, 0, 512), verdictVersion, flags)
	for _, o := range p.told {
		if o.telling.Overlay == w.tunnel.Overlay {
			value = o.append(value, now, fresh(w.tunnel.Probe))
		}
	}
	text := stamp.AppendTLV(packet.Append(make([]byte, 0, 128+len(value))), ourTLV, value)
	// What cannot be sent is as good as lost: it has no answer.
	_ = conn.Write(text, stamp.Meta{Far: netip.AddrPortFrom(w.far, stamp.Port), Near: w.near, Interface: w.index})
}
