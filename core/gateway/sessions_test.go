package gateway

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"wideknot/examples"
)

func TestSessionsOrder(t *testing.T) {
	for _, good := range []SessionsOrder{{Interface: "mill-1"}, {Interface: "mill-1", Reset: ResetKeys}, {Interface: "mill-1", Reset: ResetFlows}} {
		if err := good.Check(); err != nil {
			t.Errorf("%+v: %v", good, err)
		}
	}
	for _, bad := range []SessionsOrder{{}, {Interface: "a/b"}, {Interface: "sixteen-octets-1"}, {Interface: "mill-1", Reset: "all"}} {
		if bad.Check() == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

// A way that is looked up among many is that which is found for one; what is near has none.
func TestLookup(t *testing.T) {
	demo, err := examples.Estate("brindlewater")
	if err != nil {
		t.Fatal(err)
	}
	e := mapOf(demo)
	random := rand.New(rand.NewPCG(7, 7))
	for _, site := range []string{"quillbeck", "ashyard", "van-1"} {
		c := Of(e, e.Plan.SiteIndex(site))
		l := c.Lookup(nil)
		for range 5000 {
			r := &c.Routes[random.IntN(len(c.Routes))]
			to := r.Prefix.Addr()
			if random.IntN(3) == 0 {
				raw := to.As16()
				raw[12+random.IntN(4)] ^= byte(1 << random.IntN(8))
				to = netip.AddrFrom16(raw).Unmap()
			}
			want := c.WayTo(to)
			if want != nil && r.Way == 0 { // it is left by a device, which WayTo does not ask about
				continue
			}
			if got := l.To(to); got != want {
				t.Fatalf("%s to %s: %+v, want %+v", site, to, got, want)
			}
		}
		for i := range c.Routes {
			if r := &c.Routes[i]; r.Table == 0 && r.Way != 0 && c.Lookup([]netip.Prefix{netip.PrefixFrom(r.Prefix.Addr(), r.Prefix.Addr().BitLen())}).To(r.Prefix.Addr()) != nil {
				t.Fatalf("%s: %s is near and has a way", site, r.Prefix)
			}
			if i > 10 {
				break
			}
		}
	}
	if w := (&Config{}).Lookup(nil).To(netip.MustParseAddr("10.0.0.1")); w != nil {
		t.Error(w)
	}
}

func FuzzSessions(f *testing.F) {
	const good = `{"wideknot-gateway:output":{"key-session":[{"key":"` + "QUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUE=" + `","handshake-age":7,"endpoint":"192.0.2.1:51820","bytes-in":"12"}],` +
		`"flow":[{"protocol":6,"from":"10.1.0.9:40000","to":"10.2.0.7:443","unanswered":true,"seconds-left":80}],"more":3,"ended":4,"words":"x"}}`
	if _, err := ParseSessions([]byte(good)); err != nil {
		f.Fatal(err)
	}
	for _, bad := range [][2]string{{`"protocol":6`, `"protocol":256`}, {`"10.1.0.9:40000"`, `"10.1.0.9"`}, {`"from":"10.1.0.9:40000",`, ``}, {`"more":3`, `"more":-1`}, {`"seconds-left":80`, `"seconds-left":-80`}, {`"handshake-age":7`, `"handshake-age":-7`}, {`QUFB`, `QUF`}, {`wideknot-gateway:output`, `output`}, {`"ended":4`, `"ended":"4"`}} {
		if _, err := ParseSessions([]byte(strings.Replace(good, bad[0], bad[1], 1))); err == nil {
			f.Errorf("%s is taken", bad[1])
		}
	}
	many := `{"wideknot-gateway:output":{"flow":[` + strings.TrimSuffix(strings.Repeat(`{"protocol":6,"from":"10.1.0.9:40000","to":"10.2.0.7:443","seconds-left":8},`, MaxFlows+1), ",") + `]}}`
	if _, err := ParseSessions([]byte(many)); err == nil {
		f.Error("more flows are taken than are told")
	}
	f.Add([]byte(good))
	f.Add([]byte(`{"wideknot-gateway:output":{}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := ParseSessions(text)
		if err != nil {
			return
		}
		if len(s.Flows) > MaxFlows || s.More < 0 || s.Ended < 0 {
			t.Errorf("%+v", s)
		}
		for _, flow := range s.Flows {
			if !flow.From.IsValid() || !flow.To.IsValid() || flow.Left < 0 {
				t.Errorf("%+v", flow)
			}
		}
	})
}
