package watch

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/examples"
	"wideknot/internal/fleet"
	"wideknot/internal/gateway/join"
	"wideknot/internal/line"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/enrol"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// works is a database with an estate released in it, and servers that gateways call.
type works struct {
	t      *testing.T
	db     *store.Store
	access store.Access
	desk   *desk.Desk
	office *enrol.Office
	estate *estate.Estate
	key    string
	row    store.Estate
	folder string // of stand-ins
	lines  []net.Listener
	places []string // HOST:PORT of the servers
	halt   []context.CancelFunc
}

// opened releases an example whose sites have the keys of their stand-ins, and starts some
// servers on one database.
func opened(t *testing.T, name string, servers int, change ...func(*estate.Estate)) *works {
	t.Helper()
	db, access := store.Testing(t)
	sealer, err := identity.NewSealer(filepath.Join(t.TempDir(), "master.key"))
	if err != nil {
		t.Fatal(err)
	}
	w := &works{t: t, db: db, access: access, desk: desk.New(db, sealer), folder: t.TempDir()}
	if w.estate, err = examples.Estate(name); err != nil {
		t.Fatal(err)
	}
	for _, c := range change {
		c(w.estate)
	}
	var sites []string
	for i := range w.estate.Sites {
		sites = append(sites, w.estate.Sites[i].Key)
	}
	keys, err := fleet.Keys(w.folder, sites)
	if err != nil {
		t.Fatal(err)
	}
	for i := range w.estate.Sites {
		w.estate.Sites[i].Gateway.PublicKey = keys[w.estate.Sites[i].Key]
	}
	document, err := estate.WriteYAML(w.estate)
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	made, err := w.desk.Create(ctx, "Works")
	if err != nil {
		t.Fatal(err)
	}
	w.key = made.Key
	at := desk.At(made.Key, desk.First)
	if _, _, err := w.desk.Import(ctx, at, desk.Parcel{Document: string(document)}, false); err != nil {
		t.Fatal(err)
	}
	if err := w.desk.Seed(ctx, at, "as it is"); err != nil {
		t.Fatal(err)
	}
	w.snapshot(func(tx *store.Tx) (err error) { w.row, err = tx.Estate(w.key, false); return err })
	authority, err := enrol.OpenAuthority(ctx, db, sealer)
	if err != nil {
		t.Fatal(err)
	}
	est, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	w.office = &enrol.Office{Store: db, Authority: authority, Enrol: []string{est.Addr().String()}}
	shown := authority.Shows([]string{"127.0.0.1"})
	serving, stop := context.WithCancel(ctx)
	var all sync.WaitGroup
	all.Go(func() { _ = w.office.Serve(serving, est, shown) })
	for range servers {
		w.place(authority, shown, &all)
	}
	t.Cleanup(func() {
		stop()
		for _, halt := range w.halt {
			halt()
		}
		all.Wait()
		w.desk.Close()
	})
	return w
}

// place starts one server.
func (w *works) place(authority *enrol.Authority, shown *enrol.Shown, all *sync.WaitGroup) {
	w.t.Helper()
	listen, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		w.t.Fatal(err)
	}
	w.lines = append(w.lines, listen)
	w.places = append(w.places, listen.Addr().String())
	w.office.Lines = w.places
	k := &Keeper{Store: w.db, Desk: w.desk, Authority: authority, Shown: shown, Name: fmt.Sprintf("server-%d", len(w.lines))}
	ctx, halt := context.WithCancel(context.Background())
	w.halt = append(w.halt, halt)
	all.Go(func() {
		if err := k.Serve(ctx, listen); err != nil {
			w.t.Error(err)
		}
	})
}

func (w *works) snapshot(f func(tx *store.Tx) error) {
	w.t.Helper()
	if err := w.db.Snapshot(context.Background(), f); err != nil {
		w.t.Fatal(err)
	}
}

// code makes a join code of a site.
func (w *works) code(site string) string {
	w.t.Helper()
	text, _, err := w.office.Code(context.Background(), w.row, site, time.Hour)
	if err != nil {
		w.t.Fatal(err)
	}
	return text
}

