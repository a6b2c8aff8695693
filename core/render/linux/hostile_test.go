package linux_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"reflect"
	"regexp"
	"slices"
	"sort"
	"strings"
	"testing"

	"wideknot/core/addr"
	"wideknot/core/estate"
	"wideknot/core/gateway"
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
			func() ([]render.File, error) {
				c := gateway.Of(m, i)
				text, err := gateway.Write(c)
				return []render.File{{Path: c.Site + "/gateway.json", Text: text}}, errors.Join(err, c.Check())
			},
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
			e := sample.Mixed(seed)
			if seed == 2 { // one overlay of the other transport
				o := &e.Overlays[len(e.Overlays)-1]
				o.Transport, o.PresharedKeys = estate.IPsec, false
			}
			tryTexts(t, e)
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

// Random documents, applied, are what they plan: each tunnel has that one peer, and
// the kernel exactly the routes; --remove leaves nothing.
func TestRenderedFilesAreThePlan(t *testing.T) {
	l := newLab(t)
	for seed := range uint64(1) {
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

// judgeSite applies a site's bundle beside devices that stand in for the real ones,
// compares what the kernel and its tunnels then have with the plan, and takes it all
// away again.
func judgeSite(t *testing.T, l *lab, m *route.Map, site int, where string) {
	t.Helper()
	peers := m.Plan.Peers(site)
	if len(peers) == 0 {
		return
	}
	name := fmt.Sprintf("s%d-%d", site, labs)
	labs++
	l.add(name)
	l.devices(name, m.Plan.Site(site))
	folder := l.write(m, site, keysOf(site), name)
	if out, err := l.apply(name, folder); err != nil {
		t.Errorf("%s: apply: %v\n%s", where, err, out)
		return
	}
	for i := range peers {
		l.judgePeer(t, name, &peers[i], where)
	}
	l.judgeRoutes(t, name, m, site, where)
	if out, err := l.apply(name, folder, "--remove"); err != nil {
		t.Errorf("%s: apply --remove: %v\n%s", where, err, out)
	}
	l.nothingOfOurs(t, name, where)
}

// judgePeer compares a tunnel with what wg says of it.
func (l *lab) judgePeer(t *testing.T, name string, peer *tunnel.Peer, where string) {
	t.Helper()
	dump := strings.Split(strings.TrimSpace(l.run(append([]string{"ip"}, l.withSockets(name, "wg", "show", peer.Interface, "dump")...)...)), "\n")
	if len(dump) != 2 {
		t.Errorf("%s, %s: wg has %d peers", where, peer.Interface, len(dump)-1)
		return
	}
	fields := strings.Split(dump[1], "\t")
	var want []string
	for _, p := range peer.Allowed() {
		want = append(want, p.String())
	}
	got := strings.Split(fields[3], ",")
	sort.Strings(want)
	sort.Strings(got)
	if fields[0] != peer.PublicKey || !slices.Equal(got, want) || strings.Split(dump[0], "\t")[2] != fmt.Sprint(peer.Local.UDP) {
		t.Errorf("%s, %s: wg has %v and %v, planned was %v", where, peer.Interface, dump[0], fields, want)
	}
}

// devices makes stand-ins for the devices that a site's design names.
func (l *lab) devices(name string, s *estate.Site) {
	l.t.Helper()
	devices := map[string]bool{s.Gateway.LANDevice: true}
	for i := range s.Links {
		devices[s.Links[i].Device] = true
	}
	delete(devices, "")
	for device := range devices {
		l.in(name, "ip link add dev "+device+" type veth peer name x"+device)
		l.in(name, "ip link set "+device+" up")
		l.in(name, "ip link set x"+device+" up")
	}
	for i := range s.Links {
		for _, hop := range s.Links[i].NextHop {
			if s.Links[i].Device != "" {
				l.in(name, fmt.Sprintf("ip route replace %s dev %s metric 7", netip.PrefixFrom(hop, hop.BitLen()), s.Links[i].Device))
			}
		}
	}
}

// judgeRoutes compares the kernel's routes with the plan.
func (l *lab) judgeRoutes(t *testing.T, name string, m *route.Map, site int, where string) {
	t.Helper()
	want, discards := map[string]string{}, []netip.Prefix{}
	for _, r := range m.Table(site) {
		switch {
		case r.Kind == route.Breakout: // in a table of its own
			continue
		case r.Link != nil:
			want[r.Prefix.String()] = r.Link.Device
		case len(r.Hops) > 0:
			var names []string
			for _, h := range r.Hops[:route.Sharing(r.Hops)] {
				names = append(names, h.Interface)
			}
			want[r.Prefix.String()] = strings.Join(names, " ")
		}
		if r.Discards() {
			discards = append(discards, r.Prefix)
		}
	}
	got, discarded := l.kernelRoutes(t, name)
	for prefix, by := range want {
		if got[prefix] != by {
			t.Errorf("%s: %s goes by %q, planned was %q", where, prefix, got[prefix], by)
		}
	}
	for prefix := range got {
		if want[prefix] == "" && !transit(m, prefix) {
			t.Errorf("%s: there is a route to %s, which nobody planned", where, prefix)
		}
	}
	if a, b := addr.Aggregate(discarded), addr.Aggregate(discards); !slices.Equal(a, b) {
		t.Errorf("%s: discarded is %v, planned was %v", where, a, b)
	}
}

// nothingOfOurs fails where something is left that a bundle made.
func (l *lab) nothingOfOurs(t *testing.T, name, where string) {
	t.Helper()
	for _, command := range []string{"ip route show table all proto 199", "ip -6 route show table all proto 199", "ip nexthop show", "nft list ruleset"} {
		if out := l.in(name, command); strings.TrimSpace(out) != "" {
			t.Errorf("%s: after --remove, %s has\n%s", where, command, out)
		}
	}
	if out := l.in(name, "ip rule show") + l.in(name, "ip -6 rule show"); strings.Contains(out, "199") {
		t.Errorf("%s: after --remove there are rules\n%s", where, out)
	}
	if out := l.in(name, "ip -o link show"); strings.Contains(out, "wideknot:") {
		t.Errorf("%s: after --remove there are interfaces\n%s", where, out)
	}
	if left, err := os.ReadDir(l.folder(name, "state")); !os.IsNotExist(err) {
		t.Errorf("%s: after --remove the state folder has %v", where, left)
	}
}

// kernelRoutes lists the routes of the main table that are ours: by which devices
// each goes, and the discards.
func (l *lab) kernelRoutes(t *testing.T, name string) (by map[string]string, discards []netip.Prefix) {
	t.Helper()
	var hops []struct {
		ID    int
		Dev   string
		Group []struct{ ID int }
	}
	if err := json.Unmarshal([]byte(l.in(name, "ip -j nexthop show")), &hops); err != nil {
		t.Fatal(err)
	}
	devices := map[int]string{}
	for _, h := range hops {
		devices[h.ID] = h.Dev
	}
	for _, h := range hops {
		var names []string
		for _, member := range h.Group {
			names = append(names, devices[member.ID])
		}
		if len(names) > 0 {
			devices[h.ID] = strings.Join(names, " ")
		}
	}
	by = map[string]string{}
	for _, family := range []string{"-4", "-6"} {
		var list []struct {
			Type, Dst, Dev string
			NHID           int
		}
		if err := json.Unmarshal([]byte(l.in(name, "ip -j "+family+" route show table main proto 199")), &list); err != nil {
			t.Fatal(err)
		}
		for _, r := range list {
			prefix := netip.PrefixFrom(netip.IPv4Unspecified(), 0)
			if r.Dst != "default" {
				if !strings.Contains(r.Dst, "/") {
					r.Dst += map[string]string{"-4": "/32", "-6": "/128"}[family]
				}
				prefix = netip.MustParsePrefix(r.Dst)
			} else if family == "-6" {
				prefix = netip.PrefixFrom(netip.IPv6Unspecified(), 0)
			}
			switch {
			case r.NHID > 0:
				by[prefix.String()] = devices[r.NHID]
			case r.Type == "blackhole":
				discards = append(discards, prefix)
			default:
				by[prefix.String()] = r.Dev
			}
		}
	}
	return by, discards
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
