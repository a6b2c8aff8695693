package linux_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/render/linux"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// changed is an estate some edits later, with the numbers of the first kept.
func changed(e *estate.Estate, r *rand.Rand) *estate.Estate {
	out := e.Clone()
	out.Allocations = tunnel.Derive(e).Allocations()
	for range 3 {
		s := &out.Sites[r.IntN(len(out.Sites))]
		switch r.IntN(6) {
		case 0: // a circuit ends
			if len(s.Links) > 1 {
				s.Links = slices.Delete(s.Links, 0, 1)
			}
		case 1: // a subnet goes
			if len(s.Subnets) > 1 {
				s.Subnets = s.Subnets[:len(s.Subnets)-1]
			}
		case 2: // one comes
			p := netip.PrefixFrom(netip.AddrFrom4([4]byte{172, 20, byte(r.IntN(250)), 0}), 24)
			s.Subnets = append(s.Subnets, estate.Subnet{Prefix: p, Zone: s.Subnets[0].Zone, Share: []string{out.Overlays[0].Key}})
		case 3:
			s.Links[r.IntN(len(s.Links))].MTU = 1400 + r.IntN(90)
		case 4: // the order of circuits
			if len(s.Links) > 1 {
				s.Links[0].Rank, s.Links[1].Rank = s.Links[1].RankOf(), s.Links[0].RankOf()
				s.Links[0].Weight, s.Links[1].Weight = 0, 0
			}
		case 5:
			o := &out.Overlays[r.IntN(len(out.Overlays))]
			o.Policy, o.Breakout = nil, nil
		}
	}
	return out
}

// dump is all that a gateway has of ours, in an order of its own.
func (l *lab) dump(site string) string {
	l.t.Helper()
	var out strings.Builder
	sorted := func(command string) {
		lines := strings.Split(l.in(site, command), "\n")
		slices.Sort(lines)
		fmt.Fprintf(&out, "%s:%s\n", command, strings.Join(lines, "\n"))
	}
	for _, command := range []string{"ip route show table all proto 199", "ip -6 route show table all proto 199", "ip nexthop show", "ip rule show", "ip -6 rule show", "ip -br address show"} {
		sorted(command)
	}
	var links []string
	for _, one := range regexp.MustCompile(`(?m)^\d+: ([^:@]+).* (mtu \d+) .*?(alias \S+)?$`).FindAllStringSubmatch(l.in(site, "ip -o link show"), -1) {
		links = append(links, strings.Join(one[1:], " "))
	}
	slices.Sort(links)
	out.WriteString(strings.Join(links, "\n") + "\n" + l.in(site, "nft list ruleset"))
	wg := l.run(append([]string{"ip"}, l.withSockets(site, "wg", "show", "all")...)...)
	wg = regexp.MustCompile(`(?m)^  (latest handshake|transfer): .*\n`).ReplaceAllString(wg, "")
	blocks := strings.Split(wg, "\n\n")
	slices.Sort(blocks)
	out.WriteString(strings.Join(blocks, "\n"))
	// What the kernel makes up for itself.
	return regexp.MustCompile(`fe80::[0-9a-f:]+/64 ?`).ReplaceAllString(out.String(), "")
}

var pairsAsked = flag.Int("pairs", 4, "pairs of releases that are applied one after the other")

// A bundle applied twice changes nothing, and a release that is applied after
// another leaves what it alone leaves, both ways.
func TestReleasesLeaveNothingOfEachOther(t *testing.T) {
	l := newLab(t)
	pairs := 0
	for seed := uint64(0); pairs < *pairsAsked; seed++ {
		r := rand.New(rand.NewPCG(seed, 15))
		was := sample.Mixed(seed)
		is := changed(was, r)
		site := r.IntN(len(was.Sites))
		maps := [2]*route.Map{}
		for i, e := range []*estate.Estate{was, is} {
			if problems := estate.Validate(e); len(problems) > 0 {
				t.Fatalf("seed %d: %v", seed, problems[0])
			}
			for j := range e.Sites {
				e.Sites[j].Gateway.PublicKey = testKey(byte(j + 1)).public
			}
			maps[i] = route.Build(tunnel.Derive(e))
		}
		few := func(m *route.Map, site int) bool { n := len(m.Plan.Ends(site)); return n > 0 && n < 9 }
		for range was.Sites {
			if few(maps[0], site) && few(maps[1], site) {
				break
			}
			site = (site + 1) % len(was.Sites)
		}
		if !few(maps[0], site) || !few(maps[1], site) {
			continue
		}
		pairs++
		l.releases(t, fmt.Sprintf("r%d", seed), maps, site)
	}
}

