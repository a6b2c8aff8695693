package gateway

import "fmt"

// A Hold asks a gateway to hold tunnels down for a time, as if their circuits were dead, or to take
// them for slow or lossy; or with no seconds to let them go.
type Hold struct {
	Interfaces []string `json:"interface"`
	As         HoldAs   `json:"as,omitempty"`
	Seconds    int      `json:"seconds,omitempty"`
}

// HoldAs is what held tunnels are taken for.
type HoldAs string

// What tunnels are taken for: what is slow or lossy is so beyond any limits, by the figures that
// are held to them, at both ends.
const (
	HoldDead  HoldAs = ""
	HoldSlow  HoldAs = "slow"
	HoldLossy HoldAs = "lossy"
)

// MaxHold is how long tunnels are held at most, in seconds.
const MaxHold = 3600

// Check says what is wrong with a question.
func (h *Hold) Check() error {
	k := &checker{}
	k.count("tunnels to hold", len(h.Interfaces), maxTunnels)
	k.number("how long they are held, in seconds,", h.Seconds, 0, MaxHold)
	if k.err == nil && h.As != HoldDead && h.As != HoldSlow && h.As != HoldLossy {
		k.err = fmt.Errorf("tunnels are not held as %q: slow, lossy, or neither", h.As)
	}
	if k.err == nil {
		each(k, "tunnel to hold", h.Interfaces, func(s *string) string { return *s }, func(s *string) { k.device("an interface", *s) })
	}
	return k.err
}
