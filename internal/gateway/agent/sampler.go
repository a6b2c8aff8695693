package agent

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"slices"
	"sync"
	"time"

	"wideknot/core/gateway"
)

// roomForSamples is how many ends of tunnels, in all samples, are kept while no server takes
// them: about 50 MB at most; a gateway with 18 tunnels has room for three weeks.
const roomForSamples = 400_000

// mostOfTier is how many samples of each tier are kept: six hours, two days and three weeks.
var mostOfTier = [len(gateway.Tiers)]int{2160, 2880, 2016}

// A sampler measures the gateway at each step of the clock, and keeps what it measured until a
// server has it. The agent's owner measures; whoever asks reads.
type sampler struct {
	next  time.Time // when the finest sample ends; zero before the first
	whole bool      // it began where it should
	dead  map[string]int
	down  map[string]int
	bytes map[string][2]gateway.Counter // of tunnels, when the finest sample began
	parts [len(gateway.Tiers)][]gateway.Sample

	mu       sync.Mutex
	epoch    string
	sequence gateway.Counter
	kept     []gateway.Sample // by sequence
	ends     int              // of tunnels, in kept
}

func newSampler() *sampler {
	room := make([]byte, 8)
	_, _ = rand.Read(room) // never fails
	return &sampler{epoch: hex.EncodeToString(room), dead: map[string]int{}, down: map[string]int{}}
}

// sample is called about once a second.
func (a *Agent) sample() {
	s := a.sampler
	if a.running == nil {
		s.next = time.Time{}
		return
	}
	wall, now := a.Now(), time.Now()
	carries := map[string]int{} // link → 1 when it has tunnels, 2 when one of them lives
	a.prober.each(func(w *watched) {
		carries[w.tunnel.Link] = max(carries[w.tunnel.Link], 1)
		if w.alive(now) {
			carries[w.tunnel.Link] = 2
		} else {
			s.dead[w.tunnel.Interface]++
		}
	})
	for i := range a.running.Config.Links {
		if l := &a.running.Config.Links[i]; carries[l.Key] == 1 || carries[l.Key] == 0 && !a.circuit(l).up {
			s.down[l.Key]++
		}
	}
	if s.next.IsZero() {
		s.next, s.whole = wall.Truncate(step(0)).Add(step(0)), false
		return
	}
	if wall.Before(s.next) && s.next.Sub(wall) <= step(0) {
		return
	}
	began := s.next.Add(-step(0))
	late := wall.Sub(s.next) > step(0)/2 || wall.Before(s.next) // the clock was set, or the machine slept
	s.next = wall.Truncate(step(0)).Add(step(0))
	one, ok := a.measured()
	whole := s.whole && ok && !late
	if s.whole = ok && !late; !whole {
		s.parts = [len(gateway.Tiers)][]gateway.Sample{}
		return
	}
	one.At = moment(began)
	s.take(0, one, began)
}

func step(tier int) time.Duration { return time.Duration(gateway.Tiers[tier]) * time.Second }

// measured reads what the counters say since they were read last.
func (a *Agent) measured() (out gateway.Sample, ok bool) {
	s, c := a.sampler, a.running.Config
	r, err := a.plane.Read(c)
	if err != nil {
		return out, false
	}
	before, dead, down := s.bytes, s.dead, s.down
	s.bytes, s.dead, s.down = make(map[string][2]gateway.Counter, len(c.Tunnels)), map[string]int{}, map[string]int{}
	out = gateway.Sample{Seconds: gateway.Tiers[0], Digest: a.running.Digest}
	links := make(map[string]*gateway.LinkSample, len(c.Links))
	out.Links = make([]gateway.LinkSample, len(c.Links))
	for i := range c.Links {
		key := c.Links[i].Key
		out.Links[i] = gateway.LinkSample{Link: key, Down: min(down[key], out.Seconds)}
		links[key] = &out.Links[i]
	}
	a.prober.each(func(w *watched) {
		name := w.tunnel.Interface
		one := w.quality.lately.take(name)
		one.Dead = min(dead[name], out.Seconds)
		d := r.Tunnels[name]
		is := [2]gateway.Counter{gateway.Counter(d.In), gateway.Counter(d.Out)}
		s.bytes[name] = is
		if was, there := before[name]; there && was[0] <= is[0] && was[1] <= is[1] { // counters of a new device begin anew
			one.BytesIn, one.BytesOut = is[0]-was[0], is[1]-was[1]
		}
		if l := links[w.tunnel.Link]; l != nil {
			l.BytesIn, l.BytesOut = l.BytesIn+one.BytesIn, l.BytesOut+one.BytesOut
		}
		out.Tunnels = append(out.Tunnels, one)
	})
	for i := range c.Ways {
		out.Ways = append(out.Ways, gateway.WayState{ID: c.Ways[i].ID, Group: a.choice.Groups[i]})
	}
	return out, true
}

// take keeps a sample of a tier, and merges one of the next where that is full. A tier that
// began in its midst is no sample.
func (s *sampler) take(tier int, one gateway.Sample, began time.Time) {
	s.keep(one)
	if tier+1 == len(gateway.Tiers) {
		return
	}
	whole, size := gateway.Tiers[tier+1]/gateway.Tiers[tier], step(tier+1)
	if began.Equal(began.Truncate(size)) {
		s.parts[tier] = s.parts[tier][:0]
	}
	s.parts[tier] = append(s.parts[tier], one)
	if end := began.Add(step(tier)); !end.Equal(end.Truncate(size)) {
		return
	}
	if len(s.parts[tier]) == whole {
		s.take(tier+1, gateway.Merge(s.parts[tier]), began.Truncate(size))
	}
	s.parts[tier] = nil
}

// keep keeps a sample until a server has it, within bounds.
func (s *sampler) keep(one gateway.Sample) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sequence++
	one.Sequence = s.sequence
	s.kept = append(s.kept, one)
	s.ends += max(1, len(one.Tunnels))
	of := 0
	for i := range s.kept {
		if s.kept[i].Seconds == one.Seconds {
			of++
		}
	}
	if of > mostOfTier[slices.Index(gateway.Tiers[:], one.Seconds)] {
		s.drop(slices.IndexFunc(s.kept, func(k gateway.Sample) bool { return k.Seconds == one.Seconds }))
	}
	for s.ends > roomForSamples {
		s.drop(0)
	}
}

func (s *sampler) drop(i int) {
	s.ends -= max(1, len(s.kept[i].Tunnels))
	s.kept = slices.Delete(s.kept, i, i+1)
}

// Samples forgets the samples of an epoch up to a number, and returns the first that are left.
func (a *Agent) Samples(_ context.Context, epoch string, has gateway.Counter) (*gateway.Samples, error) {
	s := a.sampler
	s.mu.Lock()
	defer s.mu.Unlock()
	if epoch == s.epoch {
		for len(s.kept) > 0 && s.kept[0].Sequence <= has {
			s.drop(0)
		}
	}
	out := &gateway.Samples{Epoch: s.epoch, Now: moment(a.Now())}
	told := 0
	for i := range s.kept {
		if told += max(1, len(s.kept[i].Tunnels)); told > gateway.MaxSampled && i > 0 {
			break
		}
		out.List = append(out.List, s.kept[i])
	}
	return out, nil
}
