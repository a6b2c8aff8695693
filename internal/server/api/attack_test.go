package api

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"

	"wideknot/core/estate"
	"wideknot/internal/server/identity"
)

// What was tried against the API by somebody with an account or without one, and
// must not work: add a line for each new thing.
func TestAttacks(t *testing.T) {
	s := start(t)
	base := s.demo()
	nobody := &server{t, s.app, s.parts, ""}
	site := base + "/sites/tarnhollow"
	rule := func(ports string) string {
		return `{"key":"ops","shape":"hub-and-spoke","hubs":["harrowmere"],"policy":{"default":"permit","rules":[{"action":"deny","protocol":"tcp","ports":["` + ports + `"]}]}}`
	}
	link := func(field, value string) string {
		return fmt.Sprintf(`{"key":"tarnhollow","name":"T","links":[{"key":"a","reach":"nat","%s":%s}]}`, field, value)
	}
	for _, c := range []struct {
		name         string
		who          *server
		method, path string
		body         any
		status       int
		says         string
		headers      []string
	}{
		// Text that would become configuration.
		{"a zone in an outside address", s, "PUT", site, link("outside", `"fe80::1%lo]:51820\n[Peer]\nAllowedIPs = 0.0.0.0/0"`), 422, "zone", nil},
		{"a zone in a next hop", s, "PUT", site, link("next_hop", `["fe80::1%lo"]`), 422, "zone", nil},
		{"a zone in a link's address", s, "PUT", site, link("addresses", `["fe80::1%lo"]`), 422, "zone", nil},
		{"a device with a quote", s, "PUT", site, link("device", `"eth0\" accept"`), 422, "interface name", nil},
		{"a name with a line end", s, "PUT", site, `{"key":"tarnhollow","name":"T\nPostUp = x"}`, 422, "cannot be seen", nil},
		{"a name that turns round", s, "PUT", site, "{\"key\":\"tarnhollow\",\"name\":\"T\u202egpj\"}", 422, "cannot be seen", nil},
		{"a key with a line end inside", s, "PUT", site, `{"key":"tarnhollow","name":"T","gateway":{"public_key":"xTIBA5rboUvnH4htodjb6e697\nQjLERt1NAB4mZqp8Dg="}}`, 422, "45 characters", nil},
		{"a port that there is not", s, "PUT", base + "/overlays/ops", rule("99999"), 422, "0 to 65535", nil},
		{"ports in the wrong order", s, "PUT", base + "/overlays/ops", rule("90-80"), 422, "in order", nil},
		{"a site called -rf", s, "PUT", base + "/sites/-rf", `{"key":"-rf","name":"x"}`, 422, "not beginning with -", nil},
		{"a site called con", s, "PUT", base + "/sites/con", `{"key":"con","name":"x"}`, 422, "device", nil},
		{"a reservation with a line end", s, "PUT", base + "/reserved", `{"prefix":"10.99.0.0/16","for":"a\nb"}`, 422, "cannot be seen", nil},

		// Work without end.
		{"a list over its cap", s, "PUT", site, `{"key":"tarnhollow","name":"T","links":[` + strings.TrimSuffix(strings.Repeat(`{"key":"a","reach":"nat"},`, 40), ",") + `]}`, 422, "too many", nil},
		{"unknown keys without end", s, "PUT", site, `{` + unknownKeys(40000) + `"key":"tarnhollow"}`, 422, "more like these", nil},
		{"nesting without end", s, "PUT", site, strings.Repeat(`{"a":`, 100000), 422, "nested deeper", nil},
		{"an ordinary body that is too large", s, "PUT", site, strings.Repeat("x", smallBody+1), 413, "", nil},
		{"a stranger's body that is too large", nobody, "POST", "/api/session", `{"email":"` + strings.Repeat("x", openBody) + `","password":"x"}`, 413, "", nil},
		{"a packed body", s, "PUT", site, "\x1f\x8b", 415, "content coding", []string{"Content-Encoding", "gzip"}},
		{"a document that is a bomb", s, "POST", base + "/import", Parcel{Document: "wideknot: 1\nestate: &a {name: x}\nsites: [*a,*a,*a,*a]\n"}, 422, "aliases", nil},
		{"columns without end", s, "POST", base + "/import", Parcel{Sheets: estate.Sheets{Sites: "key" + strings.Repeat(",a", 200000) + "\n"}}, 422, "cannot be read", nil},

		// Values that are none.
		{"a prefix of 99 bits", s, "GET", base + "/room?bits=99", nil, 422, "at most 32", nil},
		{"a port of 70000", s, "GET", base + "/follow?from=10.16.4.9&to=10.20.0.9&protocol=tcp&port=70000", nil, 422, "", nil},
		{"a protocol that there is not", s, "GET", base + "/follow?from=10.16.4.9&to=10.20.0.9&protocol=foo", nil, 422, "", nil},
		{"an address with a zone", s, "GET", base + "/follow?from=fe80::1%25lo&to=10.20.0.9", nil, 422, "zone", nil},
		{"a parameter nobody knows", s, "GET", base + "/sites?x=1", nil, 422, "", nil},
		{"a body of another kind", s, "POST", base + "/undo", nil, 200, "", nil},
		{"a kind of body that is not taken", s, "POST", "/api/estates", "secret=1", 415, "", []string{"Content-Type", "text/plain"}},

		// Tags that are none.
		{"a number with a tail", s, "PUT", site, `{"key":"tarnhollow"}`, 400, "strong ETag", []string{"If-Match", `"1abc"`}},
		{"a bare number", s, "PUT", site, `{"key":"tarnhollow"}`, 400, "strong ETag", []string{"If-Match", `1`}},
		{"a weak tag", s, "PUT", site, `{"key":"tarnhollow"}`, 400, "strong ETag", []string{"If-Match", `W/"1"`}},
		{"a list of tags", s, "PUT", site, `{"key":"tarnhollow"}`, 400, "strong ETag", []string{"If-Match", `"1", "2"`}},
		{"any tag", s, "PUT", site, `{"key":"tarnhollow"}`, 400, "strong ETag", []string{"If-Match", `*`}},

		// Pages of others.
		{"a page of another origin", s, "PUT", site, `{}`, 403, "origin", []string{"Origin", "https://evil.example"}},
		{"no page at all", s, "PUT", site, `{}`, 403, "token", []string{"Origin", ""}},
	} {
		r := c.who.send(c.method, c.path, c.body, c.headers...)
		if r.status != c.status || !strings.Contains(string(r.body), c.says) {
			t.Errorf("%s: %d %.300s, want %d %q", c.name, r.status, r.body, c.status, c.says)
		}
		if len(r.body) > 120_000 {
			t.Errorf("%s: an answer of %d bytes", c.name, len(r.body))
		}
		if r.status == 415 && strings.Contains(string(r.body), "secret") {
			t.Errorf("%s: the answer repeats what was sent: %s", c.name, r.body)
		}
	}
}

