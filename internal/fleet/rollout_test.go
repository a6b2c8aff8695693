package fleet

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/rollout"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
	"wideknot/internal/gateway/memory"
)

// What a rollout's plan says of states in which a part of the gateways has changed is what
// hosts see in them: random designs, random edits, random parts of each round.
func TestStatesOfARolloutAreAsPredicted(t *testing.T) {
	designs := 5
	if testing.Short() {
		designs = 1
	}
	var asked, lost atomic.Int64
	for seed := uint64(7); designs > 0; seed++ {
		e := sample.Mixed(seed)
		if slices.ContainsFunc(e.Overlays, func(o estate.Overlay) bool { return o.Transport == estate.IPsec }) {
			continue // a stand-in has none
		}
		if towards(t, e, seed) == nil {
			continue
		}
		designs--
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			s := stand(t, e)
			r := towards(t, s.estate, seed)
			r.standing = s
			s.settle()
			a, l := r.walk(t)
			asked.Add(int64(a))
			lost.Add(int64(l))
		})
	}
	t.Cleanup(func() {
		t.Logf("%d questions of hosts, of which %d have no answer, and %d of gateways", asked.Load(), lost.Load(), echoed.Load())
		if asked.Load() == 0 || echoed.Load() == 0 {
			t.Error("nothing is shown by that")
		}
	})
}

// onTheWay is stand-ins on their way to another design.
type onTheWay struct {
	*standing
	gateways []rollout.Gateway
	designs  [2]*route.Map
	network  *rollout.Network
	plan     *rollout.Plan
	state    []rollout.Stage
	random   *rand.Rand
}

// towards plans the way to a random edit of a design; nil where that is not valid or changes
// no gateway.
func towards(t *testing.T, e *estate.Estate, seed uint64) *onTheWay {
	t.Helper()
	first := e.Clone()
	first.Allocations = tunnel.Derive(e).Allocations()
	return between(t, first, sample.Edit(first, seed), seed)
}

// between plans the way from a design to another one.
func between(t *testing.T, first, second *estate.Estate, seed uint64) *onTheWay {
	t.Helper()
	if len(estate.Validate(second)) > 0 {
		return nil
	}
	was, is := route.Build(tunnel.Derive(first)), route.Build(tunnel.Derive(second))
	r := &onTheWay{state: make([]rollout.Stage, len(first.Sites)), random: rand.New(rand.NewPCG(seed, 6))}
	for i := range first.Sites {
		r.gateways = append(r.gateways, rollout.Gateway{Key: first.Sites[i].Key, Region: first.Sites[i].Region, Old: gateway.Of(was, i), New: gateway.Of(is, i)})
	}
	plan, err := rollout.Make(r.gateways, nil)
	if err != nil {
		t.Fatal(err)
	}
	r.designs, r.plan, r.network = [2]*route.Map{was, is}, plan, rollout.NewNetwork(r.gateways)
	if len(plan.Rounds) == 0 {
		return nil
	}
	return r
}

func (r *onTheWay) walk(t *testing.T) (asked, lost int) {
	for n, round := range r.plan.Rounds {
		sites := slices.Clone(round.Sites)
		r.random.Shuffle(len(sites), func(i, j int) { sites[i], sites[j] = sites[j], sites[i] })
		half := len(sites) / 2
		for part, some := range [][]string{sites[:half], sites[half:]} {
			for _, site := range some {
				r.bring(t, site, round.Stage)
			}
			if len(some) > 0 {
				when := fmt.Sprintf("round %d %s, part %d", n, round.Name, part)
				a, l := r.ask(t, when)
				asked, lost = asked+a, lost+l
				r.echoes(t, when)
			}
		}
	}
	return asked, lost
}

func (r *onTheWay) bring(t *testing.T, site string, to rollout.Stage) {
	i := slices.IndexFunc(r.gateways, func(g rollout.Gateway) bool { return g.Key == site })
	g := &r.gateways[i]
	c := rollout.At(g.Old, g.New, to)
	shared := map[string][32]byte{}
	for j := range c.Tunnels {
		if w := c.Tunnels[j].WireGuard; w != nil && w.Preshared {
			shared[c.Tunnels[j].Interface] = [32]byte{1, 2, 3}
		}
	}
	a := r.Site(site).Agent
	if err := a.Share(context.Background(), shared); err != nil {
		t.Fatal(err)
	}
	if err := a.Try(context.Background(), c, 2, "test", 0); err != nil {
		t.Fatalf("%s, %v: %v", site, to, err)
	}
	r.state[i] = to
}

