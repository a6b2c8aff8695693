package gateway

// A Hold asks a gateway to hold tunnels down for a time, as if their circuits were dead, or with no
// seconds to let them go.
type Hold struct {
	Interfaces []string `json:"interface"`
	Seconds    int      `json:"seconds,omitempty"`
}

// MaxHold is how long tunnels are held down at most, in seconds.
const MaxHold = 3600

// Check says what is wrong with a question.
func (h *Hold) Check() error {
	k := &checker{}
	k.count("tunnels to hold", len(h.Interfaces), maxTunnels)
	k.number("how long they are held, in seconds,", h.Seconds, 0, MaxHold)
	if k.err == nil {
		each(k, "tunnel to hold", h.Interfaces, func(s *string) string { return *s }, func(s *string) { k.device("an interface", *s) })
	}
	return k.err
}
