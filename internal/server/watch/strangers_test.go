package watch

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/fleet"
	"wideknot/internal/gateway/join"
	"wideknot/internal/line"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/enrol"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// nobody is a gateway to which nothing was ever applied, whatever it is sent.
type nobody struct{ line.Device }

func (nobody) Running(context.Context) (*gateway.Config, error) { return nil, nil }
func (nobody) State(context.Context) (*gateway.State, error)    { return &gateway.State{}, nil }
func (nobody) Offers(context.Context) (*gateway.Offers, error)  { return &gateway.Offers{}, nil }
func (nobody) Try(context.Context, *gateway.Config, int, string, int) error {
	return nil
}
func (nobody) Samples(context.Context, string, gateway.Counter) (*gateway.Samples, error) {
	return nil, errors.New("nobody measures anything")
}
func (nobody) Events(uint64, int) (string, []line.Event, <-chan struct{}, error) {
	return "e", nil, make(chan struct{}), nil
}

// call joins as a site and keeps a line whose handler a test has.
func (w *works) call(site string, answer http.Handler) *join.Identity {
	w.t.Helper()
	code, err := line.ParseJoinCode(w.code(site))
	if err != nil {
		w.t.Fatal(err)
	}
	id, err := join.Join(context.Background(), filepath.Join(w.t.TempDir(), "id"), code, join.Way{})
	if err != nil {
		w.t.Fatal(err)
	}
	w.holds(id, answer)
	return id
}

// holds dials a server and answers over the line, until the test ends.
func (w *works) holds(id *join.Identity, answer http.Handler) {
	w.t.Helper()
	raw, err := net.Dial("tcp", w.places[0])
	if err != nil {
		w.t.Fatal(err)
	}
	config := id.TLS()
	config.NextProtos, config.ClientAuth = []string{"h2"}, tls.RequireAnyClientCert
	conn := tls.Server(raw, config)
	if err := conn.Handshake(); err != nil {
		w.t.Fatal(err)
	}
	server := &http.Server{Handler: answer}
	go func() { _ = server.Serve(&one{conn: conn, ended: make(chan struct{})}) }()
	w.t.Cleanup(func() {
		_ = server.Close()
		_ = raw.Close()
	})
}

type one struct {
	conn  net.Conn
	given bool
	ended chan struct{}
}

func (l *one) Accept() (net.Conn, error) {
	if l.given {
		<-l.ended
		return nil, net.ErrClosed
	}
	l.given = true
	return l.conn, nil
}
func (l *one) Close() error   { close(l.ended); return nil }
func (l *one) Addr() net.Addr { return l.conn.LocalAddr() }

// states answers for the modules of this release, and with a state.
func states(state func(http.ResponseWriter)) http.Handler {
	library := line.Handler(nobody{})
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "wideknot-gateway:state") {
			w.Header().Set("Content-Type", "application/yang-data+json")
			state(w)
			return
		}
		library.ServeHTTP(w, r)
	})
}

// What a gateway says that cannot be, is too much, or is of another place, is refused and
// said; others are served meanwhile.
func TestGatewaysThatLie(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	sites := w.estate.Sites
	w.call(sites[0].Key, states(func(out http.ResponseWriter) { // 100 MB
		_, _ = io.WriteString(out, `{"wideknot-gateway:state":{"site":"`)
		room := []byte(strings.Repeat("x", 1<<20))
		for range 100 {
			if _, err := out.Write(room); err != nil {
				return
			}
		}
	}))
	w.call(sites[1].Key, states(func(out http.ResponseWriter) { // of another site
		text, _ := gateway.WriteState(&gateway.State{Site: sites[0].Key, At: "2026-11-30T12:00:00Z", Digest: "abc"})
		_, _ = out.Write(text)
	}))
	w.call(sites[2].Key, states(func(out http.ResponseWriter) { _, _ = io.WriteString(out, "{}") }))
	w.eventually("what another site's is named", 10*time.Second, func(rows map[string]desk.GatewayRow) bool {
		return strings.Contains(rows[sites[1].Key].Words, "joined as "+sites[1].Key)
	})
	w.eventually("who sends too much is given up", 20*time.Second, func(rows map[string]desk.GatewayRow) bool { return !rows[sites[0].Key].Up })
	w.eventually("who sends nonsense is given up", 20*time.Second, func(rows map[string]desk.GatewayRow) bool { return !rows[sites[2].Key].Up })
}

// One that speaks another version is sent nothing.
func TestAnotherVersion(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	site := w.estate.Sites[0].Key
	wrote := make(chan string, 10)
	w.call(site, http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet {
			wrote <- r.Method + " " + r.URL.Path
		}
		switch {
		case strings.Contains(r.URL.Path, "yang-library"):
			_, _ = io.WriteString(out, `{"ietf-yang-library:yang-library":{"content-id":"x","module-set":[{"name":"all","module":[{"name":"wideknot-gateway","revision":"2031-01-01","namespace":"urn:x"}]}],"schema":[],"datastore":[]}}`)
		case strings.HasSuffix(r.URL.Path, "state"):
			text, _ := gateway.WriteState(&gateway.State{At: "2026-11-30T12:00:00Z"})
			_, _ = out.Write(text)
		default:
			http.NotFound(out, r)
		}
	}))
	w.eventually("it says so", 10*time.Second, func(rows map[string]desk.GatewayRow) bool {
		return rows[site].Phase == "version" && strings.Contains(rows[site].Words, "another version")
	})
	if _, err := w.desk.Bring(context.Background(), w.key, 1, []string{site}); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Second)
	select {
	case what := <-wrote:
		t.Errorf("it was sent %s", what)
	default:
	}
}

