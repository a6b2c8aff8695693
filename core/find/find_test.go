package find

import (
	"fmt"
	"strings"
	"testing"

	"wideknot/core/check"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
	"wideknot/golden"
)

func demo(t testing.TB) (*route.Map, []check.Finding) {
	t.Helper()
	e, err := examples.Estate("brindlewater")
	if err != nil {
		t.Fatal(err)
	}
	p := tunnel.Derive(e)
	m := route.Build(p)
	return m, check.Run(p, m)
}

func TestIn(t *testing.T) {
	m, findings := demo(t)
	peer := m.Plan.Peers(m.Plan.SiteIndex("tarnhollow"))[0]
	for _, c := range []struct{ text, first string }{
		{"", ""},
		{"tarnhollow", "site tarnhollow"},
		{"tarn hollow", "site tarnhollow"},
		{"HOLLOW tarn", "site tarnhollow"},
		{"10.16.4.77", "subnet tarnhollow 10.16.4.0/24"},
		{"10.16.4.0/24", "subnet tarnhollow 10.16.4.0/24"},
		{"10.16.0.0/20", "subnet harrowmere 10.16.0.0/24"},
		{"10.16.4.77 10.20.8.9", "packet 10.16.4.77 10.20.8.9"},
		{"10.16.4.77 -> 10.20.8.9", "packet 10.16.4.77 10.20.8.9"},
		{"::ffff:10.16.4.77", "subnet tarnhollow 10.16.4.0/24"},
		{"192.168.40.1", "subnet crossfold 192.168.40.0/24"},
		{"203.0.113.12", "site quillbeck"},
		{peer.Local.Address4.Addr().String(), "tunnel tarnhollow " + m.Plan.Ident(peer.Tunnel)},
		{peer.Interface + " tarnhollow", "tunnel tarnhollow " + m.Plan.Ident(peer.Tunnel)},
		{"works-mesh", "overlay works-mesh"},
		{"both use 192.168.40.0/24", "finding"},
		{"nothing of the kind", ""},
		{"10.99.99.99", ""},
		{"10.16.4.77 10.20.8.9 10.1.1.1", ""},
	} {
		got := ""
		if hits := In(m, findings, c.text, 10); len(hits) > 0 {
			h := hits[0]
			got = strings.Join(strings.Fields(fmt.Sprint(h.Kind, " ", h.Site, " ", h.Overlay, " ", h.Tunnel, " ", h.From, " ", h.To)), " ")
			if h.Prefix.IsValid() {
				got += " " + h.Prefix.String()
			}
			if h.Kind == Tunnel {
				got = fmt.Sprint(h.Kind, " ", h.Site, " ", h.Tunnel)
			}
		}
		if got != c.first {
			t.Errorf("%q finds %q first, want %q", c.text, got, c.first)
		}
	}
	tunnels := func(text string) (n int) {
		for _, h := range In(m, findings, text, 1000) {
			if h.Kind == Tunnel {
				n++
			}
		}
		return n
	}
	if tunnels(peer.Interface) == 0 || tunnels("tarnhollow fibre") != 0 || tunnels(m.Plan.Site(peer.Remote.Site).Key+" tarnhollow") < 2 {
		t.Error("one word finds tunnels by their interface, and two by both their sites")
	}
	if hits := In(m, findings, "a", 7); len(hits) != 7 {
		t.Errorf("%d hits, want 7", len(hits))
	}
}

// All that is found for a text, in its order.
func TestHitsAreGolden(t *testing.T) {
	e, err := examples.Estate("three-sites", "10.40.2.0/24, zone: control, share: [ops]", "10.40.2.0/24, name: Control of Millgate, zone: control, share: [ops], map: 10.48.2.0/24", "zone: guest}", "zone: guest, name: Fibre guests}")
	if err != nil {
		t.Fatal(err)
	}
	p := tunnel.Derive(e)
	m := route.Build(p)
	findings := check.Run(p, m)
	var text strings.Builder
	for _, typed := range []string{
		"mill", "millgate", "Millgate Office", "office mill", "e", "fibre", "guests", "control", "millgate-1", "millgate stonebeck", "stonebeck millgate-1", "works", "ops", "op", "single",
		"10.40.3.9", "10.40.0.0/16", "0.0.0.0/0", "10.48.2.0/24", "203.0.113.10", "100.96.0.0", "100.96.0.0/24",
		"10.40.1.1 10.40.3.9", "to 10.40.1.1 → 10.40.3.9", "10.40.1.1 ->", "10.40.1.1 10.40.2.1 10.40.3.1", "fe80::1%lo", "10.40.1.1/24 10.40.1.1", "10.40.1.1/24",
	} {
		fmt.Fprintf(&text, "%q\n", typed)
		for _, h := range In(m, findings, typed, 12) {
			fmt.Fprintf(&text, "\t%+v\n", h)
		}
	}
	golden.Text(t, "testdata/hits.txt", []byte(text.String()))
}

// A subnet is found by the prefix that stands for it in the overlays, and says so; by
// its own it does not.
func TestMappedSubnets(t *testing.T) {
	e, err := examples.Estate("three-sites", "{prefix: 10.40.2.0/24, zone: control, share: [ops]}", "{prefix: 10.40.2.0/24, zone: control, share: [ops], map: 10.48.2.0/24}")
	if err != nil {
		t.Fatal(err)
	}
	m := route.Build(tunnel.Derive(e))
	for text, want := range map[string]string{
		"10.48.2.9":    "at stonebeck, control, in ops, seen there as 10.48.2.0/24",
		"10.40.2.9":    "at stonebeck, control, in ops",
		"192.168.77.9": "at withybrook, guest, shared nowhere",
	} {
		if hits := In(m, nil, text, 10); len(hits) == 0 || hits[0].Detail != want {
			t.Errorf("%s: %+v, want %q", text, hits, want)
		}
	}
}

// Whatever is typed, hits are of things that are there.
func FuzzFind(f *testing.F) {
	m, findings := demo(f)
	for _, seed := range []string{"tarn", "10.0.0.1", "10.0.0.1 ::1", "1.2.3.4/33", "-> to", "\x00", "ÄÖ /"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, h := range In(m, findings, text, 40) {
			if h.Site != "" && m.Plan.SiteIndex(h.Site) < 0 || h.Kind == Subnet && !h.Prefix.IsValid() || h.Text == "" {
				t.Errorf("%q finds %+v", text, h)
			}
		}
	})
}

func BenchmarkFind(b *testing.B) {
	m, findings := demo(b)
	for b.Loop() {
		In(m, findings, "osier", 40)
	}
}

func ExampleIn() {
	e, _ := examples.Estate("three-sites")
	m := route.Build(tunnel.Derive(e))
	for _, hit := range In(m, nil, "10.40.2.9", 3) {
		fmt.Println(hit.Kind, hit.Text, hit.Detail)
	}
	// Output: subnet 10.40.2.0/24 at stonebeck, control, in ops
}