func unknownKeys(n int) string {
	var out strings.Builder
	for i := range n {
		fmt.Fprintf(&out, `"k%d":1,`, i)
	}
	return out.String()
}

// One key, two requests.
func TestAnIdempotencyKeyIsOfOneRequest(t *testing.T) {
	s := start(t)
	base := s.demo()
	put := func(site, name, key string) response {
		return s.send("PUT", base+"/sites/"+site, fmt.Sprintf(`{"key":%q,"name":%q}`, site, name), "Idempotency-Key", key)
	}
	if r := put("van-9", "One", "k"); r.status != 201 {
		t.Fatalf("%d %s", r.status, r.body)
	}
	if r := put("van-9", "One", "k"); r.status != 200 {
		t.Errorf("the same again: %d %s", r.status, r.body)
	}
	for _, r := range []response{put("van-9", "Two", "k"), put("van-8", "One", "k"), s.send("POST", base+"/undo", nil, "Idempotency-Key", "k")} {
		if r.status != 422 || !strings.Contains(string(r.body), "another request") {
			t.Errorf("another request under the same key: %d %s", r.status, r.body)
		}
	}
	release := func(message string) response {
		return s.send("POST", base+"/release", map[string]string{"message": message, "reason": "for the test"}, "Idempotency-Key", "r")
	}
	// The demo has errors of its own, which hold its first release.
	if err := s.parts.Desk.Seed(identity.WithActor(t.Context(), identity.Actor{Name: "test"}), deskAt("brindlewater"), "first"); err != nil {
		t.Fatal(err)
	}
	put("van-9", "Three", "other")
	if r := release("one"); r.status != 201 || r.header.Get("Location") != "/api/estates/brindlewater/drafts/release-2" {
		t.Fatalf("%d %s", r.status, r.body)
	}
	if r := release("one"); r.status != 201 {
		t.Errorf("the same release again: %d %s", r.status, r.body)
	}
	if r := release("two"); r.status != 422 {
		t.Errorf("another release under the same key: %d %s", r.status, r.body)
	}
}

