package fleet

import (
	"context"
	"log/slog"
	"net/netip"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
	"wideknot/internal/gateway/memory"
)

// standing is an estate whose stand-ins run what its design says.
type standing struct {
	*World
	t      *testing.T
	estate *estate.Estate
	plan   *tunnel.Plan
	routes *route.Map
}

// stand brings up an estate: each stand-in has its own key, and applies what the design says
// for it.
func stand(t *testing.T, e *estate.Estate) *standing {
	t.Helper()
	folder := t.TempDir()
	var keys []string
	for i := range e.Sites {
		keys = append(keys, e.Sites[i].Key)
	}
	public, err := Keys(folder, keys)
	if err != nil {
		t.Fatal(err)
	}
	for i := range e.Sites {
		e.Sites[i].Gateway.PublicKey = public[e.Sites[i].Key]
	}
	w, err := New(e, 1, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	s := &standing{World: w, t: t, estate: e, plan: tunnel.Derive(e)}
	s.routes = route.Build(s.plan)
	ctx, stop := context.WithCancel(context.Background())
	go w.Run(ctx)
	ready, ended := make(chan struct{}), make(chan error, 1)
	go func() { ended <- w.Stand(ctx, folder, nil, func() { close(ready) }) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
	<-ready
	for i := range e.Sites {
		c := gateway.Of(s.routes, i)
		shared := map[string][32]byte{}
		for j := range c.Tunnels {
			if w := c.Tunnels[j].WireGuard; w != nil && w.Preshared {
				shared[c.Tunnels[j].Interface] = [32]byte{1, 2, 3}
			}
		}
		a := w.Site(e.Sites[i].Key).Agent
		if err := a.Share(ctx, shared); err != nil {
			t.Fatal(err)
		}
		if err := a.Try(ctx, c, 1, "test", 0); err != nil {
			t.Fatalf("%s: %v", e.Sites[i].Key, err)
		}
	}
	return s
}

// host is an address of a host of a site that the first overlay sees.
func (s *standing) host(site int, subnet int) netip.Addr {
	return s.estate.Sites[site].Subnets[subnet].Prefix.Addr().Next().Next()
}

// echo asks by one echo.
func (s *standing) echo(site int, from, to netip.Addr) Result {
	s.t.Helper()
	ctx, done := context.WithTimeout(context.Background(), 700*time.Millisecond)
	defer done()
	r, err := s.Ask(ctx, s.estate.Sites[site].Key, from, to, memory.ProtoICMP, 0, 100, 64)
	if err != nil {
		s.t.Fatal(err)
	}
	return r
}

func read(t *testing.T, name string) *estate.Estate {
	t.Helper()
	e, err := examples.Estate(name)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// up waits until each tunnel that the design has is alive at both ends.
func (s *standing) up(within time.Duration) {
	s.t.Helper()
	until := time.Now().Add(within)
	for {
		dead := 0
		for _, site := range s.Sites() {
			state, err := site.Agent.State(context.Background())
			if err != nil {
				s.t.Fatal(err)
			}
			for i := range state.Tunnels {
				if t := &state.Tunnels[i]; !t.Up || t.Sent > 0 && t.Answered == 0 {
					dead++
				}
			}
		}
		if dead == 0 {
			return
		}
		if time.Now().After(until) {
			s.t.Fatalf("%d ends of tunnels are dead after %v", dead, within)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// What the design says of who reaches whom is what hosts see, with the hops it says.
func TestHostsReachWhoTheDesignSays(t *testing.T) {
	for _, name := range []string{"three-sites", "two-hubs"} {
		t.Run(name, func(t *testing.T) {
			s := stand(t, read(t, name))
			s.up(15 * time.Second)
			asked := 0
			for i := range s.estate.Sites {
				for j := range s.estate.Sites {
					for m := range s.estate.Sites[i].Subnets {
						for n := range s.estate.Sites[j].Subnets {
							if i == j {
								continue
							}
							from, to := s.host(i, m), s.host(j, n)
							if taking := s.estate.Sites[j].Subnets[n].Taking(); taking != s.estate.Sites[j].Subnets[n].Prefix {
								to = taking.Addr().Next().Next()
							}
							if from.Is4() != to.Is4() {
								continue
							}
							trace := s.routes.Follow(route.Packet{From: from, To: to, Protocol: "icmp"})
							r := s.echo(i, from, to)
							asked++
							if predicted := trace.Arrives(); predicted != (r.Outcome == Answered) {
								t.Errorf("%s %v to %s %v: predicted %v, seen %+v", s.estate.Sites[i].Key, from, s.estate.Sites[j].Key, to, predicted, r)
							}
						}
					}
				}
			}
			t.Logf("%d pairs of hosts", asked)
		})
	}
}
