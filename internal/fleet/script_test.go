package fleet

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/examples"
)

func TestScripts(t *testing.T) {
	s, err := ReadScript(strings.NewReader(examples.TwoFaults))
	if err != nil || len(s.Changes) != 2 {
		t.Fatalf("the demo's: %v", err)
	}
	s, err = ReadScript(strings.NewReader("changes:\n - {at: 2m, do: restore, provider: Lumenway}\n - {at: 1s, do: like, fate: duct-1, loss_percent: 5}\n"))
	if err != nil || s.Changes[0].At != Duration(time.Second) || *s.Changes[0].LossPct != 5 {
		t.Errorf("%v: %+v", err, s)
	}
	for text, says := range map[string]string{
		"changes: [{do: burn, site: tarn}]":                      "there is no change",
		"changes: [{do: cut}]":                                   "of no link",
		"changes: [{do: cut, site: tarn, link: a, colour: red}]": "colour",
		"changes: [{at: soon, do: cut, site: tarn}]":             "no time",
		"changes: [{do: clock, seconds: 5}]":                     "of one site",
		"changes: [{do: like, site: tarn, loss_percent: -1}]":    "loss_percent",
		"changes: {": "cannot be read",
	} {
		if _, err := ReadScript(strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

func FuzzScript(f *testing.F) {
	f.Add(examples.TwoFaults)
	f.Add("changes: [{at: 1s, do: nat, site: a, nat: {dependent: true, expires: 3}}]")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ReadScript(strings.NewReader(text))
		if err != nil {
			return
		}
		if !slices.IsSortedFunc(s.Changes, func(a, b Change) int { return int(a.At - b.At) }) {
			t.Error("the changes are not in the order of their times")
		}
	})
}

// plain is a world of which nothing runs.
func plain(t *testing.T, name string) *World {
	t.Helper()
	return New(read(t, name), 1, slog.New(slog.DiscardHandler))
}

// The world is looked at and changed over HTTP; what cannot be is refused with words.
func TestTheWorldOverHTTP(t *testing.T) {
	w := plain(t, "three-sites")
	s := httptest.NewServer(w.Handler())
	defer s.Close()
	ask := func(method, path, body string, headers ...string) (int, string) {
		t.Helper()
		r, err := http.NewRequest(method, s.URL+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		if body != "" {
			r.Header.Set("Content-Type", "application/json")
		}
		for i := 0; i+1 < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		text, _ := io.ReadAll(answer.Body)
		return answer.StatusCode, string(text)
	}
	site := w.View()[0].Site
	for _, test := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"GET", "/", "", 200, "The world outside"}, {"GET", "/page.js", "", 200, "changes"}, {"GET", "/world", "", 200, `"site":"` + site + `"`},
		{"POST", "/changes", `{"do":"cut","site":"` + site + `"}`, 204, ""}, {"POST", "/changes", `[{"do":"restore","site":"` + site + `"},{"do":"like","site":"` + site + `","latency_ms":40}]`, 204, ""},
		{"POST", "/changes", `{"do":"cut","site":"nowhere"}`, 422, "there is no site nowhere"}, {"POST", "/changes", `{"do":"forward","site":"` + site + `"}`, 422, "nothing is forwarded"},
		{"POST", "/changes", `nonsense`, 400, "no change"}, {"POST", "/changes", strings.Repeat("x", mostChange+1), 413, "too long"},
		{"GET", "/ask?site=" + site + "&from=x&to=10.0.0.1", "", 400, "from is an address"}, {"GET", "/ask?site=" + site + "&from=10.255.0.1&to=10.0.0.1", "", 400, "no host of"},
		{"GET", "/ask?site=" + site + "&from=10.0.0.1&to=10.0.0.1&size=99999", "", 400, "size is a number"},
	} {
		if status, text := ask(test.method, test.path, test.body); status != test.status || !strings.Contains(text, test.says) {
			t.Errorf("%s %s %.60s: %d %.200s", test.method, test.path, test.body, status, text)
		}
	}
	if w.View()[0].Links[0].LatencyMs != 40 || w.View()[0].Links[0].Cut {
		t.Errorf("the link is %+v", w.View()[0].Links[0])
	}
	if status, _ := ask("POST", "/changes", `{"do":"cut","site":"`+site+`"}`, "Origin", "http://elsewhere.example"); status != http.StatusForbidden {
		t.Errorf("a page of another origin: %d", status)
	}
	r, _ := http.NewRequest("GET", s.URL+"/world", nil)
	r.Host = "elsewhere.example"
	if answer, err := http.DefaultClient.Do(r); err != nil || answer.StatusCode != http.StatusMisdirectedRequest {
		t.Errorf("by another name: %v", err)
	}
}

