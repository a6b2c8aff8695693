package main

import (
	"context"
	"encoding/base64"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/enrol"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/rollouts"
	"wideknot/internal/server/store"
	keeping "wideknot/internal/server/watch"
)

// Three sites that reach each other by a hub.
const three = `
wideknot: 1
estate: {name: Three}
sites:
  - key: mill
    name: Mill
    gateway: {lan_device: lan0, switches: true}
    links: [{key: fibre, reach: static, addresses: [203.0.113.10], device: wan0, next_hop: [203.0.113.9]}]
    subnets: [{prefix: 10.40.1.0/24, share: [ops]}]
  - key: tarn
    name: Tarn
    gateway: {lan_device: lan0, switches: true}
    links: [{key: fibre, reach: static, addresses: [203.0.113.20], device: wan0, next_hop: [203.0.113.19]}]
    subnets: [{prefix: 10.40.2.0/24, share: [ops]}]
  - key: weir
    name: Weir
    gateway: {lan_device: lan0, switches: true}
    links: [{key: cell, reach: static, addresses: [198.51.100.20], device: wan0, next_hop: [198.51.100.17]}]
    subnets: [{prefix: 10.40.3.0/24, share: [ops]}]
overlays:
  - {key: ops, shape: hub-and-spoke, transit: [100.96.0.0/24], hubs: [mill], spokes: [{site: tarn}, {site: weir}]}
`

// An operated world has servers in its internet, which real gateways call.
type operated struct {
	*world
	t         *testing.T
	db        *store.Store
	desk      *desk.Desk
	office    *rollouts.Office
	authority *enrol.Authority
	shown     *enrol.Shown
	lines     []string // where the servers are called
	key       string
}

// operate brings the sites up, with gateways that joined and nothing else.
func operate(t *testing.T, changes ...func(e *estate.Estate)) *operated {
	needsNamespaces(t)
	e, _, err := estate.Read(strings.NewReader(three))
	if err != nil {
		t.Fatal(err)
	}
	probed(e, false)
	for _, change := range changes {
		change(e)
	}
	keys := keysFor(e)
	for i := range e.Sites {
		e.Sites[i].Gateway.PublicKey = e.Allocations.Keys[e.Sites[i].Key]
	}
	e.Allocations.Keys = nil
	o := &operated{t: t}
	o.world, err = layOut(route.Build(tunnel.Derive(e)))
	t.Cleanup(func() {
		o.close()
		_ = exec.Command("pkill", "-f", o.folder).Run() // what serves devices outlives agents; there may be none
	})
	o.must(err)
	o.serve(e)
	for i := range e.Sites {
		private, _ := keys.Private(e.Sites[i].Key)
		o.join(i, private)
	}
	return o
}

func (o *operated) must(err error) {
	o.t.Helper()
	if err != nil {
		o.t.Fatal(err)
	}
}

// serve releases the estate, and opens what gateways join by.
func (o *operated) serve(e *estate.Estate) {
	ctx := context.Background()
	o.db, _ = store.Testing(o.t)
	sealer, err := identity.NewSealer(filepath.Join(o.t.TempDir(), "master.key"))
	o.must(err)
	o.desk = desk.New(o.db, sealer)
	o.t.Cleanup(o.desk.Close)
	o.office = rollouts.New(o.db, o.desk)
	o.office.Servers = internet[:1]
	document, err := estate.WriteYAML(e)
	o.must(err)
	made, err := o.desk.Create(ctx, "Three")
	o.must(err)
	o.key = made.Key
	at := desk.At(made.Key, desk.First)
	_, _, err = o.desk.Import(ctx, at, desk.Parcel{Document: string(document)}, false)
	o.must(err)
	o.must(o.desk.Seed(ctx, at, "as it is"))
	o.authority, err = enrol.OpenAuthority(ctx, o.db, sealer)
	o.must(err)
	o.shown = o.authority.Shows([]string{internet[0].String()})
	for port := range 2 {
		o.lines = append(o.lines, fmt.Sprintf("%v:%d", internet[0], 4336+port))
	}
}