// Of two that make the same at once, one is told that it is there.
func TestDoublesInARaceAreToldSo(t *testing.T) {
	s := start(t)
	s.demo()
	for _, c := range []struct {
		path string
		body func(round int) any
	}{
		{"/api/estates", func(n int) any { return map[string]string{"name": fmt.Sprint("Race ", n)} }},
		{"/api/estates/brindlewater/drafts", func(n int) any { return map[string]string{"name": fmt.Sprint("Race ", n)} }},
		{"/api/accounts", func(n int) any { return map[string]string{"email": fmt.Sprintf("race%d@test.example", n)} }},
	} {
		for round := range 4 {
			var all sync.WaitGroup
			counts := map[int]int{}
			var mu sync.Mutex
			for range 5 {
				all.Add(1)
				go func() {
					defer all.Done()
					r := s.send("POST", c.path, c.body(round))
					mu.Lock()
					defer mu.Unlock()
					counts[r.status]++
				}()
			}
			all.Wait()
			if counts[201] != 1 || counts[409] != 4 {
				t.Errorf("%s: %v", c.path, counts)
			}
		}
	}
}

// served serves on a real socket, for what a test without one does not show.
func served(t *testing.T, s *server) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go s.app.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true})
	t.Cleanup(func() { s.parts.Stop(); _ = s.app.ShutdownWithTimeout(time.Second) })
	return listener.Addr().String()
}

// raw sends bytes on a connection of its own, and returns all that comes back
// until it is closed, or nothing comes any more.
func raw(t *testing.T, address, text string) string {
	t.Helper()
	c, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	_, _ = io.WriteString(c, text) // it may be closed on us
	_ = c.SetReadDeadline(time.Now().Add(700 * time.Millisecond))
	out, _ := io.ReadAll(c)
	return string(out)
}

// A request whose end is not clear, and what is left of one that was refused, is
// never followed by another on the same connection.
func TestRequestsAreKeptApart(t *testing.T) {
	s := start(t)
	address := served(t, s)
	host := "Host: " + address + "\r\n"
	hidden := "GET /healthz HTTP/1.1\r\n" + host + "\r\n"
	for name, text := range map[string]string{
		"both lengths":          "POST /api/session HTTP/1.1\r\n" + host + "Content-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n" + hidden,
		"two lengths":           "POST /api/session HTTP/1.1\r\n" + host + "Content-Length: 0\r\nContent-Length: 5\r\n\r\n" + hidden,
		"identity":              "POST /api/session HTTP/1.1\r\n" + host + "Transfer-Encoding: identity\r\nContent-Length: 0\r\n\r\n" + hidden,
		"a coding nobody knows": "POST /api/session HTTP/1.1\r\n" + host + "Transfer-Encoding: xchunked\r\n\r\n" + hidden,
		"a space before colon":  "POST /api/session HTTP/1.1\r\n" + host + "Content-Length : 5\r\n\r\n" + hidden,
		"a signed length":       "POST /api/session HTTP/1.1\r\n" + host + "Content-Length: +0\r\n\r\n" + hidden,
		"refused, body unread":  "PUT /api/estates/x/drafts/y/sites/z HTTP/1.1\r\n" + host + "Content-Type: application/json\r\nContent-Length: " + fmt.Sprint(len(hidden)) + "\r\n\r\n" + hidden,
		"no such path":          "POST /nowhere HTTP/1.1\r\n" + host + "Content-Length: " + fmt.Sprint(len(hidden)) + "\r\n\r\n" + hidden,
	} {
		got := raw(t, address, text)
		if strings.Contains(got, "alive") || strings.Count(got, "HTTP/1.1") > 1 {
			t.Errorf("%s: the hidden request was answered:\n%s", name, got)
		}
	}
	if got := raw(t, address, hidden+hidden); strings.Count(got, "alive") != 2 {
		t.Errorf("two clear requests on one connection:\n%s", got)
	}
	if got := raw(t, address, "GET /api/entrance HTTP/1.1\r\n"+host+"X-Request-ID: mine\r\n\r\n"); strings.Contains(got, "mine") {
		t.Errorf("a foreign request ID was taken:\n%s", got)
	}
}