func (l *lab) releases(t *testing.T, name string, maps [2]*route.Map, site int) {
	t.Helper()
	keys := keysOf(site)
	alone := [2]string{}
	key := maps[0].Plan.Site(site).Key
	at := func(where string, bundle int) {
		t.Helper()
		folder := l.write(maps[bundle], site, keys, fmt.Sprint(name, bundle))
		if out, err := l.apply(where, folder); err != nil {
			t.Fatalf("%s, %s, release %d: %v\n%s", where, key, bundle, err, out)
		}
	}
	for i := range maps {
		where := fmt.Sprint(name, "-alone", i)
		l.add(where)
		l.devices(where, maps[0].Plan.Site(site))
		at(where, i)
		alone[i] = l.dump(where)
		at(where, i)
		same(t, fmt.Sprintf("%s, %s, release %d again", name, key, i), alone[i], l.dump(where))
		l.apply(where, l.folder(where, "state", "kept"), "--remove")
	}
	where := name + "-both"
	l.add(where)
	l.devices(where, maps[0].Plan.Site(site))
	at(where, 0)
	at(where, 1)
	same(t, name+", "+key+", the second release", alone[1], l.dump(where))
	at(where, 0)
	same(t, name+", "+key+", the first again", alone[0], l.dump(where))
	l.apply(where, l.folder(where, "state", "kept"), "--remove")
	if alone[0] == alone[1] {
		t.Logf("%s: both releases are the same at %s", name, key)
	}
}

// same compares two dumps and shows the lines in which they differ.
func same(t *testing.T, what, want, got string) {
	t.Helper()
	if want == got {
		return
	}
	lines := func(a, b string) (out []string) {
		have := strings.Split(b, "\n")
		for _, line := range strings.Split(a, "\n") {
			if !slices.Contains(have, line) {
				out = append(out, line)
			}
		}
		return out
	}
	t.Errorf("%s: missing\n%s\ntoo much\n%s", what, strings.Join(lines(want, got), "\n"), strings.Join(lines(got, want), "\n"))
}

