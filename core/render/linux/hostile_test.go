package linux_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"sort"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/render"
	"wideknot/core/render/linux"
	"wideknot/core/render/restconf"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// evil are texts of which none may reach a configuration. Each ends in what
// would be seen there.
var evil = []string{
	"x\n[Peer]\nAllowedIPs = 0.0.0.0/0 # EVIL", "x\rEVIL", "x\" ; EVIL", "x'; EVIL; '", "$(EVIL)", "`EVIL`", "x;EVIL", "x } EVIL", "x\u2028EVIL", "x\u0085EVIL", "x\x00EVIL",
	"x\\\nEVIL", "eth0\" accept\n\t\tEVIL", "-EVIL", "EVIL", "x EVIL", "\tEVIL", "x#EVIL", "x|EVIL", "\u202eEVIL", "{{EVIL}}", "%sEVIL",
}

// evilZones are addresses that hold such a text.
var evilZones = []string{"%lo]:51820\n[Peer]\nEVIL", "%EVIL", "%e\"EVIL", "%a EVIL"}

// everyText calls change for each text and address of a value, with a function
// that sets it.
func everyText(path string, v reflect.Value, change func(path string, set func(text string))) {
	switch v.Kind() {
	case reflect.String:
		was := v.String()
		change(path, func(text string) { v.SetString(text) })
		v.SetString(was)
	case reflect.Pointer:
		if !v.IsNil() {
			everyText(path, v.Elem(), change)
		}
	case reflect.Slice:
		for i := range v.Len() {
			everyText(fmt.Sprintf("%s[%d]", path, i), v.Index(i), change)
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			value := reflect.New(v.Type().Elem()).Elem()
			value.Set(v.MapIndex(key))
			if v.Type().Elem().Kind() == reflect.String {
				change(path+"["+key.String()+"]", func(text string) { v.SetMapIndex(key, reflect.ValueOf(text)) })
				v.SetMapIndex(key, value)
			}
		}
	case reflect.Struct:
		if at, ok := v.Addr().Interface().(*netip.Addr); ok {
			was := *at
			change(path, func(text string) { *at = netip.MustParseAddr("fe80::1").WithZone(strings.TrimPrefix(text, "%")) })
			*at = was
			return
		}
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				everyText(path+"."+v.Type().Field(i).Name, v.Field(i), change)
			}
		}
	}
}

// rendered is every file that anything renders of an estate; refused says that a
// renderer would not.
func rendered(e *estate.Estate) (files []render.File, refused error) {
	m := route.Build(tunnel.Derive(e))
	for i := range e.Sites {
		for _, make := range []func() ([]render.File, error){
			func() ([]render.File, error) { return linux.Site(m, i, linux.NoKeys) },
			func() ([]render.File, error) { return restconf.Site(m, i) },
		} {
			more, err := make()
			if err != nil {
				refused = err
			}
			files = append(files, more...)
		}
	}
	return files, refused
}

// A text in any field is refused by validation, or does not change what a file
// says; and what validation would have to refuse, the renderers refuse again.
func TestTextNeverBecomesConfiguration(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	for seed := range uint64(3) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			t.Parallel()
			tryTexts(t, sample.Mixed(seed))
		})
	}
}

// tryTexts puts evil texts into every field of an estate, two into each, all of
// them in turn.
func tryTexts(t *testing.T, e *estate.Estate) {
	for i := range e.Sites {
		e.Sites[i].Gateway.PublicKey = testKey(byte(i + 1)).public
	}
	e.Allocations = tunnel.Derive(e).Allocations()
	clean, err := rendered(e)
	if err != nil {
		t.Fatal(err)
	}
	peers := countOf(clean, "[Peer]")
	tried, shown := 0, 0
	everyText("", reflect.ValueOf(e).Elem(), func(path string, set func(string)) {
		texts := evil
		if strings.Contains(path, "Address") || strings.HasSuffix(path, "Outside") || strings.Contains(path, "NextHop") || strings.HasSuffix(path, "Upstream") {
			texts = evilZones
		}
		for range 2 {
			text := texts[tried%len(texts)]
			tried++
			set(text)
			problems := estate.Validate(e)
			if len(problems) > 0 && !written.MatchString(path) {
				continue
			}
			shown++ // what validation refuses, to see the last guard work alone
			files, refused := rendered(e)
			if len(problems) == 0 && refused != nil {
				t.Errorf("%s = %q: validation takes what a renderer refuses: %v", path, text, refused)
			}
			for _, f := range files {
				if said := speaks(f); said != "" {
					t.Errorf("%s = %q is in %s: %s", path, text, f.Path, said)
				}
			}
			if refused == nil && len(problems) == 0 && countOf(files, "[Peer]") != peers && !strings.Contains(path, "Key") {
				t.Errorf("%s = %q: %d peers, not %d", path, text, countOf(files, "[Peer]"), peers)
			}
		}
	})
	if tried < 300 || shown < 30 {
		t.Errorf("only %d texts were tried, and %d rendered", tried, shown)
	}
}

