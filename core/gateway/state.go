package gateway

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
)

// Time is a moment by RFC 3339, such as 2026-11-30T12:00:00Z: what a gateway's clock
// said. It is empty where there was none.
type Time string

// valid reports whether the text has the form of a moment.
func (t Time) valid() bool {
	const form = "0000-00-00T00:00:00"
	if t == "" {
		return true
	}
	if len(t) <= len(form) || len(t) > 40 {
		return false
	}
	digit := func(b byte) bool { return b >= '0' && b <= '9' }
	for i := range len(form) {
		if form[i] == '0' && !digit(t[i]) || form[i] != '0' && t[i] != form[i] {
			return false
		}
	}
	zone := string(t[len(form):])
	if zone[0] == '.' {
		after := strings.TrimLeft(zone[1:], "0123456789")
		if len(after) == len(zone)-1 {
			return false
		}
		zone = after
	}
	return zone == "Z" || len(zone) == 6 && (zone[0] == '+' || zone[0] == '-') && digit(zone[1]) && digit(zone[2]) && zone[3] == ':' && digit(zone[4]) && digit(zone[5])
}

// Seconds counts those since 1970 of a moment in UTC, as a gateway writes them; ok is false for any
// other text. Days are counted from 1 March of the year 0, in eras of 400 years, as then the leap
// day is the last of a year (proleptic Gregorian calendar, ISO 8601).
func (t Time) Seconds() (seconds int, ok bool) {
	if !t.valid() || t == "" || t[len(t)-1] != 'Z' {
		return 0, false
	}
	field := func(from, to int) (n int) {
		for _, digit := range []byte(t[from:to]) {
			n = n*10 + int(digit-'0')
		}
		return n
	}
	year, month, day := field(0, 4), field(5, 7), field(8, 10)
	if month < 1 || month > 12 || day < 1 || day > 31 {
		return 0, false
	}
	if month <= 2 {
		year--
	}
	era, of := year/400, year%400
	if year < 0 {
		era, of = -1, year+400
	}
	days := era*146097 + of*365 + of/4 - of/100 + (153*((month+9)%12)+2)/5 + day - 1 - 719468
	return days*86400 + field(11, 13)*3600 + field(14, 16)*60 + field(17, 19), true
}

// A State is what a gateway reports of itself. Times are of the gateway's clock.
type State struct {
	Site    string        `json:"site,omitempty"` // of what it runs; empty where nothing was applied yet
	At      Time          `json:"at"`
	Release int           `json:"release,omitempty"` // that it runs; 0 where it was told none
	Digest  string        `json:"digest,omitempty"`  // of what it runs
	Trial   TrialState    `json:"trial,omitzero"`
	Line    LineState     `json:"line,omitzero"`
	Clock   ClockState    `json:"clock,omitzero"`
	Links   []LinkState   `json:"link,omitempty"`
	Tunnels []TunnelState `json:"tunnel,omitempty"`
	Ways    []WayState    `json:"way,omitempty"`
	// HeldWays are those of what is held to limits, where these can set tunnels apart: by the
	// numbers of Config.Spread.
	HeldWays []WayState  `json:"held-way,omitempty"`
	Rules    []RuleState `json:"filter-rule,omitempty"`
}

// TrialState is what is being tried, and how the last trial ended.
type TrialState struct {
	Token       string `json:"token,omitempty"`
	Left        int    `json:"seconds-left,omitempty"`
	LastToken   string `json:"last-token,omitempty"`
	LastOutcome string `json:"last-outcome,omitempty"` // confirmed or went-back
	LastReason  string `json:"last-reason,omitempty"`  // of going back
	Trouble     string `json:"trouble,omitempty"`      // why the last applying failed
}

// LineState is the line to a server.
type LineState struct {
	Up     bool   `json:"up,omitempty"`
	Since  Time   `json:"since,omitempty"`
	Server string `json:"server,omitempty"`
}

// ClockState says whether something keeps the clock right, and by how much it was
// last found wrong.
type ClockState struct {
	Synchronised bool `json:"synchronised,omitempty"`
	OffsetMs     int  `json:"offset,omitempty"` // fast is positive
}

