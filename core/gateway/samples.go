package gateway

import (
	"errors"
	"fmt"
)

// Tiers are how many seconds a sample is of, the finest first. A sample of the next tier is
// merged from the samples of the one before.
var Tiers = [3]int{10, 60, 900}

// A Sample is what a gateway measured of itself over some seconds, one of Tiers. Sequence has no
// gaps within an epoch, but for what was dropped for want of room.
type Sample struct {
	Sequence Counter        `json:"sequence"`
	At       Time           `json:"at"` // when it began, by the gateway's clock
	Seconds  int            `json:"seconds"`
	Digest   string         `json:"digest"` // of what the gateway ran at its end
	Tunnels  []TunnelSample `json:"tunnel,omitempty"`
	Links    []LinkSample   `json:"link,omitempty"`
	Ways     []WayState     `json:"way,omitempty"` // at its end; merged: what was longest
}

// A TunnelSample is one end of a tunnel over some seconds.
type TunnelSample struct {
	Interface    string  `json:"interface"`
	Probes       int     `json:"probes,omitempty"` // that were judged
	Missed       int     `json:"missed,omitempty"` // of these, without an answer
	LostOut      int     `json:"lost-out,omitempty"`
	LostBack     int     `json:"lost-back,omitempty"`
	LatencyUs    int     `json:"latency,omitempty"` // mean of the round trips, in microseconds
	MaxLatencyUs int     `json:"max-latency,omitempty"`
	JitterUs     int     `json:"jitter,omitempty"` // mean difference between one round trip and the next
	BytesIn      Counter `json:"bytes-in,omitempty"`
	BytesOut     Counter `json:"bytes-out,omitempty"`
	Dead         int     `json:"dead,omitempty"` // seconds in which traffic did not go by it
}

// A LinkSample is a WAN link over some seconds. Bytes are those of its tunnels.
type LinkSample struct {
	Link     string  `json:"link"`
	BytesIn  Counter `json:"bytes-in,omitempty"`
	BytesOut Counter `json:"bytes-out,omitempty"`
	Down     int     `json:"down,omitempty"` // seconds in which none of its tunnels lived; of one without any, in which its next hop was silent
}

// Samples are what a gateway keeps until a server says that it has them.
type Samples struct {
	Epoch string   `json:"epoch"` // of the numbers: they begin anew in another
	Now   Time     `json:"now"`   // by the gateway's clock
	List  []Sample `json:"sample,omitempty"`
}

// MaxSampled is how many ends of tunnels one answer tells of: a sample counts for one at least.
const MaxSampled = 20_000

// Merge makes one sample of several of one tier, in their order. It has what the last one has;
// a tunnel that an earlier one lacks counts for nothing in it.
func Merge(list []Sample) Sample {
	last := &list[len(list)-1]
	out := Sample{At: list[0].At, Digest: last.Digest}
	tunnels := make(map[string][]*TunnelSample, len(last.Tunnels))
	links := make(map[string][]*LinkSample, len(last.Links))
	groups := make(map[int]map[int]int, len(last.Ways))
	for i := range list {
		s := &list[i]
		out.Seconds += s.Seconds
		for k := range s.Tunnels {
			tunnels[s.Tunnels[k].Interface] = append(tunnels[s.Tunnels[k].Interface], &s.Tunnels[k])
		}
		for k := range s.Links {
			links[s.Links[k].Link] = append(links[s.Links[k].Link], &s.Links[k])
		}
		if s.Digest != last.Digest {
			continue // numbers of ways are of a configuration
		}
		for _, w := range s.Ways {
			if groups[w.ID] == nil {
				groups[w.ID] = map[int]int{}
			}
			groups[w.ID][w.Group]++
		}
	}
	for i := range last.Tunnels {
		out.Tunnels = append(out.Tunnels, mergedTunnel(tunnels[last.Tunnels[i].Interface]))
	}
	for i := range last.Links {
		one := LinkSample{Link: last.Links[i].Link}
		for _, l := range links[one.Link] {
			one.BytesIn, one.BytesOut, one.Down = one.BytesIn+l.BytesIn, one.BytesOut+l.BytesOut, one.Down+l.Down
		}
		out.Links = append(out.Links, one)
	}
	for _, w := range last.Ways {
		for group, times := range groups[w.ID] {
			if most := groups[w.ID][w.Group]; times > most || times == most && group < w.Group {
				w.Group = group
			}
		}
		out.Ways = append(out.Ways, w)
	}
	return out
}