// Bodies that were announced take no memory before it is known who sends them.
func TestAnnouncedBodiesTakeNoMemory(t *testing.T) {
	s := start(t)
	base := s.demo()
	address := served(t, s)
	var before, during runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	chunk := bytes.Repeat([]byte("x"), 1<<20)
	var all sync.WaitGroup
	for range 40 {
		all.Add(1)
		go func() {
			defer all.Done()
			c, err := net.Dial("tcp", address)
			if err != nil {
				t.Error(err)
				return
			}
			defer c.Close()
			fmt.Fprintf(c, "POST %s/import HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n", base, address, 40<<20)
			_ = c.SetWriteDeadline(time.Now().Add(2 * time.Second))
			for range 40 {
				if _, err := c.Write(chunk); err != nil {
					break // refused and closed
				}
			}
			_ = c.SetReadDeadline(time.Now().Add(2 * time.Second))
			line, _ := bufio.NewReader(c).ReadString('\n')
			if line != "" && !strings.Contains(line, "401") {
				t.Errorf("a stranger's import: %s", line)
			}
		}()
	}
	all.Wait()
	runtime.ReadMemStats(&during)
	if grown := int64(during.HeapSys) - int64(before.HeapSys); grown > 200<<20 {
		t.Errorf("40 announced bodies took %d MB", grown>>20)
	}
}

// Streams of one account are limited; others' are not.
func TestStreamsAreLimited(t *testing.T) {
	s := start(t)
	base := s.demo()
	address := served(t, s)
	reader := s.as(s.member("brindlewater", identity.Reader))
	open := func(who *server) (status int, close func()) {
		r, _ := http.NewRequest("GET", "http://"+address+base+"/events", nil)
		r.AddCookie(&http.Cookie{Name: "wideknot", Value: who.secret})
		r.Header.Set("Accept-Encoding", "gzip")
		answer, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		if answer.StatusCode == 200 {
			first := make([]byte, 5)
			if _, err := io.ReadFull(answer.Body, first); err != nil || string(first) != "retry" || answer.Header.Get("Content-Encoding") != "" || !strings.Contains(answer.Header.Get("Cache-Control"), "no-transform") {
				t.Errorf("a stream begins with %q, %v, %v", first, err, answer.Header)
			}
		}
		return answer.StatusCode, func() { answer.Body.Close() }
	}
	var all []func()
	for i := range mostOwnStreams {
		status, close := open(reader)
		if status != 200 {
			t.Fatalf("stream %d: %d", i, status)
		}
		all = append(all, close)
	}
	if status, _ := open(reader); status != 429 {
		t.Errorf("one stream more: %d", status)
	}
	if status, close := open(s); status != 200 {
		t.Errorf("somebody else's stream: %d", status)
	} else {
		close()
	}
	for _, close := range all {
		close()
	}
	for deadline := time.Now().Add(15 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if status, close := open(reader); status == 200 {
			close()
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("closed streams count for ever")
		}
	}
}

// Who asks is whom the last trusted proxy saw; what else stands in the header is
// anybody's word.
func TestForwardedAddressesAreReadFromTheRight(t *testing.T) {
	s := &Server{TrustedProxies: []string{"192.0.2.1", "198.51.100.0/24", "2001:db8::/64"}}
	s.bind()
	for _, c := range []struct{ remote, header, want string }{
		{"203.0.113.9", "", "203.0.113.9"},
		{"203.0.113.9", "10.0.0.1", "203.0.113.9"}, // no proxy of ours
		{"192.0.2.1", "10.0.0.1", "10.0.0.1"},
		{"192.0.2.1", "127.0.0.1, 10.0.0.1", "10.0.0.1"},
		{"192.0.2.1", "127.0.0.1, 10.0.0.1, 198.51.100.7", "10.0.0.1"},
		{"192.0.2.1", "127.0.0.1, x, 198.51.100.7", "198.51.100.7"},
		{"192.0.2.1", "", "192.0.2.1"},
		{"192.0.2.1", "fe80::1%eth0", "192.0.2.1"},
		{"192.0.2.1", "::ffff:10.0.0.1", "10.0.0.1"},
		{"2001:db8::5", "2001:db8:1::9", "2001:db8:1::9"},
	} {
		app := fiber.New()
		var got string
		app.Get("/", func(c fiber.Ctx) error {
			at := netip.MustParseAddr(c.Get("X-Test-Remote"))
			c.RequestCtx().SetRemoteAddr(net.TCPAddrFromAddrPort(netip.AddrPortFrom(at, 1)))
			got = s.client(c)
			return nil
		})
		r := httptest.NewRequest("GET", "/", nil)
		r.Header.Set("X-Test-Remote", c.remote)
		if c.header != "" {
			r.Header.Set("X-Forwarded-For", c.header)
		}
		if _, err := app.Test(r); err != nil {
			t.Fatal(err)
		}
		if got != c.want {
			t.Errorf("from %s with %q: %s, want %s", c.remote, c.header, got, c.want)
		}
	}
}