// Two machines with one certificate are found, and neither is sent anything more.
func TestTwoMachinesWithOneCertificate(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	site := w.estate.Sites[0].Key
	mine := states(func(out http.ResponseWriter) {
		text, _ := gateway.WriteState(&gateway.State{At: "2026-11-30T12:00:00Z"})
		_, _ = out.Write(text)
	})
	id := w.call(site, mine)
	w.eventually("there", 10*time.Second, func(rows map[string]desk.GatewayRow) bool { return rows[site].Up })
	w.holds(id, mine)
	w.eventually("two are found", 10*time.Second, func(rows map[string]desk.GatewayRow) bool { return rows[site].Doubled != nil })
	w.eventually("nothing is sent", 10*time.Second, func(rows map[string]desk.GatewayRow) bool {
		return strings.Contains(rows[site].Words, "two machines") && rows[site].Confirmed == 0
	})
	// One that joins anew, with a new key, is trusted again.
	w.call(site, mine)
	w.eventually("trusted again", 10*time.Second, func(rows map[string]desk.GatewayRow) bool { return rows[site].Up && rows[site].Doubled == nil })
}

// Strangers get nothing, and however many begin handshakes that they do not end, gateways
// get in.
func TestStrangersKeepNobodyOut(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	for range 1500 { // as many as this process may hold open, with their other ends
		c, err := net.Dial("tcp", w.places[0])
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
	}
	site := w.estate.Sites[0].Key
	other, err := (&enrolOther{t: t}).certificate()
	if err != nil {
		t.Fatal(err)
	}
	// A certificate of another authority, from an address of its own.
	dial := func(from string) net.Conn {
		c, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp", w.places[0])
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	c := dial("127.0.0.3")
	defer c.Close()
	stranger := tls.Server(c, &tls.Config{Certificates: []tls.Certificate{*other}, NextProtos: []string{"h2"}, ClientAuth: tls.RequireAnyClientCert})
	_ = stranger.SetDeadline(time.Now().Add(10 * time.Second))
	err = stranger.Handshake()
	if err == nil {
		_, err = stranger.Read(make([]byte, 1))
	}
	if err == nil {
		t.Error("a stranger is asked something")
	}
	began := time.Now()
	code, err := line.ParseJoinCode(w.code(site))
	if err != nil {
		t.Fatal(err)
	}
	id, err := join.Join(context.Background(), filepath.Join(t.TempDir(), "id"), code, join.Way{})
	if err != nil {
		t.Fatal(err)
	}
	raw := dial("127.0.0.4")
	config := id.TLS()
	config.NextProtos, config.ClientAuth = []string{"h2"}, tls.RequireAnyClientCert
	conn := tls.Server(raw, config)
	if err := conn.Handshake(); err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: states(func(out http.ResponseWriter) {
		text, _ := gateway.WriteState(&gateway.State{At: "2026-11-30T12:00:00Z"})
		_, _ = out.Write(text)
	})}
	go func() { _ = server.Serve(&one{conn: conn, ended: make(chan struct{})}) }()
	t.Cleanup(func() { _ = server.Close() })
	w.eventually("there", 10*time.Second, func(rows map[string]desk.GatewayRow) bool { return rows[site].Up })
	t.Logf("in after %v", time.Since(began))
}

// enrolOther is another authority.
type enrolOther struct{ t *testing.T }

func (o *enrolOther) certificate() (*tls.Certificate, error) {
	db, _ := store.Testing(o.t)
	sealer, err := identity.NewSealer(filepath.Join(o.t.TempDir(), "master.key"))
	if err != nil {
		return nil, err
	}
	a, err := enrol.OpenAuthority(context.Background(), db, sealer)
	if err != nil {
		return nil, err
	}
	return a.ForServer([]string{"127.0.0.1"})
}

// A line of which the database tells nothing new is nobody's second: however often the two
// are compared while lines begin.
func TestOneMachineIsNotTwo(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	world := w.stand()
	w.eventually("release 1 confirmed everywhere", 20*time.Second, w.allConfirmed(1))
	for range 3 {
		for _, do := range []string{"cut", "restore"} {
			for _, s := range w.estate.Sites {
				if err := world.Do(fleet.Change{Do: do, Site: s.Key}); err != nil {
					t.Fatal(err)
				}
			}
			time.Sleep(700 * time.Millisecond)
		}
	}
	w.eventually("there again", 20*time.Second, w.allConfirmed(1))
	for site, r := range w.rows() {
		if r.Doubled != nil {
			t.Errorf("%s is said to be two machines", site)
		}
	}
}