// listen opens a port in the internet of the world.
func (o *operated) listen(at string) (out net.Listener) {
	o.t.Helper()
	o.must(o.between[estate.Internet].do(func() (err error) {
		for range 50 { // who had it before may just be ending
			if out, err = net.Listen("tcp", at); err == nil {
				return nil
			}
			time.Sleep(100 * time.Millisecond)
		}
		return err
	}))
	return out
}

// join lets a gateway join, and runs its agent.
func (o *operated) join(i int, private string) {
	o.t.Helper()
	site := o.routes.Plan.Site(i).Key
	est := o.listen(fmt.Sprintf("%v:%d", internet[0], 8443))
	office := &enrol.Office{Store: o.db, Authority: o.authority, Enrol: []string{est.Addr().String()}, Lines: o.lines}
	serving, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	defer all.Wait()
	defer stop()
	all.Go(func() { _ = office.Serve(serving, est, o.shown) })
	var row store.Estate
	o.must(o.db.Snapshot(serving, func(tx *store.Tx) (err error) { row, err = tx.Estate(o.key, false); return err }))
	code, _, err := office.Code(serving, row, site, time.Hour)
	o.must(err)
	folder := filepath.Join(o.folder, site+".d")
	for _, name := range []string{"sockets", "keys", "state"} {
		o.must(os.MkdirAll(filepath.Join(folder, name), 0o700))
	}
	o.must(os.WriteFile(filepath.Join(folder, "hosts"), nil, 0o600))
	raw, err := base64.StdEncoding.DecodeString(private)
	o.must(err)
	o.must(os.WriteFile(filepath.Join(folder, "keys", "private.key"), []byte(base64.StdEncoding.EncodeToString(raw)+"\n"), 0o600))
	path, err := program()
	o.must(err)
	o.must(o.gateways[i].run(code, path, "gateway", "join", "--state", filepath.Join(folder, "state"), "--keys", filepath.Join(folder, "keys")))
	o.must(o.start(i, ""))
}

// server runs a server on one of the ports until it is killed.
func (o *operated) server(name string, port int) (kill func()) {
	listen := o.listen(o.lines[port])
	k := &keeping.Keeper{Store: o.db, Desk: o.desk, Authority: o.authority, Shown: o.shown, Name: name, Trial: 12}
	r := &rollouts.Runner{Office: o.office, Name: name, Log: slog.New(slog.DiscardHandler)}
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	all.Go(func() { _ = k.Serve(ctx, listen) })
	all.Go(func() { r.Run(ctx) })
	var once sync.Once
	kill = func() { once.Do(func() { stop(); all.Wait() }) }
	o.t.Cleanup(kill)
	return kill
}

// release puts an edit in force, and begins to bring it to the gateways.
func (o *operated) release(edit func(*estate.Estate), order rollouts.Order) uint64 {
	o.t.Helper()
	ctx := context.Background()
	at := desk.At(o.key, desk.First)
	view, err := o.desk.View(ctx, at.Place)
	o.must(err)
	e := view.Estate.Clone()
	edit(e)
	document, err := estate.WriteYAML(e)
	o.must(err)
	_, _, err = o.desk.Import(ctx, at, desk.Parcel{Document: string(document)}, false)
	o.must(err)
	out, err := o.desk.Release(ctx, at, "an edit", "it was asked for")
	o.must(err)
	order.Release = out.Number
	run, err := o.office.Start(ctx, o.key, order)
	o.must(err)
	return run.Number
}

// until waits until a rollout is somewhere.
func (o *operated) until(number uint64, within time.Duration, what string, is func(*rollouts.RolloutDetail) bool) *rollouts.RolloutDetail {
	o.t.Helper()
	for until := time.Now().Add(within); ; time.Sleep(20 * time.Millisecond) {
		d, err := o.office.Get(context.Background(), o.key, number)
		o.must(err)
		if is(d) {
			return d
		}
		if time.Now().After(until) {
			said := ""
			for i, k := range o.keepers {
				said += o.routes.Plan.Site(i).Key + ": " + k.said.String()
			}
			o.t.Fatalf("rollout %d is not %s within %v: %s %s, round %d %s: %+v\n%+v\n%s", number, what, within, d.State, d.Words, d.Round, d.Phase, d.Gateways, d.Notes, said)
		}
	}
}

