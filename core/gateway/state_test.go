package gateway

import (
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"
)

func fullState() *State {
	const at = Time("2026-11-30T12:00:00Z")
	return &State{
		Site: "tarn", At: at, Release: 3, Digest: "ab12", Line: LineState{Up: true, Since: at, Server: "one"}, Clock: ClockState{Synchronised: true, OffsetMs: -20},
		Links: []LinkState{{Link: "fibre", Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.2")}, NextHopUp: true, NamesUp: true, SeenOutside: netip.MustParseAddr("203.0.113.2"), PathMTU: 1492}},
		Tunnels: []TunnelState{{
			Interface: "weir-1", Up: true, Since: at, HandshakeS: 12, BytesIn: 1 << 63, BytesOut: 7, Endpoint: netip.MustParseAddrPort("198.51.100.1:51820"), Sent: 10, Answered: 9,
			LatencyUs: 1500, JitterUs: 20, LossOutPPM: 1000, LossBackPPM: 5, PathMTU: 1420,
		}},
		Ways: []WayState{{FirstWay, 1}}, HeldWays: []WayState{{FirstWay + 2*WayNumbers, 2}}, Rules: []RuleState{{Overlay: "ops", Rule: 1, Packets: 3, Bytes: 300}},
	}
}

func TestStateIsReadBack(t *testing.T) {
	text, err := WriteState(fullState())
	if err != nil {
		t.Fatal(err)
	}
	again, err := ParseState(text)
	if err != nil || !reflect.DeepEqual(again, fullState()) {
		t.Errorf("%v\n%+v\n%s", err, again, text)
	}
	for _, change := range [][2]string{{`"weir-1"`, `"weir 1"`}, {`"9223372036854775808"`, `9223372036854775808`}, {`"9223372036854775808"`, `"18446744073709551616"`}, {`"9223372036854775808"`, `"-1"`}, {`"9223372036854775808"`, `"07"`},
		{`"2026-11-30T12:00:00Z"`, `"2026-11-30 12:00:00Z"`}, {`"2026-11-30T12:00:00Z"`, `"2026-11-30T12:00:00"`}, {`"2026-11-30T12:00:00Z"`, `"2026-11-30T12:00:00.Z"`}, {`"2026-11-30T12:00:00Z"`, `"2026-11-30T12:00:00+1:00"`},
		{`"loss-out": 1000`, `"loss-out": 1000001`}, {`"fibre"`, `""`}, {`"release": 3`, `"release": -3`}, {`"up": true`, `"up": "yes"`}, {`"path-mtu": 1420`, `"path-mtu": 70000`}} {
		spoiled := strings.Replace(string(text), change[0], change[1], 1)
		if spoiled == string(text) {
			t.Fatalf("nothing to spoil: %s", change[0])
		}
		if _, err := ParseState([]byte(spoiled)); err == nil {
			t.Errorf("%s is taken", change[1])
		}
	}
}

// Of what a gateway says in its own words so much is kept as can be shown.
func TestWordsOfAGatewayAreCut(t *testing.T) {
	long := fullState()
	long.Trial.LastReason, long.Trial.Trouble = strings.Repeat("ä", maxReason), "a\xffb"
	text, err := WriteState(long)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ParseState(text)
	if err != nil || s.Trial.LastReason != strings.Repeat("ä", maxReason/2) || s.Trial.Trouble != "a\ufffdb" {
		t.Errorf("%v: %d bytes, %q", err, len(s.Trial.LastReason), s.Trial.Trouble)
	}
	long.Trial.LastReason = "x" + long.Trial.LastReason // half a letter is none
	if text, err = WriteState(long); err != nil {
		t.Fatal(err)
	}
	if s, err = ParseState(text); err != nil || len(s.Trial.LastReason) != maxReason-1 {
		t.Errorf("%v: %d bytes", err, len(s.Trial.LastReason))
	}
}

func TestMoments(t *testing.T) {
	for text, want := range map[Time]bool{
		"": true, "2026-11-30T12:00:00Z": true, "2026-11-30T12:00:00.123456789+01:00": true, "2026-11-30T12:00:00-11:30": true,
		"2026-11-30T12:00:00": false, "2026-11-3XT12:00:00Z": false, "2026-11-30T12:00:00.5": false, "2026-11-30T12:00:00z": false, "2026-11-30T12:00:00+01:0x": false, "2026-11-30T12:00:00Z ": false,
	} {
		if text.valid() != want {
			t.Errorf("%q: %v", text, !want)
		}
	}
}

func FuzzParseState(f *testing.F) {
	text, err := WriteState(fullState())
	if err != nil {
		f.Fatal(err)
	}
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := ParseState(text)
		if err != nil {
			return
		}
		again, err := WriteState(s)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := ParseState(again); err != nil {
			t.Errorf("%v\n%s", err, again)
		}
	})
}

// Seconds agrees with the standard library for every kind of day.
func TestSeconds(t *testing.T) {
	for at := time.Date(1960, 1, 1, 3, 4, 5, 0, time.UTC); at.Year() < 2410; at = at.Add(11*24*time.Hour + 7919*time.Second) {
		text := at.Format(time.RFC3339)
		if got, ok := Time(text).Seconds(); !ok || int64(got) != at.Unix() {
			t.Fatalf("%s: %d, not %d", text, got, at.Unix())
		}
	}
	for _, text := range []string{"0000-01-01T00:00:00Z", "0000-03-01T00:00:00Z", "1972-02-29T23:59:59Z", "2000-02-29T12:00:00Z", "2026-12-01T08:00:00.25Z"} {
		at, err := time.Parse(time.RFC3339, text)
		if got, ok := Time(text).Seconds(); err != nil || !ok || int64(got) != at.Unix() {
			t.Errorf("%s: %d, %v, not %d", text, got, ok, at.Unix())
		}
	}
	for _, text := range []string{"", "2026-12-01T08:00:00+01:00", "2026-13-01T08:00:00Z", "2026-00-01T08:00:00Z", "2026-12-32T08:00:00Z", "yesterday"} {
		if got, ok := Time(text).Seconds(); ok {
			t.Errorf("%q: %d", text, got)
		}
	}
}