// ask compares what some hosts see with what is said of the present state.
func (r *onTheWay) ask(t *testing.T, when string) (asked, lost int) {
	var all sync.WaitGroup
	for range 24 {
		i, j := r.random.IntN(len(r.gateways)), r.random.IntN(len(r.gateways))
		from, to := r.hostIn(i), r.hostIn(j)
		if i == j || !from.IsValid() || !to.IsValid() || from.Is4() != to.Is4() {
			continue
		}
		c := rollout.At(r.gateways[j].Old, r.gateways[j].New, r.state[j])
		target := to
		for k := range c.Maps {
			if m := &c.Maps[k]; m.Inside.Contains(to) {
				target = host(m.Outside)
			}
		}
		if slices.ContainsFunc(r.estate.Sites[i].Subnets, func(n estate.Subnet) bool { return n.Prefix.Contains(target) }) {
			continue // its own LAN has that address
		}
		if slices.ContainsFunc(r.designs[:], func(m *route.Map) bool {
			trace := m.Follow(route.Packet{From: from, To: target, Protocol: "icmp"})
			return trace.Forward.Partly || trace.Return != nil && trace.Return.Partly
		}) {
			continue // it depends on the flow
		}
		predicted := r.network.Reaches(r.state, i, j, from, to)
		asked++
		if !predicted {
			lost++
		}
		all.Go(func() {
			echo := r.echo(i, from, target)
			for tries := 0; tries < 12 && predicted != (echo.Outcome == Answered); tries++ {
				for _, site := range r.Sites() {
					_ = site.Agent.Forgive(context.Background()) // one that ends has none
				}
				time.Sleep(1500 * time.Millisecond)
				echo = r.echo(i, from, target)
			}
			if predicted != (echo.Outcome == Answered) {
				t.Errorf("%s: %s %v to %s %v: predicted %v, seen %+v in %v", when, r.gateways[i].Key, from, r.gateways[j].Key, target, predicted, echo, r.state)
			}
		})
	}
	all.Wait()
	return asked, lost
}

// echoes lets gateways ask each other, and compares whether an answer comes, how large it may
// be and by whom it goes with what is said of the present state.
func (r *onTheWay) echoes(t *testing.T, when string) {
	owners := r.network.Addresses(r.state)
	offers := make([]*gateway.Offers, len(r.gateways))
	for i := range r.gateways {
		var err error
		if offers[i], err = r.Site(r.gateways[i].Key).Agent.Offers(context.Background()); err != nil {
			t.Fatal(err)
		}
		for _, d := range offers[i].Devices {
			for _, a := range d.Addresses {
				owners[a.Addr()] = r.gateways[i].Key
			}
		}
	}
	for range 12 {
		i, j := r.random.IntN(len(r.gateways)), r.random.IntN(len(r.gateways))
		from, to := r.gateways[i].Key, r.gateways[j].Key
		source, own := offers[i].Own(r.network.Shares(r.state, from)), offers[j].Own(r.network.Shares(r.state, to))
		if i == j || !source.IsValid() || !own.IsValid() || source.Is4() != own.Is4() || r.network.Steered(r.state, from) {
			continue
		}
		target := r.network.Target(r.state, to, own)
		if within := func(p netip.Prefix) bool { return p.Contains(target) }; slices.ContainsFunc(r.network.Shares(r.state, from), within) {
			continue // its own LAN has that address
		}
		predicted := r.network.Echo(r.state, from, to, source, own)
		question := []gateway.Echo{{From: source, To: target, Size: predicted.MTU, Hops: true}}
		var answers []gateway.Echoed
		var hubs []string
		as := func() bool {
			var err error
			if answers, err = r.Site(from).Agent.Echo(context.Background(), question); err != nil {
				t.Fatal(err)
			}
			hubs = nil
			for _, a := range answers[0].Hops {
				hubs = append(hubs, owners[a])
			}
			return (answers[0].Answered > 0) == predicted.Arrives && answers[0].Answered == predicted.MTU && (!predicted.Arrives || slices.Equal(hubs, predicted.Hubs))
		}
		fits := as()
		for tries := 0; tries < 12 && !fits; tries++ {
			for _, site := range r.Sites() {
				_ = site.Agent.Forgive(context.Background()) // one that ends has none
			}
			time.Sleep(1500 * time.Millisecond)
			fits = as()
		}
		echoed.Add(1)
		if !fits {
			t.Errorf("%s: %s %v to %s %v: predicted %+v, seen %+v by %v in %v", when, from, source, to, target, predicted, answers[0], hubs, r.state)
		}
	}
}

// echoed counts what gateways asked.
var echoed atomic.Int64

// hostIn is a host of a site that it has before and after.
func (r *onTheWay) hostIn(i int) netip.Addr {
	subnets := r.estate.Sites[i].Subnets
	if len(subnets) == 0 {
		return netip.Addr{}
	}
	return host(subnets[r.random.IntN(len(subnets))].Prefix)
}

// While a release that is planned to cut nobody goes round by round, no host waits for an
// answer longer than it takes to find a tunnel dead; mostly none is lost at all.
func TestNobodyIsCutOnTheWay(t *testing.T) {
	rollouts := 6
	if testing.Short() {
		rollouts = 1
	}
	var asked, missing atomic.Int64
	for seed := uint64(1); rollouts > 0; seed++ {
		e := read(t, "two-hubs")
		r := towards(t, e, seed)
		if r == nil || r.plan.Cut > 0 {
			continue
		}
		rollouts--
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			s := stand(t, e)
			r := towards(t, s.estate, seed)
			r.standing = s
			s.up(30 * time.Second)
			r.goAsking(t, &asked, &missing)
		})
	}
	t.Cleanup(func() {
		t.Logf("%d echoes, %d not answered", asked.Load(), missing.Load())
		if asked.Load() < 500 {
			t.Error("that shows little")
		}
	})
}