func (o *operated) in(number uint64, within time.Duration, state string) *rollouts.RolloutDetail {
	o.t.Helper()
	return o.until(number, within, state, func(d *rollouts.RolloutDetail) bool { return d.State == state })
}

// confirmed waits until all gateways keep a release.
func (o *operated) confirmed(release uint64, within time.Duration) {
	o.t.Helper()
	for until := time.Now().Add(within); ; time.Sleep(100 * time.Millisecond) {
		list, err := o.desk.Gateways(context.Background(), o.key)
		o.must(err)
		here := 0
		for _, g := range list {
			if g.Confirmed == release && g.Phase == "confirmed" && g.Up {
				here++
			}
		}
		if here == len(o.gateways) {
			return
		}
		if time.Now().After(until) {
			o.t.Fatalf("release %d is not confirmed everywhere within %v: %+v", release, within, list)
		}
	}
}

// Real gateways, each in a network namespace, with the agent and the kernel that they have in
// the field: a server is killed in each phase of a rollout; a release that breaks a gateway's
// own line is gone back from; one that the kernel refuses half-way leaves nothing behind.
func TestRealGatewaysAreBroughtToReleases(t *testing.T) {
	t.Parallel() // it waits most of the time
	o := operate(t)
	kill := [2]func(){o.server("a0", 0), o.server("b0", 1)}
	o.confirmed(1, 60*time.Second)
	o.killedInEachPhase(&kill)
	o.lineIsBroken()
	o.refusedHalfWay()
	o.newKeys()
}

// newKeys lets all gateways have new keys, while the host at the tarn asks the one at the weir
// every 100 ms.
func (o *operated) newKeys() {
	o.t.Helper()
	ctx := context.Background()
	asking := make(chan error, 1)
	ended := make(chan struct{})
	lost, asked := 0, 0
	go func() {
		for {
			select {
			case <-ended:
				asking <- nil
				return
			case <-time.After(100 * time.Millisecond):
				if asked++; o.hosts[1].run("", "ping", "-n", "-c", "1", "-W", "1", "10.40.3.10") != nil {
					lost++
				}
			}
		}
	}()
	at := desk.At(o.key, desk.First)
	before := o.keys()
	_, list, err := o.desk.NewKeys(ctx, at, nil)
	o.must(err)
	if len(list) != len(o.gateways) {
		o.t.Errorf("new keys: %+v", list)
	}
	out, err := o.desk.Release(ctx, at, "new keys", "as asked for")
	o.must(err)
	run, err := o.office.Start(ctx, o.key, rollouts.Order{Release: out.Number})
	o.must(err)
	d := o.until(run.Number, 3*time.Minute, "done", func(d *rollouts.RolloutDetail) bool { return d.State == rollouts.Done || d.State == rollouts.Stopped })
	close(ended)
	<-asking
	if d.State != rollouts.Done || d.Plan.Cut > 0 {
		o.t.Errorf("%s, %s: %+v", d.State, d.Words, d.Plan)
	}
	for site, key := range o.keys() {
		if key == before[site] || key == "" {
			o.t.Errorf("%s uses %q still", site, key)
		}
	}
	o.t.Logf("%d echoes of a host, %d lost", asked, lost)
	if asked < 50 || lost > 2*len(o.gateways) {
		o.t.Errorf("%d of %d echoes were lost", lost, asked)
	}
}

// keys are those that the gateways use.
func (o *operated) keys() map[string]string {
	o.t.Helper()
	out := map[string]string{}
	for i, k := range o.keepers {
		offers, err := k.offers()
		o.must(err)
		out[o.routes.Plan.Site(i).Key] = offers.PublicKey
	}
	return out
}