// LinkState is what is seen of a WAN link by itself, whatever its tunnels do.
type LinkState struct {
	Link        string       `json:"link"`
	Addresses   []netip.Addr `json:"address,omitempty"`
	NextHopUp   bool         `json:"next-hop-answers,omitempty"`
	NamesUp     bool         `json:"name-service-answers,omitempty"`
	SeenOutside netip.Addr   `json:"seen-outside,omitzero"` // the address by which others see it
	PathMTU     int          `json:"path-mtu,omitempty"`
}

// TunnelState is one end of a tunnel.
type TunnelState struct {
	Interface   string         `json:"interface"`
	Up          bool           `json:"up,omitempty"`
	Since       Time           `json:"since,omitempty"`
	HandshakeS  int            `json:"handshake-age,omitempty"` // seconds; 0 where there was none
	BytesIn     Counter        `json:"bytes-in,omitempty"`
	BytesOut    Counter        `json:"bytes-out,omitempty"`
	Endpoint    netip.AddrPort `json:"endpoint,omitzero"` // where the far end was last heard from
	Sent        Counter        `json:"probes-sent,omitempty"`
	Answered    Counter        `json:"probes-answered,omitempty"`
	LatencyUs   int            `json:"latency,omitempty"` // of the round trip, in microseconds
	JitterUs    int            `json:"jitter,omitempty"`
	LossOutPPM  int            `json:"loss-out,omitempty"` // in a million, of what this end sent
	LossBackPPM int            `json:"loss-back,omitempty"`
	PathMTU     int            `json:"path-mtu,omitempty"`
	Beyond      bool           `json:"beyond-limits,omitempty"` // of its probe profile
	Held        bool           `json:"held,omitempty"`          // for a drill, or not back from one
	SteadyIn    int            `json:"steady-in,omitempty"`     // seconds: it came and went, is answered again, and is kept out for so long
	KeptOff     Counter        `json:"kept-off,omitempty"`      // packets of zones that its links are not for
}

// WayState is the group that a way uses; 0 when none lives.
type WayState struct {
	ID    int `json:"id"`
	Group int `json:"group"`
}

// Carries tells which tunnels some way uses, by the ways of what the gateway runs.
func (s *State) Carries(ways []Way) map[string]bool {
	used := make(map[int]int, len(s.Ways))
	for _, w := range s.Ways {
		used[w.ID] = w.Group
	}
	out := map[string]bool{}
	for i := range ways {
		w := &ways[i]
		if group := used[w.ID]; group > 0 && group <= len(w.Groups) {
			for _, m := range w.Groups[group-1].Members {
				out[m.Interface] = true
			}
		}
	}
	return out
}

// RuleState counts what a rule of a policy decided.
type RuleState struct {
	Overlay string  `json:"overlay"`
	Rule    int     `json:"rule"` // 0 for what no rule names
	Packets Counter `json:"packets,omitempty"`
	Bytes   Counter `json:"bytes,omitempty"`
}

// A Counter has 64 bits, which JSON by RFC 7951 has as a text.
type Counter uint64

// MarshalText writes the number in decimal.
func (c Counter) MarshalText() ([]byte, error) { return fmt.Appendf(nil, "%d", uint64(c)), nil }

// UnmarshalText reads a decimal number and nothing else.
func (c *Counter) UnmarshalText(text []byte) error {
	var n uint64
	for _, digit := range text {
		d := uint64(digit - '0')
		if digit < '0' || digit > '9' || n > (1<<64-1-d)/10 {
			return fmt.Errorf("%q is no number of 64 bits", text)
		}
		n = n*10 + d
	}
	if len(text) == 0 || len(text) > 1 && text[0] == '0' {
		return fmt.Errorf("%q is no number of 64 bits", text)
	}
	*c = Counter(n)
	return nil
}

// WriteState returns a state as JSON by RFC 7951 and the module wideknot-gateway.
func WriteState(s *State) ([]byte, error) { return write(document[State]{State: s}) }

