package agent

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"slices"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/stamp"
)

// In our TLV, behind what an end says of the tunnel, hubs tell which sites they reach.
// Each list is 8 octets of version, 8 of the edition (a later one of the same hub is
// greater), a hub's number (2), its age in units of 10 ms (2), the number of octets (2),
// and a bit for each site, number 1 first: set where the adjacency lives. A hub sends its
// own and passes on those of others.
const listHeader = 22

// mostTold is how long what is told may be: it must fit into the narrowest tunnel. The
// own list of the largest overlay that tells has 1,022 octets.
const mostTold = 1150

// ageUnit is what ages are counted in.
const ageUnit = 10 * time.Millisecond

// gatherTelling is how long changes are gathered before they are told at once.
const gatherTelling = 5 * time.Millisecond

// A told is what this gateway knows of one overlay whose hubs tell.
type told struct {
	telling *gateway.Telling
	version [8]byte
	peers   map[string]int // site → its number
	hub     bool           // this gateway is one
	own     []byte
	edition uint64            // of own: when it changed last, in microseconds
	turn    int               // which hub's list is passed on first, where not all fit into a packet
	lists   map[int]*toldList // by hub, without this one
}

// A toldList is what a hub said, and when.
type toldList struct {
	bits    []byte
	edition uint64
	at      time.Time
}

func newTold(t *gateway.Telling) *told {
	out := &told{telling: t, peers: map[string]int{}, hub: slices.Contains(t.Hubs, t.Me), own: make([]byte, (t.Sites+7)/8), lists: map[int]*toldList{}}
	_, _ = hex.Decode(out.version[:], []byte(t.Version)) // Check saw to it
	for _, p := range t.Peers {
		out.peers[p.Site] = p.Number
	}
	return out
}

func bit(bits []byte, number int) bool {
	at := number - 1
	return at >= 0 && at/8 < len(bits) && bits[at/8]&(1<<(at%8)) != 0
}

// retell works out which neighbours this gateway reaches, and reports whether that
// changed.
func (o *told) retell(list map[string]*watched, now time.Time) bool {
	next := make([]byte, len(o.own))
	for _, w := range list {
		if n := o.peers[w.tunnel.Peer]; n > 0 && w.tunnel.Overlay == o.telling.Overlay && w.alive(now) {
			next[(n-1)/8] |= 1 << ((n - 1) % 8)
		}
	}
	if o.edition > 0 && bytes.Equal(next, o.own) {
		return false
	}
	o.own, o.edition = next, max(o.edition+1, uint64(now.UnixMicro()))
	return true
}

// lives reports whether the tunnels between two sites do, as far as this gateway sees
// itself or was told within the last fresh; of what it was not told, the design holds.
func (o *told) lives(a, b int, now time.Time, fresh time.Duration) bool {
	switch o.telling.Me {
	case a:
		return bit(o.own, b)
	case b:
		return bit(o.own, a)
	}
	for _, pair := range [2][2]int{{a, b}, {b, a}} {
		if l := o.lists[pair[0]]; l != nil && now.Sub(l.at) < fresh && !bit(l.bits, pair[1]) {
			return false
		}
	}
	return true
}

// append adds the lists that are told in this overlay.
func (o *told) append(text []byte, now time.Time, fresh time.Duration) []byte {
	one := func(hub int, bits []byte, edition uint64, age time.Duration) {
		text = append(text, o.version[:]...)
		text = binary.BigEndian.AppendUint64(text, edition)
		text = binary.BigEndian.AppendUint16(text, uint16(hub))
		text = binary.BigEndian.AppendUint16(text, uint16(min(age/ageUnit, 0xffff)))
		text = binary.BigEndian.AppendUint16(text, uint16(len(bits)))
		text = append(text, bits...)
	}
	if !o.hub {
		return text
	}
	one(o.telling.Me, o.own, o.edition, 0)
	o.turn++
	for i := range o.telling.Hubs {
		hub := o.telling.Hubs[(o.turn+i)%len(o.telling.Hubs)]
		if l := o.lists[hub]; l != nil && now.Sub(l.at) < fresh && len(text)+listHeader+len(l.bits) <= mostTold {
			one(hub, l.bits, l.edition, now.Sub(l.at)+ageUnit)
		}
	}
	return text
}