func (o *operated) killedInEachPhase(kill *[2]func()) {
	o.t.Helper()
	number := o.release(func(e *estate.Estate) { e.Site("weir").Links[0].MTU = 1400 }, rollouts.Order{Settings: rollouts.Settings{Soak: 2, ByHand: true}})
	for n, phase := range []string{rollouts.Bringing, rollouts.Proving, rollouts.Asking, rollouts.Soaking, rollouts.Waiting} {
		d := o.until(number, 90*time.Second, phase, func(d *rollouts.RolloutDetail) bool {
			if d.State == rollouts.Waiting && phase != rollouts.Waiting { // by hand: the next round
				_, err := o.office.Decide(context.Background(), o.key, number, rollouts.GoOn, false)
				o.must(err)
			}
			return d.Phase == phase || d.State == phase || d.State == rollouts.Stopped || d.State == rollouts.Done
		})
		if d.State == rollouts.Stopped || d.State == rollouts.Done {
			o.t.Fatalf("it is %s (%s) before it was %s: %+v", d.State, d.Words, phase, d.Notes)
		}
		for port := range kill { // both, so that whoever went on with it is gone
			kill[port]()
			kill[port] = o.server(fmt.Sprintf("%c%d", 'a'+port, n+1), port)
		}
	}
	d := o.until(number, 3*time.Minute, "done", func(d *rollouts.RolloutDetail) bool {
		if d.State == rollouts.Waiting {
			_, err := o.office.Decide(context.Background(), o.key, number, rollouts.GoOn, false)
			o.must(err)
		}
		return d.State == rollouts.Done || d.State == rollouts.Stopped
	})
	if e := d.Proof.Echoes; d.State != rollouts.Done || d.Proof.Missing != 0 || e == nil || e.Asked != 6 || e.As != 6 {
		o.t.Fatalf("it is %s, %s: %+v %+v", d.State, d.Words, d.Proof, d.Proof.Echoes)
	}
	o.confirmed(2, 10*time.Second)
}

// lineIsBroken shares the servers' own addresses behind the mill, as a mistyped prefix would:
// the first gateway that tries it reaches them no more, and goes back by itself.
func (o *operated) lineIsBroken() {
	o.t.Helper()
	number := o.release(func(e *estate.Estate) {
		mill := e.Site("mill")
		mill.Subnets = append(mill.Subnets, mill.Subnets[0])
		mill.Subnets[1].Prefix = netip.MustParsePrefix("192.0.2.0/25")
	}, rollouts.Order{})
	d := o.in(number, 2*time.Minute, rollouts.Stopped)
	if !slices.Equal(d.Plan.Lines, []string{"tarn", "weir"}) {
		o.t.Errorf("lines that hang on the release: %v", d.Plan.Lines)
	}
	if d.Round != 0 || !strings.Contains(d.Words, "nobody confirmed it in time") {
		o.t.Fatalf("it stops at round %d and says %q: %+v", d.Round, d.Words, d.Notes)
	}
	_, err := o.office.Decide(context.Background(), o.key, number, rollouts.Undo, false)
	o.must(err)
	o.in(number, time.Minute, rollouts.Undone)
	o.confirmed(2, 10*time.Second)
}

// refusedHalfWay adds a tunnel where the kernel will not have its next hop.
func (o *operated) refusedHalfWay() {
	o.t.Helper()
	weir := o.gateways[2]
	o.must(weir.set(map[string]string{"net/ipv6/conf/default/disable_ipv6": "1"}))
	number := o.release(func(e *estate.Estate) {
		mill := e.Site("mill")
		mill.Subnets = mill.Subnets[:1]
		e.Overlays[0].Shape = estate.Custom
		e.Overlays[0].Direct = append(e.Overlays[0].Direct, []string{"tarn", "weir"})
	}, rollouts.Order{})
	d := o.in(number, 2*time.Minute, rollouts.Stopped)
	if !strings.Contains(d.Words, "weir") || !strings.Contains(d.Words, "next hop") {
		o.t.Fatalf("it stops at round %d and says %q: %+v", d.Round, d.Words, d.Notes)
	}
	if s, err := o.keepers[2].state(); err != nil || len(s.Tunnels) != 1 || !s.Tunnels[0].Up {
		o.t.Errorf("what weir has then: %+v, %v", s, err)
	}
	o.must(weir.set(map[string]string{"net/ipv6/conf/default/disable_ipv6": "0"}))
	_, err := o.office.Decide(context.Background(), o.key, number, rollouts.GoOn, false)
	o.must(err)
	d = o.until(number, 2*time.Minute, "done", func(d *rollouts.RolloutDetail) bool { return d.State == rollouts.Done || d.State == rollouts.Stopped })
	if d.State != rollouts.Done {
		o.t.Errorf("once the kernel takes it: %s, %s", d.State, d.Words)
	}
}
