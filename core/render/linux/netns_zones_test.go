package linux_test

import (
	"strings"
	"testing"
)

// TestZonesBreakoutAndTwoOverlays sends packets between hosts behind four
// gateways: by the works' mesh where both ends are in it, by the hub where
// not, as the zone policy permits, and to the internet through the hub.
func TestZonesBreakoutAndTwoOverlays(t *testing.T) {
	l := newLab(t)
	m, keys := example(t, "breakout")
	l.in("net", "ip address add 198.51.100.99/32 dev lo")
	l.in("net", "ip address add 192.0.2.99/32 dev lo")
	host := map[string]string{}
	for i := range m.Plan.Estate.Sites {
		site := m.Plan.Site(i)
		l.add(site.Key)
		address, gateway := site.Links[0].Addresses[0].String(), site.Links[0].NextHop[0].String()
		l.cable(site.Key, "wan0", address+"/30", "net", site.Key, gateway+"/30")
		l.in(site.Key, "ip route add default via "+gateway)
		lan := site.Subnets[0].Prefix.Addr().Next()
		host[site.Key] = lan.Next().String()
		l.add(site.Key + "-host")
		l.cable(site.Key, "lan0", lan.String()+"/24", site.Key+"-host", "eth0", host[site.Key]+"/24")
		l.in(site.Key+"-host", "ip route add default via "+lan.String())
	}
	for i := range m.Plan.Estate.Sites {
		l.bringUp(m, i, keys)
	}
	ping := func(from, to string) bool { return l.pings(from+"-host", host[from], to) }
	arrives := func(from, to string) {
		t.Helper()
		l.waitForPing(from+"-host", host[from], to)
	}
	arrives("tarn", host["weir"])
	arrives("weir", host["tarn"])
	arrives("tarn", host["first"])
	if got := l.in("tarn", "ip route get "+host["weir"]+" from "+host["tarn"]+" iif lan0"); !strings.Contains(got, "weir-") {
		t.Errorf("between the works the mesh is shorter, but the route is %s", got)
	}

	// The van's rules: it may ping tarn, and nothing else in the control zone.
	arrives("van", host["tarn"])
	if ping("van", host["weir"]) || ping("van", host["first"]) {
		t.Error("the van reaches what rule 2 denies")
	}
	if ping("weir", host["van"]) {
		t.Error("the answers of the van to weir pass, which rule 2 denies")
	}

	// Its internet traffic leaves at the hub, under the hub's address, though
	// the tunnel's own endpoint lies in the same direction.
	arrives("van", "198.51.100.99")
	if got := l.in("van", "ip route get 198.51.100.99 from "+host["van"]+" iif lan0"); !strings.Contains(got, "first-") {
		t.Errorf("the internet is reached by %s", got)
	}
	if got := l.in("van", "ip route get 192.0.2.99"); !strings.Contains(got, "via 203.0.113.13 dev wan0") {
		t.Errorf("the exception is reached by %s", got)
	}
}