// NAT by its kinds (RFC 4787): which port far ends see, who gets through, when it ends.
func TestNATKinds(t *testing.T) {
	near, far, other := netip.MustParseAddrPort("192.168.8.20:5000"), netip.MustParseAddrPort("203.0.113.1:7"), netip.MustParseAddrPort("203.0.113.2:7")
	const udp = 17
	now := time.Now()
	for _, test := range []struct {
		name                string
		behaves             Behaviour
		samePort, otherGets bool
	}{
		{"one port for all, only who was asked", Behaviour{Expires: 60}, true, false},
		{"one port for all, whoever knows it", Behaviour{Open: true, Expires: 60}, true, true},
		{"a port for each", Behaviour{Dependent: true, Expires: 60}, false, false},
	} {
		n := newNAT(netip.MustParseAddr("198.18.0.1"))
		l := &Link{nat: test.behaves, behind: n, spec: estate.Link{Reach: estate.NAT}}
		first := n.leave(l, udp, near, far, now)
		if _, to, ok := n.enter(udp, far, first.Port(), now); !ok || to != near {
			t.Errorf("%s: who was asked does not get through", test.name)
		}
		if _, _, ok := n.enter(udp, other, first.Port(), now); ok != test.otherGets {
			t.Errorf("%s: another gets through: %v", test.name, ok)
		}
		if second := n.leave(l, udp, near, other, now); (second == first) != test.samePort {
			t.Errorf("%s: %v and then %v", test.name, first, second)
		}
		if _, _, ok := n.enter(udp, far, first.Port(), now.Add(2*time.Minute)); ok {
			t.Errorf("%s: it never ends", test.name)
		}
	}
	// A forwarded port lets everybody in, as long as it is forwarded.
	n := newNAT(netip.MustParseAddr("198.18.0.1"))
	l := &Link{behind: n, spec: estate.Link{Reach: estate.Forwarded, Forwards: []string{"5000-5009"}}}
	if at := n.leave(l, udp, near, far, now); at.Port() != 5000 {
		t.Errorf("it leaves by port %d", at.Port())
	}
	if _, _, ok := n.enter(udp, other, 5000, now.Add(time.Hour)); !ok {
		t.Error("a forwarded port is closed")
	}
	l.unforward = true
	if _, _, ok := n.enter(udp, other, 5000, now.Add(time.Hour)); ok {
		t.Error("a port that is not forwarded any more is open")
	}
	if l.forwards(5010) || l.forwards(4999) {
		t.Error("it forwards other ports")
	}
}

// Behind two routers an answer gets through both, and a forwarded port leads nowhere.
func TestDoubleNAT(t *testing.T) {
	w := New(causesEstate(t), 1, slog.New(slog.DiscardHandler))
	near, far, other := netip.MustParseAddrPort("192.168.8.20:5000"), netip.MustParseAddrPort("203.0.113.1:7"), netip.MustParseAddrPort("203.0.113.2:7")
	const udp = 17
	if err := w.Do(Change{Do: "nat", Site: "ford", NAT: &Behaviour{Expires: 30, Double: true}}); err != nil {
		t.Fatal(err)
	}
	l := w.Site("ford").Links[0]
	now := time.Now()
	out := l.hide(udp, near, far, now)
	if inner := l.before.out[mapping{link: l, protocol: udp, inside: near}]; inner == nil || out.Addr() != l.behind.outside || !netip.MustParsePrefix("100.64.0.0/10").Contains(l.before.outside) {
		t.Fatalf("it leaves as %v, by %+v", out, inner)
	}
	if at, to, ok := l.behind.admit(udp, far, out.Port(), now); !ok || at != l || to != near {
		t.Errorf("an answer gets to %v, %v", to, ok)
	}
	if _, _, ok := l.behind.admit(udp, other, out.Port(), now); ok || l.forwards(near.Port()) {
		t.Error("somebody who was not asked gets in")
	}
	if _, _, ok := l.behind.admit(udp, far, out.Port(), now.Add(31*time.Second)); ok {
		t.Error("it never ends")
	}
	l.hide(udp, near, far, now)
	if err := w.Do(Change{Do: "restart", Site: "ford"}); err != nil || len(l.before.in)+len(l.behind.in) > 0 {
		t.Errorf("routers that began anew know %d and %d ports, %v", len(l.before.in), len(l.behind.in), err)
	}
	if err := w.Do(Change{Do: "nat", Site: "ford", NAT: &Behaviour{}}); err != nil || l.before != nil || !l.forwards(51820) {
		t.Errorf("with one router again: %v", err)
	}
}

// What a link is like is what packets find: its rate, its loss, its MTU.
func TestCircuits(t *testing.T) {
	w := plain(t, "three-sites")
	l := w.Sites()[0].Links[0]
	l.Like = Like{LatencyMs: 10, UpMbps: 8, MTU: 1400}
	now := time.Now()
	first, ok := w.pass(l, 1000, true, now)
	if took := first.Sub(now); !ok || took < 10*time.Millisecond || took > 12*time.Millisecond {
		t.Errorf("a packet takes %v", first.Sub(now))
	}
	// 1000 bytes at 8 Mbit/s are 1 ms each; the queue holds queueFor.
	passed := 0
	for range 1000 {
		if _, ok := w.pass(l, 1000, true, now); ok {
			passed++
		}
	}
	if passed < 195 || passed > 205 {
		t.Errorf("of 1000 packets at once %d pass", passed)
	}
	if _, ok := w.pass(l, 1401, false, now); ok {
		t.Error("a packet larger than the MTU passes")
	}
	l.LossPct = 30
	passed = 0
	for range 10000 {
		if _, ok := w.pass(l, 100, false, now); ok {
			passed++
		}
	}
	if passed < 6700 || passed > 7300 {
		t.Errorf("at 30 %% loss %d of 10000 pass", passed)
	}
	l.Cut = true
	if _, ok := w.pass(l, 100, false, now); ok {
		t.Error("a cut link carries")
	}
}

// What is on its way is bounded.
func TestTheWireIsBounded(t *testing.T) {
	w := newWire()
	later := time.Now().Add(time.Hour)
	for range 40 {
		w.carry(later, 1<<20, func() {})
	}
	if w.bytes > mostOnWire || w.dropped == 0 {
		t.Errorf("%d bytes are on their way, %d were lost", w.bytes, w.dropped)
	}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	quick := newWire()
	go quick.run(ctx)
	order := make(chan int, 3)
	now := time.Now()
	for i, after := range []time.Duration{30, 10, 20} {
		quick.carry(now.Add(after*time.Millisecond), 1, func() { order <- i })
	}
	if got := []int{<-order, <-order, <-order}; !slices.Equal(got, []int{1, 2, 0}) {
		t.Errorf("they come in the order %v", got)
	}
}