// mergedTunnel weighs what is a mean by the answers that it is of.
func mergedTunnel(list []*TunnelSample) TunnelSample {
	out := TunnelSample{Interface: list[0].Interface}
	answers, latency, jitter := 0, 0, 0
	for _, t := range list {
		n := t.Probes - t.Missed
		answers, latency, jitter = answers+n, latency+n*t.LatencyUs, jitter+n*t.JitterUs
		out.Probes, out.Missed, out.Dead = out.Probes+t.Probes, out.Missed+t.Missed, out.Dead+t.Dead
		out.LostOut, out.LostBack = out.LostOut+t.LostOut, out.LostBack+t.LostBack
		out.MaxLatencyUs = max(out.MaxLatencyUs, t.MaxLatencyUs)
		out.BytesIn, out.BytesOut = out.BytesIn+t.BytesIn, out.BytesOut+t.BytesOut
	}
	if answers > 0 {
		out.LatencyUs, out.JitterUs = latency/answers, jitter/answers
	}
	return out
}

// ParseSamples reads the answer of a gateway. It takes nothing that a gateway could not be.
func ParseSamples(text []byte) (*Samples, error) {
	var d struct {
		Output *Samples `json:"wideknot-gateway:output"`
	}
	if err := read(text, &d); err != nil {
		return nil, fmt.Errorf("the samples cannot be read: %w", err)
	}
	if d.Output == nil {
		return nil, errors.New("the samples cannot be read: there is no wideknot-gateway:output")
	}
	if err := d.Output.check(); err != nil {
		return nil, fmt.Errorf("the samples cannot be read: %w", err)
	}
	return d.Output, nil
}

func (s *Samples) check() error {
	k := &checker{}
	k.word("an epoch", s.Epoch)
	k.moment("the clock", s.Now)
	told := 0
	for i := range s.List {
		one := &s.List[i]
		told += max(1, len(one.Tunnels))
		k.count("ends of tunnels", told, MaxSampled+maxTunnels)
		k.count("links", len(one.Links), maxLinks)
		k.count("ways", len(one.Ways), maxWays)
		k.moment("a sample's time", one.At)
		if one.Digest != "" {
			k.word("a digest", one.Digest)
		}
		if one.Seconds != Tiers[0] && one.Seconds != Tiers[1] && one.Seconds != Tiers[2] {
			k.fail("a sample is of %d seconds", one.Seconds)
		}
		if i > 0 && one.Sequence <= s.List[i-1].Sequence {
			k.fail("sample %d follows %d", one.Sequence, s.List[i-1].Sequence)
		}
		if k.err == nil {
			k.sample(one)
		}
		if k.err != nil {
			return k.err
		}
	}
	return k.err
}

func (k *checker) sample(s *Sample) {
	const most = 1 << 31
	each(k, "tunnel", s.Tunnels, func(t *TunnelSample) string { return t.Interface }, func(t *TunnelSample) {
		k.device("an interface", t.Interface)
		k.number("a number of probes", t.Probes, 0, most)
		k.number("a number of misses", t.Missed, 0, t.Probes)
		k.number("what is lost", min(t.LostOut, t.LostBack), 0, most)
		k.number("what is lost", max(t.LostOut, t.LostBack), 0, most)
		k.number("a latency", min(t.LatencyUs, t.MaxLatencyUs, t.JitterUs), 0, most)
		k.number("a latency", max(t.LatencyUs, t.MaxLatencyUs, t.JitterUs), 0, most)
		k.number("how long it was dead", t.Dead, 0, s.Seconds)
	})
	each(k, "link", s.Links, func(l *LinkSample) string { return l.Link }, func(l *LinkSample) {
		k.word("a link", l.Link)
		k.number("how long it was down", l.Down, 0, s.Seconds)
	})
	each(k, "way", s.Ways, func(w *WayState) int { return w.ID }, func(w *WayState) { k.number("a group", w.Group, 0, maxTunnels) })
}

// moment is a time that must be there.
func (k *checker) moment(what string, t Time) {
	if _, ok := t.Seconds(); !ok {
		k.fail("%s is %.50q, which is no moment in UTC", what, string(t))
	}
}