// A trial goes back by itself unless it is kept; what cannot be applied changes
// nothing; and what was kept comes up after a reboot.
func TestTrialsGoBack(t *testing.T) {
	l := newLab(t)
	m, keys := example(t, "three-sites")
	site := m.Plan.SiteIndex("stonebeck")
	l.add("stonebeck")
	l.devices("stonebeck", m.Plan.Site(site))
	first := l.write(m, site, keys, "first")
	e := m.Plan.Estate.Clone()
	e.Allocations = m.Plan.Allocations()
	e.Site("stonebeck").Links[0].MTU = 1400
	second := l.write(route.Build(tunnel.Derive(e)), site, keys, "second")
	apply := func(want int, folder string, args ...string) string {
		t.Helper()
		out, err := l.apply("stonebeck", folder, args...)
		if code := exitCode(err); code != want {
			t.Fatalf("apply %v: exit %d, want %d\n%s", args, code, want, out)
		}
		return out
	}
	apply(4, first, "--keep")
	apply(0, first, "--check")
	if got := l.in("stonebeck", "ip nexthop show"); got != "" {
		t.Fatalf("--check made %s", got)
	}
	if _, err := os.Stat(l.folder("stonebeck", "state")); !os.IsNotExist(err) {
		t.Errorf("--check left a folder: %v", err)
	}
	apply(0, first)
	was := l.dump("stonebeck")

	apply(0, second, "--try", "600")
	tried := l.dump("stonebeck")
	if tried == was {
		t.Fatal("the trial changed nothing")
	}
	apply(4, first) // not while something is tried
	apply(0, second, "--back")
	same(t, "after --back", was, l.dump("stonebeck"))

	apply(0, second, "--try", "1")
	for range 100 {
		if l.dump("stonebeck") == was {
			break
		}
	}
	same(t, "after a trial that nobody kept", was, l.dump("stonebeck"))

	apply(0, second, "--try", "600")
	apply(0, second, "--keep")
	same(t, "after --keep", tried, l.dump("stonebeck"))
	apply(0, first, "--back")
	same(t, "after going back to the former", was, l.dump("stonebeck"))

	// A file that is not what was rendered, and one that the kernel refuses.
	damage := func(file, text string, whole bool) {
		t.Helper()
		l.write(route.Build(tunnel.Derive(e)), site, keys, "second")
		if err := os.WriteFile(filepath.Join(second, file), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if whole {
			l.run("sh", "-c", "cd "+second+" && sed 's/^[0-9a-f]*  //' manifest | xargs sha256sum > m && mv m manifest")
		}
		apply(1, second)
		same(t, "after a damaged "+file, was, l.dump("stonebeck"))
	}
	damage("routes", "10.99.0.0/24 7\n", false)
	damage("routes", "10.99.0.0/24 7\n", true)
	damage("filter.nft", "table inet wideknot { chain x { nonsense } }\n", true)
	damage("wg/millgate-1.conf", "[Interface]\nListenPort = 1\n[Peer]\nPublicKey = nonsense\n", true) // no judge beforehand: goes back

	// A reboot: the same state folder, another kernel.
	l.run("sh", "-c", "ip netns pids "+l.ns("stonebeck")+" | xargs -r kill")
	l.run("ip", "netns", "del", l.ns("stonebeck"))
	l.add("stonebeck")
	l.devices("stonebeck", m.Plan.Site(site))
	apply(0, l.folder("stonebeck", "state", "kept"), "--guard")
	if got := l.in("stonebeck", "ip route show proto 199"); !strings.Contains(got, "blackhole") {
		t.Errorf("the guard leaves %q", got)
	}
	apply(0, l.folder("stonebeck", "state", "kept"), "--boot")
	same(t, "after a reboot", was, l.dump("stonebeck"))
}

// What a tunnel cannot come up without is asked for before anything is changed.
func TestMissingKeysAreAskedFor(t *testing.T) {
	l := newLab(t)
	m, keys := example(t, "three-sites")
	m.Plan.Estate.Overlays[0].PresharedKeys = true // nothing derived depends on it
	site := m.Plan.SiteIndex("stonebeck")
	l.add("stonebeck")
	l.devices("stonebeck", m.Plan.Site(site))
	for want, some := range map[string]linux.Keys{
		"private key is missing":    {Shared: keys.Shared},
		"pre-shared key is missing": {Private: keys.Private},
	} {
		out, err := l.apply("stonebeck", l.write(m, site, some, strings.ReplaceAll(want, " ", "-")))
		if exitCode(err) != 1 || !strings.Contains(out, want) || l.in("stonebeck", "ip nexthop show") != "" {
			t.Errorf("%s: %v\n%s", want, err, out)
		}
	}
	if out, err := l.apply("stonebeck", l.write(m, site, keys, "all")); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
	if got := l.run(append([]string{"ip"}, l.withSockets("stonebeck", "wg", "show", "all", "preshared-keys")...)...); strings.Contains(got, "(none)") {
		t.Errorf("a tunnel has no pre-shared key:\n%s", got)
	}
}

// A link that goes down and up again gets back what the kernel forgot.
func TestLinksComeBack(t *testing.T) {
	l := newLab(t)
	m, keys := example(t, "load-sharing")
	site := m.Plan.SiteIndex("tarn")
	l.add("tarn")
	l.devices("tarn", m.Plan.Site(site))
	l.bringUp(m, site, keys)
	was := l.dump("tarn")
	for _, device := range []string{m.Plan.Peers(site)[0].Interface, "wan0"} {
		l.in("tarn", "ip link set "+device+" down")
		if l.dump("tarn") == was {
			t.Fatalf("%s: nothing is missing", device)
		}
		l.in("tarn", "ip link set "+device+" up")
		for _, hop := range m.Plan.Site(site).Links[0].NextHop {
			l.in("tarn", fmt.Sprintf("ip route replace %s/32 dev wan0 metric 7", hop))
		}
		if out, err := l.apply("tarn", l.folder("tarn", "bundle"), "--ways"); err != nil {
			t.Fatalf("apply --ways: %v\n%s", err, out)
		}
		same(t, device+" was down", was, l.dump("tarn"))
	}
}

// What the unit runs sees to ways by itself.
func TestWatchMovesWays(t *testing.T) {
	l := newLab(t)
	m, keys := example(t, "load-sharing")
	site := m.Plan.SiteIndex("weir")
	l.add("weir")
	l.devices("weir", m.Plan.Site(site))
	l.bringUp(m, site, keys)
	was := l.dump("weir")
	watch := exec.Command("ip", l.withSockets("weir", "sh", l.folder("weir", "state", "current", "apply"), "--watch")...)
	watch.Env = append(os.Environ(), "WIDEKNOT_STATE="+l.folder("weir", "state"), "WIDEKNOT_KEYS="+l.folder("weir", "keys"))
	watch.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := watch.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { syscall.Kill(-watch.Process.Pid, syscall.SIGKILL); watch.Wait() })
	peers := m.Plan.Peers(site)
	ways := func() string {
		return regexp.MustCompile(`(?m)^id (\d{10} group \S+).*$`).FindString(l.in("weir", "ip nexthop"))
	}
	eventually := func(what string, done func() bool) {
		t.Helper()
		for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
			if done() {
				return
			}
		}
		t.Fatalf("%s: %s", what, l.in("weir", "ip nexthop"))
	}
	first := ways()
	l.in("weir", "ip link set "+peers[0].Interface+" down")
	eventually("the second choice takes over", func() bool { now := ways(); return now != "" && now != first })
	l.in("weir", "ip link set "+peers[0].Interface+" up")
	eventually("the first is back", func() bool { return l.dump("weir") == was })
}

