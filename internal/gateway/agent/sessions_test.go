package agent

import (
	"encoding/json"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"wideknot/core/gateway"
)

// An outsider lists what is open by a tunnel and ends it, as the module says.
func TestCurlListsAndResetsSessions(t *testing.T) {
	o, r, _ := served(t)
	c, _ := twoReleases()
	if err := r.Try(t.Context(), c, 1, "", 0); err != nil {
		t.Fatal(err)
	}
	name := c.Tunnels[0].Interface
	const path = "/restconf/operations/wideknot-gateway:sessions"
	for _, asks := range []string{`{"interface":"` + name + `"}`, `{"interface":"` + name + `","reset":"keys"}`, `{"interface":"` + name + `","reset":"flows"}`} {
		o.lint("rpc", `{"wideknot-gateway:sessions":`+asks+`}`)
		o.want("200", "POST", path, `{"wideknot-gateway:input":`+asks+`}`)
	}
	told := 0
	_, events, _, err := r.Events(0, 100)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range events {
		if e.Kind == SessionsReset && e.About == name {
			told++
		}
	}
	if told != 2 {
		t.Errorf("%d resets are in the journal: %+v", told, events)
	}
	answer, err := json.Marshal(gateway.Sessions{
		Keys:  []gateway.KeySession{{Key: c.Tunnels[0].WireGuard.PublicKey, HandshakeS: 9, Endpoint: netip.MustParseAddrPort("192.0.2.9:51820"), BytesIn: 7}},
		Flows: []gateway.Flow{{Protocol: 17, From: netip.MustParseAddrPort("10.1.0.9:4000"), To: netip.MustParseAddrPort("[fd00::7]:53"), Unanswered: true, Left: 12}},
		More:  1, Ended: 2, Words: "x",
	})
	if err != nil {
		t.Fatal(err)
	}
	o.lint("reply", `{"wideknot-gateway:sessions":`+string(answer)+`}`)
	const look = `{"interface":["x-1"],"host":["10.1.0.9","fd00::9"]}`
	o.lint("rpc", `{"wideknot-gateway:look":`+look+`}`)
	_, text := o.want("200", "POST", "/restconf/operations/wideknot-gateway:look", `{"wideknot-gateway:input":`+look+`}`)
	if strings.Contains(text, "begun") {
		t.Errorf("a plane that tells no flows has some begun: %s", text)
	}
	if answer, err = json.Marshal(gateway.Looked{Begun: []gateway.Begun{{Host: netip.MustParseAddr("10.1.0.9"), Flows: 3}}}); err != nil {
		t.Fatal(err)
	}
	o.lint("reply", `{"wideknot-gateway:look":`+string(answer)+`}`)
	for _, bad := range []string{`{}`, `{"wideknot-gateway:input":{"interface":"a/b"}}`, `{"wideknot-gateway:input":{"interface":"` + name + `","reset":"all"}}`} {
		if status, _, text := o.ask("POST", path, bad); status != "400" {
			t.Errorf("%s: %s %s", bad, status, text)
		}
	}
	if status, _, text := o.ask("POST", path, `{"wideknot-gateway:input":{"interface":"nowhere-9"}}`); status != "500" {
		t.Errorf("a tunnel that is not there: %s %s", status, text)
	}
}

// Flows are of the tunnel by which the way to either of their sides goes now.
func TestFlowsOfATunnel(t *testing.T) {
	p := netip.MustParsePrefix
	a := netip.MustParseAddr
	r := &Agent{running: &Version{Config: &gateway.Config{
		Ways: []gateway.Way{
			{ID: 1, Groups: []gateway.Group{{Place: 1, Members: []gateway.Member{{Interface: "one"}}}, {Place: 2, Members: []gateway.Member{{Interface: "two"}}}}},
			{ID: 2, Groups: []gateway.Group{{Place: 1, Members: []gateway.Member{{Interface: "two"}, {Interface: "three"}}}}},
			{ID: 3, Groups: []gateway.Group{{Place: 1, Members: []gateway.Member{{Interface: "one"}}}}},
		},
		Routes: []gateway.Route{{Prefix: p("10.1.0.0/16"), Way: 1}, {Prefix: p("10.2.0.0/16"), Way: 2}, {Prefix: p("0.0.0.0/0"), Way: 3}},
	}}, choice: Choice{Groups: []int{2, 1, 0}}}
	flow := func(from, to, answers string) Flow {
		return Flow{Flow: gateway.Flow{Protocol: 6, From: netip.AddrPortFrom(a(from), 4000), To: netip.AddrPortFrom(a(to), 80)}, Beyond: [2]netip.Addr{a(answers), a(from)}}
	}
	all := []Flow{
		flow("192.168.0.9", "10.1.0.1", "10.1.0.1"),       // by two, as one is not used
		flow("10.2.0.1", "192.168.0.9", "192.168.0.9"),    // from behind two or three
		flow("192.168.0.9", "192.168.0.8", "192.168.0.8"), // stays near
		flow("192.168.0.9", "172.30.0.1", "10.2.0.7"),     // translated
		flow("192.168.0.9", "203.0.113.9", "203.0.113.9"), // by a way that nothing carries
	}
	for name, want := range map[string][]string{"one": nil, "two": {"10.1.0.1:80", "172.30.0.1:80", "192.168.0.9:80"}, "three": {"172.30.0.1:80", "192.168.0.9:80"}} {
		var got []string
		for _, f := range r.passing(name, []netip.Prefix{p("192.168.0.0/24")}, slices.Clone(all)) {
			got = append(got, f.To.String())
		}
		slices.Sort(got)
		if !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", name, got, want)
		}
	}
}