// Gateways get new keys, all in one release, while hosts ask each other every 20 ms: far ends
// take both keys until the new one is used.
func TestNewKeysCutNobody(t *testing.T) {
	if testing.Short() {
		t.Skip("it is about time: it is run by itself, with the whole of the stand-ins")
	}
	for name, waves := range map[string]func(e *estate.Estate) []rollout.Wave{
		"in waves": func(*estate.Estate) []rollout.Wave { return nil },
		"all at once": func(e *estate.Estate) []rollout.Wave { // both ends of a tunnel in one round
			one := rollout.Wave{Name: "all"}
			for i := range e.Sites {
				one.Sites = append(one.Sites, e.Sites[i].Key)
			}
			return []rollout.Wave{one}
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			newKeys(t, waves)
		})
	}
}

func newKeys(t *testing.T, waves func(e *estate.Estate) []rollout.Wave) {
	s := stand(t, read(t, "two-hubs"))
	s.up(30 * time.Second)
	first := s.estate.Clone()
	first.Allocations = s.plan.Allocations()
	second := first.Clone()
	for i := range second.Sites {
		site := &second.Sites[i]
		key, err := s.Site(site.Key).Agent.NewKey(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		if key == site.Gateway.PublicKey {
			t.Errorf("%s has no new key", site.Key)
		}
		site.Gateway.PublicKey = key
	}
	r := between(t, first, second, 1)
	if r == nil || r.plan.Cut > 0 || !r.plan.TwoSteps || r.plan.Straight == 0 {
		t.Fatalf("the plan: %+v", r)
	}
	r.standing = s
	var err error
	if r.plan, err = rollout.Make(r.gateways, waves(second)); err != nil || r.plan.Cut > 0 {
		t.Fatalf("%+v, %v", r.plan, err)
	}
	var asked, missing atomic.Int64
	r.goAsking(t, &asked, &missing)
	s.up(5 * time.Second)
	for i := range second.Sites {
		a := s.Site(second.Sites[i].Key).Agent
		offers, err := a.Offers(context.Background())
		if err != nil || offers.PublicKey != second.Sites[i].Gateway.PublicKey || offers.NextKey != first.Sites[i].Gateway.PublicKey {
			t.Errorf("%s uses %+v, %v", second.Sites[i].Key, offers, err)
		}
		if _, err := a.NewKey(context.Background()); err != nil {
			t.Error(err)
		}
	}
	t.Logf("%d echoes, %d not answered", asked.Load(), missing.Load())
	if asked.Load() < 500 {
		t.Error("that shows little")
	}
}

// goAsking goes round by round while hosts that reach each other before and after ask again and
// again.
func (r *onTheWay) goAsking(t *testing.T, asked, missing *atomic.Int64) {
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	for i := range r.gateways {
		for j := range r.gateways {
			from, to := r.hostIn(i), r.hostIn(j)
			if i != j && from.Is4() == to.Is4() && r.network.Reaches(r.state, i, j, from, to) && r.network.Reaches(r.network.Before(r.plan, len(r.plan.Rounds)), i, j, from, to) {
				for until := time.Now().Add(20 * time.Second); r.echo(i, from, to).Outcome != Answered && time.Now().Before(until); { // tunnels shake hands
				}
				all.Go(func() { r.keepAsking(ctx, t, i, from, to, asked, missing) })
			}
		}
	}
	for _, round := range r.plan.Rounds {
		if len(round.Sites) == len(r.gateways) { // that many are not waited for one by one
			var some sync.WaitGroup
			for _, site := range round.Sites {
				some.Go(func() { r.bring(t, site, round.Stage) })
			}
			some.Wait()
			time.Sleep(time.Second)
			continue
		}
		for _, site := range round.Sites {
			r.bring(t, site, round.Stage)
			time.Sleep(400 * time.Millisecond)
		}
	}
	time.Sleep(time.Second)
	stop()
	all.Wait()
}

// keepAsking asks again and again, every 20 ms, and fails where no answer comes for longer
// than a dead tunnel is found in.
func (r *onTheWay) keepAsking(ctx context.Context, t *testing.T, i int, from, to netip.Addr, asked, missing *atomic.Int64) {
	const longest = 2 * time.Second
	last := time.Now()
	for ctx.Err() == nil {
		began := time.Now() // one that is not answered takes a while until that is known
		asking, done := context.WithTimeout(context.Background(), 250*time.Millisecond)
		answer, err := r.Ask(asking, r.gateways[i].Key, from, to, memory.ProtoICMP, 0, 100, 64)
		done()
		if err != nil {
			t.Error(err)
			return
		}
		asked.Add(1)
		if answer.Outcome == Answered {
			last = began
		} else {
			missing.Add(1)
			if gap := began.Sub(last); gap > longest {
				t.Errorf("%s %v to %v: no answer for %v", r.gateways[i].Key, from, to, gap)
				return
			}
		}
		time.Sleep(20 * time.Millisecond)
	}
}