// written are fields whose text is written as it is.
var written = regexp.MustCompile(`(Device|Hostname|PublicKey|Outside|Upstream|LANAddress|Ports\[\d+\]|NextHop\[\d+\]|Keys\[.*\])$`)

func countOf(files []render.File, what string) int {
	n := 0
	for _, f := range files {
		n += strings.Count(string(f.Text), what)
	}
	return n
}

// speaks returns a line of a configuration that says something that was slipped
// in. A name may hold such a word in the heading of README.txt; in JSON a text
// is a text, whatever it holds.
func speaks(f render.File) string {
	if strings.HasSuffix(f.Path, ".json") {
		if !json.Valid(f.Text) {
			return "not JSON"
		}
		return ""
	}
	for i, line := range strings.Split(string(f.Text), "\n") {
		bare := strings.TrimSpace(line)
		if strings.Contains(bare, "EVIL") && !(strings.HasSuffix(f.Path, "README.txt") && i == 0) && !wholeWord.MatchString(bare) {
			return line
		}
	}
	return ""
}

// wholeWord is a word that is just a name: EVIL alone where a device, say, is
// named.
var wholeWord = regexp.MustCompile(`(^|[ "/])[a-z%]*EVIL($|[ ",:])`)

// Random documents, rendered, are what they plan: wg takes each file and then
// has that one peer, nft takes the rules, and ip makes exactly the routes.
func TestRenderedFilesAreThePlan(t *testing.T) {
	l := newLab(t)
	l.add("g")
	l.in("g", "ip tuntap add dev lan0 mode tun")
	command := exec.Command("ip", l.withSockets("g", "wireguard-go", "--foreground", "probe")...)
	command.Env = append(os.Environ(), "LOG_LEVEL=error")
	said := &strings.Builder{}
	command.Stdout, command.Stderr = said, said
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { command.Process.Kill(); command.Wait() })
	l.waitForInterface("g", "probe", said)
	for seed := range uint64(5) {
		e := sample.Mixed(seed)
		for i := range e.Sites {
			e.Sites[i].Gateway.PublicKey = testKey(byte(i + 1)).public
		}
		m := route.Build(tunnel.Derive(e))
		for i := range e.Sites {
			judgeSite(t, l, m, i, fmt.Sprintf("seed %d, site %s", seed, e.Sites[i].Key))
		}
	}
}