// ParseState reads what WriteState writes. It takes nothing that a gateway could not
// be: whoever reports may be anybody.
func ParseState(text []byte) (*State, error) {
	var d document[State]
	if err := read(text, &d); err != nil {
		return nil, fmt.Errorf("the state cannot be read: %w", err)
	}
	if d.State == nil || d.Gateway != nil {
		return nil, errors.New("the state cannot be read: it has no wideknot-gateway:state alone")
	}
	if err := d.State.check(); err != nil {
		return nil, fmt.Errorf("the state cannot be read: %w", err)
	}
	for _, words := range []*string{&d.State.Trial.LastReason, &d.State.Trial.Trouble} {
		*words = strings.ToValidUTF8((*words)[:min(len(*words), maxReason)], "")
	}
	return d.State, nil
}

// maxReason is how much is kept of what a gateway says in its own words, in bytes.
const maxReason = 4000

func (s *State) check() error {
	k := &checker{}
	if s.Site != "" { // where nothing was applied yet
		k.word("the site", s.Site)
	}
	k.time(s.At)
	k.time(s.Line.Since)
	k.number("a release", s.Release, 0, 1<<31)
	if s.Digest != "" {
		k.word("a digest", s.Digest)
	}
	if s.Line.Server != "" {
		k.word("a server", s.Line.Server)
	}
	k.count("bytes of a trial's token", max(len(s.Trial.Token), len(s.Trial.LastToken)), 255)
	k.number("what is left of a trial, in seconds,", s.Trial.Left, 0, 1<<31)
	if how := s.Trial.LastOutcome; how != "" && how != "confirmed" && how != "went-back" {
		k.fail("a trial ended as %.20q", how)
	}
	k.number("an offset", s.Clock.OffsetMs, -1<<40, 1<<40)
	k.count("links", len(s.Links), maxLinks)
	k.count("tunnels", len(s.Tunnels), maxTunnels)
	k.count("ways", len(s.Ways)+len(s.HeldWays), maxWays)
	k.count("rules", len(s.Rules), maxRules)
	if k.err != nil {
		return k.err
	}
	each(k, "link", s.Links, func(l *LinkState) string { return l.Link }, k.linkState)
	each(k, "tunnel", s.Tunnels, func(t *TunnelState) string { return t.Interface }, func(t *TunnelState) {
		k.device("an interface", t.Interface)
		k.time(t.Since)
		k.addr("an endpoint", t.Endpoint.Addr())
		k.number("a path MTU", t.PathMTU, 0, 65535)
		k.number("a handshake's age", t.HandshakeS, 0, 1<<31)
		k.number("a time until it is steady", t.SteadyIn, 0, 1<<31)
		k.number("a latency", min(t.LatencyUs, t.JitterUs), 0, 1<<31)
		k.number("a latency", max(t.LatencyUs, t.JitterUs), 0, 1<<31)
		k.number("a loss", t.LossOutPPM, 0, 1_000_000)
		k.number("a loss", t.LossBackPPM, 0, 1_000_000)
	})
	each(k, "way", s.Ways, func(w *WayState) int { return w.ID }, func(w *WayState) { k.number("a group", w.Group, 0, maxTunnels) })
	each(k, "way of what is held to limits", s.HeldWays, func(w *WayState) int { return w.ID }, func(w *WayState) { k.number("a group", w.Group, 0, maxTunnels) })
	each(k, "rule", s.Rules, func(r *RuleState) string { return fmt.Sprint(r.Overlay, " ", r.Rule) }, func(r *RuleState) {
		k.word("an overlay", r.Overlay)
		k.number("a rule", r.Rule, 0, 1<<20)
	})
	return k.err
}

func (k *checker) linkState(l *LinkState) {
	k.word("a link", l.Link)
	k.count("addresses", len(l.Addresses), 64)
	for _, a := range append([]netip.Addr{l.SeenOutside}, l.Addresses...) {
		k.addr("an address of a link", a)
	}
	k.number("a path MTU", l.PathMTU, 0, 65535)
}

func (k *checker) time(t Time) {
	if !t.valid() {
		k.fail("%.50q is no moment", string(t))
	}
}