// A way that moves is one change, however many routes it has; how long that takes is
// printed, not judged.
func TestAWayMovesAtOnce(t *testing.T) {
	l := newLab(t)
	l.add("hub")
	var batch strings.Builder
	for _, name := range []string{"tunnel-a", "tunnel-b"} {
		l.in("hub", "ip link add dev "+name+" type veth peer name x"+name)
		l.in("hub", "ip link set "+name+" up")
		l.in("hub", "ip link set x"+name+" up")
	}
	l.in("hub", "sysctl -qw net.ipv4.nexthop_compat_mode=0")
	l.in("hub", "ip -6 nexthop replace id 1 dev tunnel-a protocol 199")
	l.in("hub", "ip -6 nexthop replace id 2 dev tunnel-b protocol 199")
	l.in("hub", "ip nexthop replace id 1000000000 group 1 protocol 199")
	const prefixes = 5000
	for i := range prefixes {
		fmt.Fprintf(&batch, "route replace 10.%d.%d.0/24 proto 199 nhid 1000000000\n", i>>8, i&255)
	}
	path := filepath.Join(l.sockets, "routes")
	if err := os.WriteFile(path, []byte(batch.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	l.in("hub", "ip -batch "+path)
	least := 1 << 62
	for i := range 20 {
		out := l.run("ip", "netns", "exec", l.ns("hub"), "sh", "-c", fmt.Sprintf("from=$(date +%%s%%N); ip nexthop replace id 1000000000 group %d protocol 199; echo $(($(date +%%s%%N) - from))", 2-i%2))
		var took int
		if _, err := fmt.Sscan(out, &took); err != nil {
			t.Fatal(err, out)
		}
		least = min(least, took)
		want := []string{"dev tunnel-b", "dev tunnel-a"}[i%2]
		if got := l.in("hub", "ip route get 10.19.135.1"); !strings.Contains(got, want) {
			t.Fatalf("the route is %s, not %s", got, want)
		}
	}
	t.Logf("one way of %d prefixes moves in %.1f ms, the start of ip and date included", prefixes, float64(least)/1e6)
}