// hear takes lists that came from a neighbour, and reports whether one says something
// new. What is no list of a hub, or of another version, is passed over; so is what a site
// says that is no hub.
func (p *prober) hear(text []byte, peer, overlay string, now time.Time) (news bool) {
	for len(text) >= listHeader {
		size := int(binary.BigEndian.Uint16(text[20:]))
		if len(text) < listHeader+size {
			return news
		}
		edition, hub := binary.BigEndian.Uint64(text[8:]), int(binary.BigEndian.Uint16(text[16:]))
		at := now.Add(-time.Duration(binary.BigEndian.Uint16(text[18:])) * ageUnit)
		bits := text[listHeader : listHeader+size]
		for _, o := range p.told {
			t := o.telling
			if !bytes.Equal(o.version[:], text[:8]) || t.Overlay != overlay || size != len(o.own) || hub == t.Me || !slices.Contains(t.Hubs, hub) || !slices.Contains(t.Hubs, o.peers[peer]) {
				continue
			}
			l := o.lists[hub]
			if l == nil || now.Sub(l.at) > forgotten {
				l = &toldList{}
				o.lists[hub] = l
			}
			switch {
			case edition > l.edition:
				news = news || !bytes.Equal(l.bits, bits)
				*l = toldList{bytes.Clone(bits), edition, at}
			case edition == l.edition && at.After(l.at):
				l.at = at
			}
		}
		text = text[listHeader+size:]
	}
	return news
}

// forgotten is after what silence a hub may begin anew with earlier editions, as its
// clock was set back.
const forgotten = time.Minute

// fresh is how long what a tunnel's far end told is believed: three intervals.
func fresh(p *gateway.Probe) time.Duration { return intervals(p, 3) + gatherTelling }

// retell works out anew what is told; where that changed it is told at once.
func (p *prober) retell(now time.Time) {
	for _, o := range p.told {
		if o.retell(p.watched, now) {
			p.signal(p.changed)
			p.tellSoon(now)
		}
	}
}

// tellSoon has news told: at once where nothing was told lately, else a third of an
// interval after that. A failure kills many tunnels one after the other, and each hub
// passes on what others tell.
func (p *prober) tellSoon(now time.Time) {
	if !p.tellAt.IsZero() || len(p.queue) == 0 || !slices.ContainsFunc(p.told, func(o *told) bool { return o.hub }) {
		return
	}
	gap := intervals(p.queue[0].tunnel.Probe, 1) / 3
	p.tellAt = now.Add(max(gatherTelling, gap-now.Sub(p.toldLast)))
	p.signal(p.wake)
}

// tellNow tells each neighbour, by the first of its tunnels that lives.
func (p *prober) tellNow(now time.Time) {
	p.tellAt, p.toldLast = time.Time{}, now
	best := map[[2]string]*watched{}
	for _, w := range p.queue {
		key := [2]string{w.tunnel.Overlay, w.tunnel.Peer}
		// What was not answered yet may still wait for its turn to shake hands.
		if b := best[key]; w.index != 0 && w.quality.Answered > 0 && w.alive(now) && (b == nil || w.tunnel.Rank < b.tunnel.Rank) {
			best[key] = w
		}
	}
	for _, w := range best {
		if slices.ContainsFunc(p.told, func(o *told) bool { return o.hub && o.telling.Overlay == w.tunnel.Overlay }) {
			p.send(w, stamp.Packet{Timestamp: stamp.At(now), Session: w.session.ID | announcing})
		}
	}
}

// firsts returns, for each telling, at which neighbour the best living path to each
// site begins; an empty name where none lives.
func (p *prober) firsts() []map[int]string {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	p.retell(now)
	longest := time.Duration(0)
	for _, w := range p.watched {
		if w.probes() {
			longest = max(longest, fresh(w.tunnel.Probe))
		}
	}
	var out []map[int]string
	for _, o := range p.told {
		names := map[int]string{}
		for _, peer := range o.telling.Peers {
			names[peer.Number] = peer.Site
		}
		one := make(map[int]string, len(o.telling.To))
		for _, to := range o.telling.To {
			one[to.Number] = names[o.telling.First(to.Number, func(a, b int) bool { return o.lives(a, b, now, longest) })]
		}
		out = append(out, one)
	}
	return out
}