// stand runs a stand-in for each site, joined by a code.
func (w *works) stand() *fleet.World {
	w.t.Helper()
	codes := map[string]string{}
	for i := range w.estate.Sites {
		codes[w.estate.Sites[i].Key] = w.code(w.estate.Sites[i].Key)
	}
	world := fleet.New(w.estate, 1, slog.New(slog.DiscardHandler))
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go world.Run(ctx)
	go func() { ended <- world.Stand(ctx, w.folder, codes, func() {}) }()
	w.t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			w.t.Error(err)
		}
	})
	return world
}

// rows lists the gateways by site.
func (w *works) rows() map[string]desk.GatewayRow {
	w.t.Helper()
	list, err := w.desk.Gateways(context.Background(), w.key)
	if err != nil {
		w.t.Fatal(err)
	}
	out := map[string]desk.GatewayRow{}
	for _, r := range list {
		out[r.Site] = r
	}
	return out
}

// eventually waits until something is so.
func (w *works) eventually(what string, within time.Duration, is func(map[string]desk.GatewayRow) bool) {
	w.t.Helper()
	until := time.Now().Add(within)
	for !is(w.rows()) {
		if time.Now().After(until) {
			text, _ := json.Marshal(w.rows())
			w.t.Fatalf("not %s within %v: %s", what, within, text)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

func (w *works) allConfirmed(release uint64) func(map[string]desk.GatewayRow) bool {
	return func(rows map[string]desk.GatewayRow) bool {
		for _, r := range rows {
			if !r.Up || r.Confirmed != release || r.Release != int(release) || r.Phase != "confirmed" {
				return false
			}
		}
		return len(rows) == len(w.estate.Sites)
	}
}

// Gateways join, call, have the release in force, and report; what happens to one is known
// at once; one that loses its WAN is away.
func TestGatewaysJoinAndReport(t *testing.T) {
	t.Parallel()
	w := opened(t, "three-sites", 1)
	world := w.stand()
	w.eventually("release 1 confirmed everywhere", 20*time.Second, w.allConfirmed(1))
	site := w.estate.Sites[1].Key
	now, err := w.desk.GatewayNow(context.Background(), w.key, site)
	if err != nil {
		t.Fatal(err)
	}
	if len(now.Ends) == 0 || now.Ends[0].Peer == "" || now.Ends[0].Tunnel == "" || len(now.WANLinks) == 0 {
		t.Errorf("what it reports is %+v", now)
	}
	_, offers, err := w.desk.Offers(context.Background(), desk.Place{Estate: w.key, Draft: desk.First}, site)
	if err != nil || len(offers) != 1 || len(offers[0].Offers) == 0 {
		t.Fatalf("offers: %v, %+v", err, offers)
	}
	if err := world.Do(fleet.Change{Do: "cut", Site: site}); err != nil {
		t.Fatal(err)
	}
	w.eventually("away", 15*time.Second, func(rows map[string]desk.GatewayRow) bool { return !rows[site].Up })
	if err := world.Do(fleet.Change{Do: "restore", Site: site}); err != nil {
		t.Fatal(err)
	}
	w.eventually("there again", 15*time.Second, func(rows map[string]desk.GatewayRow) bool { return rows[site].Up })
	// One that is barred is gone at once, and its line with it.
	if err := w.office.Bar(context.Background(), w.row, site, true); err != nil {
		t.Fatal(err)
	}
	w.eventually("barred", 5*time.Second, func(rows map[string]desk.GatewayRow) bool { return !rows[site].Up && rows[site].BarredAt != nil })
	time.Sleep(2 * time.Second)
	if w.rows()[site].Up {
		t.Error("a barred gateway is back")
	}
}

// A release that comes later is brought when somebody wants it, and differs from what was
// set by hand.
func TestBringingAndDrift(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	world := w.stand()
	w.eventually("release 1 confirmed everywhere", 20*time.Second, w.allConfirmed(1))
	ctx := context.Background()
	at := desk.At(w.key, desk.First)
	site := w.estate.Sites[0].Key
	view, err := w.desk.View(ctx, at.Place)
	if err != nil {
		t.Fatal(err)
	}
	changed := *view.Estate.Clone().Site(site)
	changed.Links[0].MTU = 1400
	if _, err := w.desk.SaveSite(ctx, at, site, changed); err != nil {
		t.Fatal(err)
	}
	if _, err := w.desk.Release(ctx, at, "narrower", "it was asked for"); err != nil {
		t.Fatal(err)
	}
	if n, err := w.desk.Bring(ctx, w.key, 2, nil); err != nil || n != len(w.estate.Sites) {
		t.Fatalf("%d are to be brought: %v", n, err)
	}
	w.eventually("release 2 confirmed everywhere", 30*time.Second, w.allConfirmed(2))
	// Somebody sets a gateway to something else by hand.
	a := world.Site(site).Agent
	c, err := a.Running(ctx)
	if err != nil {
		t.Fatal(err)
	}
	other := *c
	other.Discards = nil
	if err := a.Try(ctx, &other, 0, "by-hand", 0); err != nil {
		t.Fatal(err)
	}
	w.eventually("it differs, and how", 10*time.Second, func(rows map[string]desk.GatewayRow) bool {
		return rows[site].Differs && strings.Contains(rows[site].Words, "; discard for ")
	})
	if _, err := w.desk.Bring(ctx, w.key, 1, []string{site}); err != nil {
		t.Fatal(err)
	}
	w.eventually("nothing is sent over a change by hand", 10*time.Second, func(rows map[string]desk.GatewayRow) bool { return rows[site].Phase == "differs" })
	// A person who saw it lets it be overwritten; a later change by hand is not meant by that.
	if err := w.desk.PutBack(ctx, w.key, site, "of another change"); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Second)
	if w.rows()[site].Phase != "differs" {
		t.Error("a change that nobody saw is overwritten")
	}
	if err := w.desk.PutBack(ctx, w.key, site, w.rows()[site].Digest); err != nil {
		t.Fatal(err)
	}
	w.eventually("put back", 15*time.Second, func(rows map[string]desk.GatewayRow) bool {
		return rows[site].Phase == "confirmed" && !rows[site].Differs && rows[site].Confirmed == 1
	})
}

// Two servers share the gateways of one database; when one is gone, the other has all lines
// within 15 s, and the gateways' data plane is not touched.
func TestLinesMoveToAnotherServer(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 2)
	w.stand()
	w.eventually("release 1 confirmed everywhere", 20*time.Second, w.allConfirmed(1))
	w.halt[0]()
	_ = w.lines[0].Close()
	w.eventually("all lines at the other server", 15*time.Second, func(rows map[string]desk.GatewayRow) bool {
		for _, r := range rows {
			if !r.Up || r.Server != "server-2" {
				return false
			}
		}
		return true
	})
}

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

// With its estate a gateway is gone, and its line ends.
func TestTheEstateGoes(t *testing.T) {
	t.Parallel()
	w := opened(t, "two-hubs", 1)
	site := w.estate.Sites[0].Key
	asked := make(chan bool, 1000)
	w.call(site, states(func(out http.ResponseWriter) {
		asked <- true
		text, _ := gateway.WriteState(&gateway.State{At: "2026-11-30T12:00:00Z"})
		_, _ = out.Write(text)
	}))
	w.eventually("there", 10*time.Second, func(rows map[string]desk.GatewayRow) bool { return rows[site].Up })
	if err := w.db.InTransaction(context.Background(), func(tx *store.Tx) error { return tx.DeleteEstate(w.row.ID) }); err != nil {
		t.Fatal(err)
	}
	time.Sleep(3 * time.Second)
	for len(asked) > 0 {
		<-asked
	}
	select {
	case <-asked:
		t.Error("it is asked still")
	case <-time.After(askEvery + time.Second):
	}
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
