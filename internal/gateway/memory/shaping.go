package memory

import (
	"slices"
	"sync"
	"time"

	"wideknot/core/gateway"
)

// A shaper is how one WAN link gives way, as a kernel's tree of classes does: what leaves by all
// its tunnels, before it is encrypted, keeps to 95 % of the link, so that the queue stands here.
// Each class has the least that is its own, and what is over goes to them in their order.
type shaper struct {
	mu      sync.Mutex
	whole   bucket
	classes []shaped // in the order in which they take what is over
	most    int      // packets that may wait in a class
	waiting int
	timer   *time.Timer
}

// shaped is a class of a shaper.
type shaped struct {
	bucket
	queue []leaving
}

// leaving is a packet that waits.
type leaving struct {
	size int
	send func()
}

// A bucket fills at a rate, in bytes a second, up to what may leave at once.
type bucket struct {
	rate, holds float64
	at          time.Time
}

// Classes of what is in no zone that gives way; those of zones follow.
const (
	probeClass = iota
	otherClass
)

const burstMs = 15 // of what may leave at once

// fill brings a bucket to the present.
func (b *bucket) fill(now time.Time) {
	b.holds = min(b.rate*burstMs/1000+1600, b.holds+b.rate*now.Sub(b.at).Seconds())
	b.at = now
}

// newShaper makes one for a rate in kbit/s, with so many zones that give way.
func newShaper(rate, zones int, now time.Time) *shaper {
	of := func(kbps int) bucket {
		b := bucket{rate: float64(kbps) * 1000 / 8, at: now}
		b.holds = b.rate*burstMs/1000 + 1600
		return b
	}
	least := max(8, rate/100)
	s := &shaper{whole: of(rate), most: max(20, rate*1000/20/(1500*8))}
	s.classes = append(s.classes, shaped{bucket: of(max(8, rate/20))}, shaped{bucket: of(max(least, rate-rate/20-least*zones))})
	for range zones {
		s.classes = append(s.classes, shaped{bucket: of(least)})
	}
	return s
}

// push lets a packet of a class leave at once, or when it is its turn; where too many wait it is
// lost.
func (s *shaper) push(class, size int, send func()) {
	s.mu.Lock()
	now := time.Now()
	s.whole.fill(now)
	c := &s.classes[class]
	if s.waiting == 0 && s.whole.holds > 0 {
		c.fill(now)
		s.whole.holds -= float64(size)
		c.holds -= float64(size)
		s.mu.Unlock()
		send()
		return
	}
	if len(c.queue) < s.most {
		c.queue = append(c.queue, leaving{size, send})
		s.waiting++
		s.wake()
	}
	s.mu.Unlock()
}

// wake sees to it that what waits goes on; under the lock.
func (s *shaper) wake() {
	if s.timer == nil && s.waiting > 0 {
		short := max(0, 1-s.whole.holds) / s.whole.rate
		s.timer = time.AfterFunc(time.Duration(short*float64(time.Second))+time.Millisecond, s.drain)
	}
}

// drain lets leave what the link takes by now.
func (s *shaper) drain() {
	s.mu.Lock()
	now := time.Now()
	s.whole.fill(now)
	for i := range s.classes {
		s.classes[i].fill(now)
	}
	var leave []func()
	for s.waiting > 0 && s.whole.holds > 0 {
		// Those that have not had their own yet are first.
		at := slices.IndexFunc(s.classes, func(c shaped) bool { return len(c.queue) > 0 && c.holds > 0 })
		if at < 0 {
			at = slices.IndexFunc(s.classes, func(c shaped) bool { return len(c.queue) > 0 })
		}
		c := &s.classes[at]
		one := c.queue[0]
		c.queue = c.queue[1:]
		c.holds = max(c.holds-float64(one.size), -c.rate*burstMs/1000-1600)
		s.whole.holds -= float64(one.size)
		s.waiting--
		leave = append(leave, one.send)
	}
	s.timer = nil
	s.wake()
	s.mu.Unlock()
	action(leave).run()
}

// shape makes the shapers that a configuration asks for; those that are as they should be stay.
// Under the lock.
func (m *Machine) shape(c *gateway.Config) {
	was := m.shapers
	m.shapers = map[string]*shaper{}
	if !c.Shapes() {
		return
	}
	for i := range c.Links {
		l := &c.Links[i]
		if l.Up <= 0 {
			continue
		}
		is := newShaper(max(1, l.Up*95/100), len(c.Shaping), time.Now())
		if have := was[l.Key]; have != nil && have.whole.rate == is.whole.rate && len(have.classes) == len(is.classes) {
			is = have
		}
		m.shapers[l.Key] = is
	}
}

// classOf finds the class of a packet that leaves by a tunnel, as it is before its source is
// translated: probes, others, and zones that give way, of which the first gives way first. Its
// zone is the first of either of its addresses.
func (m *Machine) classOf(in *info) int {
	if in.protocol == ProtoUDP && (in.dport == probePort || in.sport == probePort) {
		return probeClass
	}
	for i := 0; m.config != nil && i < len(m.config.Shaping); i++ {
		s := &m.config.Shaping[i]
		if within(s.Here, in.src) || within(s.Beyond, in.src) || within(s.Here, in.dst) || within(s.Beyond, in.dst) {
			return otherClass + len(m.config.Shaping) - i
		}
	}
	return otherClass
}
