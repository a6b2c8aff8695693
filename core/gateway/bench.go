package gateway

import (
	"errors"
	"fmt"
)

// A Bench asks a gateway to load one of its tunnels, in steps up to a rate, and to count what
// arrives at the far end.
type Bench struct {
	Interface string `json:"interface"`
	Kbps      int    `json:"kbps"` // the most, of packets as they are in the tunnel
}

// A Benched is how a tunnel bore it, towards its far end. Answers are small, whatever the load.
type Benched struct {
	Size  int         `json:"size"` // of the packets that load it, in bytes
	Steps []BenchStep `json:"step"`
}

// A BenchStep is one rate for some time. Latencies are of the round trip, in microseconds.
type BenchStep struct {
	Kbps         int `json:"kbps"`         // that was sent
	ThereKbps    int `json:"there-kbps"`   // that arrived at the far end
	Milliseconds int `json:"milliseconds"` // that it lasted
	Sent         int `json:"sent"`         // packets
	There        int `json:"there"`        // of these, that arrived at the far end
	Back         int `json:"back"`         // answers that came
	LatencyUs    int `json:"latency,omitempty"`
	MaxLatencyUs int `json:"max-latency,omitempty"`
	JitterUs     int `json:"jitter,omitempty"`
}

// LossPercent is the part of a step that did not arrive.
func (s *BenchStep) LossPercent() float64 {
	if s.Sent == 0 {
		return 0
	}
	return 100 * float64(s.Sent-s.There) / float64(s.Sent)
}

// What a tunnel is loaded with at most, and in how many steps.
const (
	LeastBench    = 64        // kbit/s
	MostBench     = 1_000_000 // kbit/s
	MaxBenchSteps = 8
)

// BenchFits is the loss of a step, in hundredths, up to which a tunnel bears its rate.
const BenchFits = 1.0

// Check says what is wrong with a question.
func (b *Bench) Check() error {
	k := &checker{}
	k.device("an interface", b.Interface)
	k.number("a rate in kbit/s", b.Kbps, LeastBench, MostBench)
	return k.err
}

// Bears is the highest rate that arrived with hardly any loss, in kbit/s, and whether a higher one
// was tried that did not: then it is what the tunnel bears, or else at least that.
func (b *Benched) Bears() (kbps int, limit bool) {
	for i := range b.Steps {
		s := &b.Steps[i]
		if s.LossPercent() <= BenchFits {
			kbps = max(kbps, s.ThereKbps)
		} else {
			limit, kbps = true, max(kbps, s.ThereKbps)
		}
	}
	return kbps, limit
}

// ParseBenched reads the answer of a gateway.
func ParseBenched(text []byte) (*Benched, error) {
	var d struct {
		Output *Benched `json:"wideknot-gateway:output"`
	}
	if err := read(text, &d); err != nil {
		return nil, fmt.Errorf("how a tunnel bore it cannot be read: %w", err)
	}
	if d.Output == nil {
		return nil, errors.New("how a tunnel bore it cannot be read: there is no wideknot-gateway:output")
	}
	k := &checker{}
	k.count("steps", len(d.Output.Steps), MaxBenchSteps)
	k.number("a size", d.Output.Size, 0, 65535)
	for i := range d.Output.Steps {
		s := &d.Output.Steps[i]
		k.number("a rate", min(s.Kbps, s.ThereKbps), 0, 1<<31)
		k.number("a rate", max(s.Kbps, s.ThereKbps), 0, 1<<31)
		k.number("a time", s.Milliseconds, 0, 1<<20)
		k.number("a number of packets", s.Sent, 0, 1<<31)
		k.number("what arrived", min(s.There, s.Back), 0, s.Sent)
		k.number("what arrived", max(s.There, s.Back), 0, s.Sent)
		k.number("a latency", min(s.LatencyUs, s.MaxLatencyUs, s.JitterUs), 0, 1<<31)
	}
	if k.err != nil {
		return nil, fmt.Errorf("how a tunnel bore it cannot be read: %w", k.err)
	}
	return d.Output, nil
}
