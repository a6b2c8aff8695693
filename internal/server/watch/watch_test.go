package watch

import (
	"context"
	"encoding/json"
	"fmt"
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
	now, err := w.desk.GatewayNow(context.Background(), w.key, site, desk.Ends{})
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
