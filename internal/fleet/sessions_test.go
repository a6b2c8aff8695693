package fleet

import (
	"context"
	"net/netip"
	"slices"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/internal/gateway/memory"
)

// What a host has open through a tunnel is listed at both ends, by its own addresses; it is forgotten
// where that is asked for, and keys are agreed anew without losing more than what was on its way.
func TestSessionsOfATunnel(t *testing.T) {
	e := read(t, "two-hubs")
	s := stand(t, e)
	s.up(30 * time.Second)
	at := func(site string) *Site { return s.World.Site(site) }
	from, to := e.Site("tarn").Subnets[0].Prefix.Addr().Next().Next(), e.Site("first").Subnets[0].Prefix.Addr().Next().Next()
	ask := func() Result {
		t.Helper()
		ctx, done := context.WithTimeout(t.Context(), 300*time.Millisecond)
		defer done()
		r, err := s.Ask(ctx, "tarn", from, to, memory.ProtoTCP, 443, 100, 64)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	sessions := func(site, name string, reset gateway.Reset) *gateway.Sessions {
		t.Helper()
		out, err := at(site).Agent.Sessions(t.Context(), &gateway.SessionsOrder{Interface: name, Reset: reset})
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	ours := func(is *gateway.Sessions) bool {
		return slices.ContainsFunc(is.Flows, func(f gateway.Flow) bool {
			return f.Protocol == memory.ProtoTCP && f.From.Addr() == from && f.To == netip.AddrPortFrom(to, 443) && f.From.Port() != 0
		})
	}
	ask() // which calls the far end first
	if got := ask(); got.Outcome != Answered {
		t.Fatalf("%+v", got)
	}
	for site, name := range map[string]string{"tarn": "first-1", "first": "tarn-2"} {
		if is := sessions(site, name, ""); !ours(is) || len(is.Keys) != 1 || is.Keys[0].HandshakeS == 0 || is.Keys[0].BytesIn == 0 {
			t.Errorf("%s %s: %+v", site, name, is)
		}
	}
	site := slices.IndexFunc(e.Sites, func(x estate.Site) bool { return x.Key == "tarn" })
	for range 2 { // of one host to another: they have no ports to tell them apart
		s.echo(site, from, to)
	}
	echoes := 0
	for _, f := range sessions("tarn", "first-1", "").Flows {
		if f.Protocol == memory.ProtoICMP {
			echoes++
		}
	}
	if echoes != 1 {
		t.Errorf("echoes are listed %d times", echoes)
	}
	if is := sessions("tarn", "second-2", ""); ours(is) {
		t.Errorf("it is listed by the tunnel that stands by: %+v", is)
	}
	if is := sessions("tarn", "first-1", gateway.ResetFlows); !ours(is) || is.Ended < len(is.Flows) {
		t.Errorf("what was open and is ended: %+v", is)
	}
	if is := sessions("tarn", "first-1", ""); ours(is) {
		t.Errorf("it is open still: %+v", is)
	}
	for _, end := range [][2]string{{"tarn", "first-1"}, {"first", "tarn-2"}} { // who calls, and who is called
		for range 5 {
			ask() // so that more came by the keys of before than does by the new ones
		}
		before := sessions(end[0], end[1], gateway.ResetKeys).Keys[0]
		began := time.Now()
		for until := began.Add(5 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			now := sessions(end[0], end[1], "").Keys
			if len(now) == 1 && now[0].Key == before.Key && now[0].HandshakeS > 0 && now[0].BytesIn < before.BytesIn && ask().Outcome == Answered {
				break
			}
			if time.Now().After(until) {
				t.Fatalf("%s: no hands were shaken since: %+v, before %+v", end[0], now, before)
			}
		}
		t.Logf("%s: answered again after %v", end[0], time.Since(began))
		state, err := at(end[0]).Agent.State(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for i := range state.Tunnels {
			if tu := &state.Tunnels[i]; tu.Interface == end[1] && !tu.Up {
				t.Errorf("%s is dead", end[1])
			}
		}
	}
	if _, err := at("tarn").Agent.Sessions(t.Context(), &gateway.SessionsOrder{Interface: "nowhere-9"}); err == nil {
		t.Error("a tunnel that is not there has sessions")
	}
}