func judgeSite(t *testing.T, l *lab, m *route.Map, site int, where string) {
	t.Helper()
	folder := t.TempDir()
	peers := m.Plan.Peers(site)
	for _, f := range bundle(t, m, site, linux.NoKeys) {
		path := filepath.Join(folder, filepath.Base(f.Path))
		if err := os.WriteFile(path, f.Text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, peer := range peers {
		path := filepath.Join(folder, peer.Interface+".conf")
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(where, err)
		}
		// No names are resolved here.
		text = regexp.MustCompile(`(?m)^Endpoint = [a-z0-9.-]+\.net:`).ReplaceAll(text, []byte("Endpoint = 192.0.2.1:"))
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
		l.run(append([]string{"ip"}, l.withSockets("g", "wg", "setconf", "probe", path)...)...)
		dump := strings.Split(strings.TrimSpace(l.run(append([]string{"ip"}, l.withSockets("g", "wg", "show", "probe", "dump")...)...)), "\n")
		if len(dump) != 2 {
			t.Errorf("%s, %s: wg has %d peers", where, peer.Interface, len(dump)-1)
			continue
		}
		fields := strings.Split(dump[1], "\t")
		var want []string
		for _, p := range peer.Allowed {
			want = append(want, p.String())
		}
		got := strings.Split(fields[3], ",")
		sort.Strings(want)
		sort.Strings(got)
		if fields[0] != peer.PublicKey || !slices.Equal(got, want) || strings.Split(dump[0], "\t")[2] != fmt.Sprint(peer.Local.UDP) {
			t.Errorf("%s, %s: wg has %v and %v, planned was %v", where, peer.Interface, dump[0], fields, want)
		}
	}
	if len(peers) == 0 {
		return
	}
	l.run("ip", "netns", "exec", l.ns("g"), "nft", "-c", "-f", filepath.Join(folder, "filter.nft"))
	l.routes(t, m, site, folder, where)
}

// standIn is the metric of routes that are there before the plan's.
const standIn = 7

// routes lets ip make a site's routes between devices that stand in for the real
// ones, and compares the main table with the plan.
func (l *lab) routes(t *testing.T, m *route.Map, site int, folder, where string) {
	t.Helper()
	name := fmt.Sprintf("s%d-%d", site, labs)
	labs++
	l.run("ip", "netns", "add", l.ns(name))
	defer l.try("ip", "netns", "del", l.ns(name))
	var script strings.Builder
	for _, peer := range m.Plan.Peers(site) {
		fmt.Fprintf(&script, "tuntap add dev %s mode tun\n", peer.Interface)
	}
	s := m.Plan.Site(site)
	fmt.Fprintf(&script, "tuntap add dev %s mode tun\nlink set %s up\n", s.Gateway.LANDevice, s.Gateway.LANDevice)
	for i := range s.Links {
		if s.Links[i].Device != s.Gateway.LANDevice { // which is there already
			fmt.Fprintf(&script, "tuntap add dev %s mode tun\nlink set %s up\n", s.Links[i].Device, s.Links[i].Device)
		}
		for _, hop := range s.Links[i].NextHop {
			fmt.Fprintf(&script, "route replace %s dev %s table main metric %d\n", netip.PrefixFrom(hop, hop.BitLen()), s.Links[i].Device, standIn)
		}
	}
	batch := func(what, file string, arguments ...string) {
		t.Helper()
		if out, err := l.try(append([]string{"ip", "netns", "exec", l.ns(name), "ip"}, append(arguments, "-batch", file)...)...); err != nil {
			text, _ := os.ReadFile(file)
			t.Errorf("%s: ip refuses %s: %s\n%s", where, what, out, text)
		}
	}
	devices := filepath.Join(folder, "devices.ip")
	if err := os.WriteFile(devices, []byte(script.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	batch("the stand-ins", devices)
	for file, arguments := range map[string][]string{"rules.ip": nil, "rules6.ip": {"-6"}} {
		if _, err := os.Stat(filepath.Join(folder, file)); err == nil {
			batch(file, filepath.Join(folder, file), arguments...)
		}
	}
	batch("network.ip", filepath.Join(folder, "network.ip"))
	want := map[string]bool{}
	for _, r := range m.Table(site) {
		if r.Kind == route.Breakout { // in a table of its own
			continue
		}
		if r.Link != nil {
			want[fmt.Sprint(r.Prefix, " ", r.Link.Device, " ", 0)] = true
		}
		for _, h := range r.Hops {
			want[fmt.Sprint(r.Prefix, " ", h.Interface, " ", h.Metric)] = true
		}
	}
	got := map[string]bool{}
	for _, family := range []string{"-4", "-6"} {
		var list []struct {
			Dst, Dev string
			Metric   int
			Type     string
			Protocol string
			NextHops []struct{ Dev string }
		}
		if err := json.Unmarshal([]byte(l.in(name, "ip -N -j "+family+" route show table main")), &list); err != nil {
			t.Fatal(err)
		}
		for _, r := range list {
			if !strings.Contains(r.Dst, "/") {
				r.Dst += map[string]string{"-4": "/32", "-6": "/128"}[family]
			}
			if r.Type == "blackhole" || r.Type == "6" || r.Metric == standIn || r.Protocol == "kernel" || r.Protocol == "2" {
				continue
			}
			for _, hop := range append(r.NextHops, struct{ Dev string }{r.Dev}) {
				if hop.Dev != "" {
					got[fmt.Sprint(r.Dst, " ", hop.Dev, " ", r.Metric)] = true
				}
			}
		}
	}
	for id := range want {
		if !got[id] {
			t.Errorf("%s: ip lacks the route %s", where, id)
		}
	}
	for id := range got {
		prefix, _, _ := strings.Cut(id, " ")
		if !want[id] && prefix != "default/32" && prefix != "default/128" && !transit(m, prefix) {
			t.Errorf("%s: ip has the route %s, which nobody planned", where, id)
		}
	}
}

// transit reports whether a prefix is of tunnel addresses.
func transit(m *route.Map, text string) bool {
	p, err := netip.ParsePrefix(text)
	if err != nil || p.Addr().IsLinkLocalUnicast() || p.Addr().IsMulticast() {
		return true
	}
	for i := range m.Plan.Overlays {
		for _, pool := range m.Plan.Overlays[i].Spec.Transit {
			if pool.Overlaps(p) {
				return true
			}
		}
	}
	return false
}
