package fleet

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/sample"
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
	w := New(e, 1, slog.New(slog.DiscardHandler))
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

// echo asks by one echo.
func (s *standing) echo(site int, from, to netip.Addr) Result {
	s.t.Helper()
	ctx, done := context.WithTimeout(context.Background(), 800*time.Millisecond)
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

// settle waits until every end that calls by itself has shaken hands, for a while: some
// designs have tunnels that never come up.
func (s *standing) settle() {
	s.t.Helper()
	for until := time.Now().Add(8 * time.Second); time.Now().Before(until); time.Sleep(200 * time.Millisecond) {
		waiting := 0
		for i, site := range s.Sites() {
			state, err := site.Agent.State(context.Background())
			if err != nil {
				s.t.Fatal(err)
			}
			calls := map[string]bool{}
			for _, t := range gateway.Of(s.routes, i).Tunnels {
				calls[t.Interface] = t.WireGuard != nil && t.WireGuard.Keepalive > 0
			}
			for j := range state.Tunnels {
				if t := &state.Tunnels[j]; calls[t.Interface] && t.HandshakeS == 0 {
					waiting++
				}
			}
		}
		if waiting == 0 {
			return
		}
	}
}

// compare asks from random hosts for random others, and compares what they see with what the
// design says. It returns how many it asked, and how many of them arrived.
func (s *standing) compare(seed uint64, most int) (asked, arrived int) {
	s.t.Helper()
	random := rand.New(rand.NewPCG(seed, 9))
	var all sync.WaitGroup
	turns := make(chan struct{}, 40)
	for range most {
		i, j := random.IntN(len(s.estate.Sites)), random.IntN(len(s.estate.Sites))
		if i == j || len(s.estate.Sites[i].Subnets) == 0 || len(s.estate.Sites[j].Subnets) == 0 {
			continue
		}
		n := &s.estate.Sites[j].Subnets[random.IntN(len(s.estate.Sites[j].Subnets))]
		from, to := host(s.estate.Sites[i].Subnets[random.IntN(len(s.estate.Sites[i].Subnets))].Prefix), host(n.Taking())
		if from.Is4() != to.Is4() {
			continue
		}
		trace := s.routes.Follow(route.Packet{From: from, To: to, Protocol: "icmp"})
		if trace.Forward.FromSite != i || trace.Forward.Partly || trace.Forward.ToSite < 0 {
			continue // an address of several sites, or of none
		}
		asked++
		if trace.Arrives() {
			arrived++
		}
		turns <- struct{}{}
		all.Go(func() {
			defer func() { <-turns }()
			predicted := trace.Arrives()
			r := s.echo(i, from, to)
			// Where both ends of a tunnel begin to shake hands at once, one of them waits 5 s; and on
			// a busy machine probes may be late, so that tunnels come and go, and are held down for it.
			for tries := 0; tries < 12 && predicted != (r.Outcome == Answered); tries++ {
				for _, site := range s.Sites() {
					_ = site.Agent.Forgive(context.Background()) // one that ends has none
				}
				time.Sleep(1500 * time.Millisecond)
				r = s.echo(i, from, to)
			}
			if predicted != (r.Outcome == Answered) {
				s.t.Errorf("%s %v to %s %v: predicted %v (%s %s), seen %+v", s.estate.Sites[i].Key, from, s.estate.Sites[j].Key, to, predicted, trace.Forward.End, trace.Forward.Why, r)
			}
		})
	}
	all.Wait()
	return asked, arrived
}

// host is one of a subnet that is no gateway.
func host(p netip.Prefix) netip.Addr {
	out := p.Addr()
	for range 9 {
		out = out.Next()
	}
	return out
}

// What the design says of who reaches whom is what hosts see.
func TestHostsReachWhomTheDesignSays(t *testing.T) {
	names := []string{"three-sites", "two-hubs", "breakout", "load-sharing", "brindlewater"}
	if testing.Short() {
		names = names[:2]
	}
	for _, name := range names {
		t.Run(name, func(t *testing.T) {
			s := stand(t, read(t, name))
			s.up(30 * time.Second)
			asked, arrived := s.compare(1, 400)
			t.Logf("%d questions, of which %d arrive", asked, arrived)
			if arrived == 0 || asked == arrived && name == "brindlewater" {
				t.Error("nothing is shown by that")
			}
		})
	}
}

// The same of small random estates in which any feature may turn up beside any other.
func TestHostsReachWhomRandomDesignsSay(t *testing.T) {
	seeds := uint64(12)
	if testing.Short() {
		seeds = 4
	}
	var asked, arrived atomic.Int64
	for seed := range seeds {
		e := sample.Mixed(seed)
		if slices.ContainsFunc(e.Overlays, func(o estate.Overlay) bool { return o.Transport == estate.IPsec }) {
			continue // a stand-in has none
		}
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			s := stand(t, e)
			s.settle()
			a, b := s.compare(seed, 120)
			asked.Add(int64(a))
			arrived.Add(int64(b))
		})
	}
	t.Cleanup(func() {
		t.Logf("%d questions, of which %d arrive", asked.Load(), arrived.Load())
		if arrived.Load() == 0 || asked.Load() == arrived.Load() {
			t.Error("nothing is shown by that")
		}
	})
}
