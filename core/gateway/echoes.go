package gateway

import (
	"errors"
	"fmt"
	"net/netip"
)

// An Echo is a question that a gateway asks from one of its own addresses: whether an answer
// comes from another one, how large it may be, and by whom it goes.
type Echo struct {
	From netip.Addr `json:"from"`
	To   netip.Addr `json:"to"`
	// Size is the whole packet in bytes, which nothing may cut up; where that gets no answer a
	// small one is tried.
	Size int  `json:"size,omitempty"`
	Hops bool `json:"hops,omitempty"` // who passes it on is asked for, too
}

// An Echoed is how a question ended.
type Echoed struct {
	From      netip.Addr   `json:"from"`
	To        netip.Addr   `json:"to"`
	Answered  int          `json:"answered,omitempty"`   // bytes of what was answered; 0 for nothing
	Missed    int          `json:"missed,omitempty"`     // questions that got no answer before
	RoundTrip int          `json:"round-trip,omitempty"` // in microseconds
	Hops      []netip.Addr `json:"hop,omitempty"`        // of gateways on the way there, in order; unspecified for one that says nothing, behind which, at the end, there may be more
	Words     string       `json:"words,omitempty"`      // what a gateway on the way said against it
}

// What a gateway is asked at once, and what its questions may be.
const (
	MaxEchoes    = 500
	SmallEcho    = 84 // bytes: what a usual question of IPv4 has
	MaxEchoSize  = 9216
	MaxEchoHops  = 8
	maxEchoWords = 200
)

// CheckEchoes says what is wrong with questions.
func CheckEchoes(list []Echo) error {
	if len(list) > MaxEchoes {
		return fmt.Errorf("%d echoes are asked for, and %d may be at once", len(list), MaxEchoes)
	}
	for i := range list {
		e := &list[i]
		k := &checker{}
		k.addr("an address", e.From)
		k.addr("an address", e.To)
		k.number("the size of an echo", e.Size, 0, MaxEchoSize)
		switch {
		case k.err != nil:
			return k.err
		case !e.From.IsValid() || !e.To.IsValid():
			return errors.New("an echo is from an address to another")
		case e.From.Is4() != e.To.Is4():
			return fmt.Errorf("an echo from %v cannot go to %v: they are of two families", e.From, e.To)
		}
	}
	return nil
}

// ParseEchoed reads the answers of a gateway.
func ParseEchoed(text []byte) ([]Echoed, error) {
	var d struct {
		Output struct {
			Answers []Echoed `json:"answer"`
		} `json:"wideknot-gateway:output"`
	}
	if err := read(text, &d); err != nil {
		return nil, fmt.Errorf("the echoes cannot be read: %w", err)
	}
	list := d.Output.Answers
	k := &checker{}
	k.count("echoes", len(list), MaxEchoes)
	for i := range list {
		e := &list[i]
		k.addr("an address", e.From)
		k.addr("an address", e.To)
		k.number("the size of an echo", e.Answered, 0, MaxEchoSize)
		k.number("questions without an answer", e.Missed, 0, 255)
		k.number("a round trip", e.RoundTrip, 0, 1<<31-1)
		k.count("hops", len(e.Hops), MaxEchoHops)
		k.count("characters of what was said", len(e.Words), maxEchoWords)
		for _, a := range e.Hops {
			k.addr("a hop", a)
		}
	}
	if k.err != nil {
		return nil, fmt.Errorf("the echoes cannot be read: %w", k.err)
	}
	return list, nil
}
