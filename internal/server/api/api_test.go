package api

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"

	"wideknot/core/estate"
	"wideknot/core/planning"
	"wideknot/examples"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// A server is the whole application on a database of its own, as someone who
// is signed in uses it.
type server struct {
	t      *testing.T
	app    *fiber.App
	parts  *Server
	secret string // of the session; empty for nobody's
}

// start starts a server and signs its administrator in.
func start(t *testing.T) *server {
	t.Helper()
	db, _ := store.Testing(t)
	sealer, err := identity.NewSealer(filepath.Join(t.TempDir(), "master.key"))
	if err != nil {
		t.Fatal(err)
	}
	parts := &Server{Desk: desk.New(db, sealer), Office: identity.NewOffice(db), Sealer: sealer, Store: db, Version: "test"}
	s := &server{t: t, app: parts.App(), parts: parts}
	ctx := context.Background()
	link, err := parts.Office.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	admin, err := parts.Office.UseLink(ctx, link, "admin@test.example", "Admin", "a long enough one")
	if err != nil {
		t.Fatal(err)
	}
	return s.as(admin)
}

// as returns the same server as another account uses it.
func (s *server) as(account store.Account) *server {
	s.t.Helper()
	secret, err := s.parts.Office.Open(context.Background(), account, "test")
	if err != nil {
		s.t.Fatal(err)
	}
	return &server{s.t, s.app, s.parts, secret}
}

// account makes an account without password; sessions are opened for it
// directly.
func (s *server) account(email string) store.Account {
	s.t.Helper()
	account, _, err := s.parts.Office.AddAccount(context.Background(), email, "", false)
	if err != nil {
		s.t.Fatal(err)
	}
	return account
}

// member makes an account with a role in an estate.
func (s *server) member(estate string, role identity.Role) store.Account {
	s.t.Helper()
	account := s.account(string(role) + "@" + estate + ".example")
	path := "/api/estates/" + estate + "/people"
	if r := s.send("PUT", path, map[string]any{"email": account.Email, "role": role}); r.status != 200 {
		s.t.Fatalf("%d %s", r.status, r.body)
	}
	return account
}

type response struct {
	status int
	header http.Header
	body   []byte
}

// send sends a request; headers come as name, value, name, value.
func (s *server) send(method, path string, body any, headers ...string) response {
	s.t.Helper()
	var in io.Reader
	if text, ok := body.(string); ok {
		in = strings.NewReader(text)
	} else if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			s.t.Fatal(err)
		}
		in = bytes.NewReader(text)
	}
	r := httptest.NewRequest(method, path, in)
	r.Host = "127.0.0.1:8080"
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	r.Header.Set("Origin", "http://127.0.0.1:8080")
	if s.secret != "" {
		r.AddCookie(&http.Cookie{Name: "wideknot", Value: s.secret})
	}
	for i := 0; i+1 < len(headers); i += 2 {
		if r.Header.Set(headers[i], headers[i+1]); headers[i+1] == "" {
			r.Header.Del(headers[i])
		}
	}
	got, err := s.app.Test(r, fiber.TestConfig{Timeout: time.Minute})
	if err != nil {
		s.t.Fatal(err)
	}
	defer got.Body.Close()
	text, err := io.ReadAll(got.Body)
	if err != nil {
		s.t.Fatal(err)
	}
	out := response{got.StatusCode, got.Header, text}
	s.held(method, path, out)
	return out
}

func deskAt(key string) desk.Order { return desk.At(key, desk.First) }

// must sends a request that has to succeed and reads its answer.
func must[T any](s *server, method, path string, body any, headers ...string) T {
	s.t.Helper()
	r := s.send(method, path, body, headers...)
	if r.status >= 300 {
		s.t.Fatalf("%s %s: %d %s", method, path, r.status, r.body)
	}
	var out T
	if err := json.Unmarshal(r.body, &out); err != nil {
		s.t.Fatalf("%s %s: %v: %.200s", method, path, err, r.body)
	}
	return out
}

type problemDocument struct {
	Status int
	Detail string
	Errors []struct{ Message, Location string }
}

// refused sends a request that has to fail with the status.
func (s *server) refused(status int, method, path string, body any, headers ...string) problemDocument {
	s.t.Helper()
	r := s.send(method, path, body, headers...)
	var p problemDocument
	if err := json.Unmarshal(r.body, &p); err != nil || r.status != status || p.Status != status {
		s.t.Errorf("%s %s: %d %s, want problem %d", method, path, r.status, r.body, status)
	}
	if kind := r.header.Get("Content-Type"); kind != "application/problem+json" {
		s.t.Errorf("%s %s: a problem of type %q", method, path, kind)
	}
	return p
}

func (s *server) demo() string {
	s.t.Helper()
	made := must[desk.Summary](s, "POST", "/api/estates", map[string]string{"name": "Brindlewater"})
	base := "/api/estates/" + made.Key + "/drafts/first"
	must[EstateHead](s, "POST", base+"/import", Parcel{Document: examples.Brindlewater})
	return base
}

func TestEstatesAreMadeOnce(t *testing.T) {
	s := start(t)
	if list := must[[]desk.Summary](s, "GET", "/api/estates", nil); len(list) != 0 {
		t.Errorf("%v", list)
	}
	if got := must[desk.Summary](s, "POST", "/api/estates", map[string]string{"name": " Fen & Coast Water "}); got.Key != "fen-coast-water" {
		t.Errorf("%+v", got)
	}
	s.refused(409, "POST", "/api/estates", map[string]string{"name": "Fen, Coast Water"})
	s.refused(422, "POST", "/api/estates", map[string]string{"name": "???"})
	s.refused(404, "GET", "/api/estates/nowhere", nil)
	s.refused(404, "GET", "/api/nowhere", nil)
}

func TestExportOfImportIsTheSame(t *testing.T) {
	s := start(t)
	base := s.demo()
	for _, format := range []string{"yaml", "json"} {
		first := s.send("GET", base+"/document?format="+format, nil)
		made := must[desk.Summary](s, "POST", "/api/estates", map[string]string{"name": "Copy " + format})
		copied := "/api/estates/" + made.Key + "/drafts/first"
		must[EstateHead](s, "POST", copied+"/import", Parcel{Document: string(first.body)})
		if second := s.send("GET", copied+"/document?format="+format, nil); !bytes.Equal(first.body, second.body) {
			t.Errorf("%s: the export of the import differs", format)
		}
		before := must[EstateHead](s, "GET", copied, nil).Revision
		if again := must[EstateHead](s, "POST", copied+"/import", Parcel{Document: string(first.body)}); again.Revision != before {
			t.Errorf("%s: importing the same again made revision %d of %d", format, again.Revision, before)
		}
	}
}

func TestEditDeleteUndoRedo(t *testing.T) {
	s := start(t)
	base := s.demo()
	document := func() string { return string(s.send("GET", base+"/document", nil).body) }
	original := document()
	head := must[EstateHead](s, "DELETE", base+"/sites/van-1", nil)
	if head.Sites != 39 || head.Undo != "Delete Field Laboratory 1" {
		t.Errorf("%+v", head)
	}
	deleted := document()
	must[EstateHead](s, "POST", base+"/undo", nil)
	if document() != original {
		t.Error("undo does not restore the estate, its addresses and keys")
	}
	must[EstateHead](s, "POST", base+"/redo", nil)
	if document() != deleted {
		t.Error("redo does not repeat the edit")
	}
	must[EstateHead](s, "POST", base+"/undo", nil)

	site := must[[]LedgerSite](s, "GET", base+"/sites", nil)[3].Site
	site.Name = "Renamed"
	if head := must[EstateHead](s, "PUT", base+"/sites/"+site.Key, site); head.Undo != "Edit Renamed" || head.Redo != "" {
		t.Errorf("%+v", head)
	}
	s.refused(409, "POST", base+"/redo", nil)
	s.refused(404, "DELETE", base+"/sites/nowhere", nil)
}

// What a page that edits the estate's head reads must be enough to save it
// without losing anything.
func TestTheHeadSurvivesBeingSaved(t *testing.T) {
	s := start(t)
	made := must[desk.Summary](s, "POST", "/api/estates", map[string]string{"name": "Head"})
	base := "/api/estates/" + made.Key + "/drafts/first"
	must[EstateHead](s, "POST", base+"/import", Parcel{Document: "wideknot: 1\nestate: {name: Head, regions: [{key: north, blocks: [10.0.0.0/8]}], underlays: [{key: ring, blocks: [172.31.9.0/24]}], reserved: [{prefix: 10.9.0.0/16, for: later}], shed: [camera]}\n"})
	before := s.send("GET", base+"/document", nil).body
	head := must[EstateHead](s, "GET", base, nil)
	must[EstateHead](s, "PUT", base+"/about", map[string]any{"name": head.Name, "regions": head.Regions})
	if after := s.send("GET", base+"/document", nil).body; !bytes.Equal(before, after) {
		t.Errorf("before\n%s\nafter\n%s", before, after)
	}
}

func TestTheLastHubStays(t *testing.T) {
	s := start(t)
	base := s.demo()
	for _, hub := range []string{"cinderhall", "quillbeck"} {
		must[EstateHead](s, "DELETE", base+"/sites/"+hub, nil)
	}
	if p := s.refused(422, "DELETE", base+"/sites/harrowmere", nil); !strings.Contains(p.Detail, "no hub") {
		t.Errorf("%+v", p)
	}
}

func TestRefusalsNameTheField(t *testing.T) {
	s := start(t)
	base := s.demo()
	p := s.refused(422, "PUT", base+"/sites/van-1", `{"key":"van-1","name":"x","links":[{"key":"a","reach":"static","mtu":"wide"}],"subnets":[{"prefix":"10.1.1.1"}]}`)
	var at []string
	for _, e := range p.Errors {
		at = append(at, e.Location)
	}
	if strings.Join(at, " ") != "body.links[0].mtu body.subnets[0].prefix" {
		t.Errorf("%+v", p)
	}
	p = s.refused(422, "PUT", base+"/sites/van-1", `{"key":"van-1","name":"x","links":[{"key":"a","reach":"static"}]}`)
	if len(p.Errors) != 1 || p.Errors[0].Location != "body.links[0].addresses" {
		t.Errorf("%+v", p)
	}
	s.refused(422, "PUT", base+"/sites/van-1", `{"key":"van-2","name":"x"}`)
	s.refused(422, "PUT", base+"/sites/van-1", `{"key":`)
}

func TestStaleEditsAreRefused(t *testing.T) {
	s := start(t)
	base := s.demo()
	sites := must[[]LedgerSite](s, "GET", base+"/sites", nil)
	site := sites[0]
	tag := fmt.Sprintf(`"%d"`, site.Revision)
	site.Site.Name = "First"
	must[EstateHead](s, "PUT", base+"/sites/"+site.Key, site.Site, "If-Match", tag)
	site.Site.Name = "Second"
	s.refused(412, "PUT", base+"/sites/"+site.Key, site.Site, "If-Match", tag)
	if got := must[[]LedgerSite](s, "GET", base+"/sites", nil)[0].Name; got != "First" {
		t.Errorf("the stale edit was saved: %s", got)
	}
	must[EstateHead](s, "PUT", base+"/sites/"+sites[1].Key, sites[1].Site, "If-Match", fmt.Sprintf(`"%d"`, sites[1].Revision))
	s.refused(400, "DELETE", base+"/sites/"+site.Key, nil, "If-Match", "new")
}

// A compressed answer has the tag of the state too, for If-Match.
func TestTagsSurviveCompression(t *testing.T) {
	s := start(t)
	base := s.demo()
	for _, encoding := range []string{"", "gzip", "br"} {
		r := s.send("GET", base+"/sites", nil, "Accept-Encoding", encoding)
		if got := r.header.Get("ETag"); got != `"2"` || r.header.Get("Content-Encoding") != encoding {
			t.Errorf("%q: tag %s, encoding %q", encoding, got, r.header.Get("Content-Encoding"))
		}
	}
}

func TestAnImportIsTakenOnce(t *testing.T) {
	s := start(t)
	made := must[desk.Summary](s, "POST", "/api/estates", map[string]string{"name": "Sheets"})
	base := "/api/estates/" + made.Key + "/drafts/first"
	parcel := Parcel{Sheets: estate.Sheets{Sites: "key,demand_mbps\na,4\nb,x\n", Links: "site,key,reach\na,l,nat\n"}}
	preview := must[ImportPreview](s, "POST", base+"/import/preview", parcel)
	if len(preview.Sheets) != 2 || preview.Sheets[0].Bad != 1 || preview.Sites != 1 {
		t.Errorf("%+v", preview)
	}
	s.refused(422, "POST", base+"/import", parcel)
	if got := must[EstateHead](s, "GET", base, nil).Sites; got != 0 {
		t.Errorf("%d sites of a refused import", got)
	}
	parcel.LeaveBad = true
	first := must[EstateHead](s, "POST", base+"/import", parcel, "Idempotency-Key", "one")
	again := must[EstateHead](s, "POST", base+"/import", parcel, "Idempotency-Key", "one")
	if first.Sites != 1 || again.Revision != first.Revision {
		t.Errorf("%+v, %+v", first, again)
	}
	parcel.Fixes = []estate.Fix{{Sheet: "sites", Row: 3, Column: "demand_mbps", Value: "7"}}
	parcel.LeaveBad = false
	if head := must[EstateHead](s, "POST", base+"/import", parcel); head.Sites != 2 {
		t.Errorf("%+v", head)
	}
	bad := must[ImportPreview](s, "POST", base+"/import/preview", Parcel{Document: "wideknot: 1\nestate: {nam: x}\n"})
	if len(bad.Problems) == 0 || bad.Problems[0].Line != 2 {
		t.Errorf("%+v", bad)
	}
	s.refused(422, "POST", base+"/import", Parcel{Document: "wideknot: 1\nestate: {nam: x}\n"})
}

func TestShareAndRepair(t *testing.T) {
	s := start(t)
	base := s.demo()
	share := func(zone string, take bool) []ZoneShare {
		must[EstateHead](s, "POST", base+"/overlays/ops/share", map[string]any{"zone": zone, "share": take})
		return must[[]ShapedOverlay](s, "GET", base+"/overlays", nil)[0].Zones
	}
	for _, z := range share("camera", false) {
		if z.Zone == "camera" && (z.Shared != 0 || z.Subnets == 0) {
			t.Errorf("%+v", z)
		}
	}
	for _, z := range share("camera", true) {
		if z.Zone == "camera" && z.Shared != z.Subnets {
			t.Errorf("%+v", z)
		}
	}
	findings := must[[]StagedFinding](s, "GET", base+"/findings", nil)
	errors := must[EstateHead](s, "GET", base, nil).Findings["error"]
	for findings[0].Severity == "error" {
		must[EstateHead](s, "POST", base+"/repairs", findings[0].Repairs[0])
		findings = must[[]StagedFinding](s, "GET", base+"/findings", nil)
		if errors--; errors < 0 {
			t.Fatalf("repairs do not repair: %+v", findings[0])
		}
	}
	gone := planning.Repair{Action: planning.Unshare, Site: "crossfold", Prefix: netip.MustParsePrefix("10.99.0.0/24"), From: "ops", Label: "x"}
	s.refused(409, "POST", base+"/repairs", gone)
	s.refused(409, "POST", base+"/repairs/weigh", map[string]any{"repairs": []any{gone}})
}

func TestSecretsStayIn(t *testing.T) {
	s := start(t)
	base := s.demo()
	key := must[struct {
		PrivateKey string `json:"private_key"`
	}](s, "POST", base+"/sites/tarnhollow/private-key", nil).PrivateKey
	if _, err := estate.ParseKey(key); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"", "/sites", "/findings", "/overlays", "/document", "/sites/tarnhollow/plan", "/sheets/sites"} {
		if r := s.send("GET", base+path, nil); r.status != 200 || bytes.Contains(r.body, []byte(key)) {
			t.Errorf("GET %s: %d, or it shows a private key", path, r.status)
		}
	}
	for _, c := range []struct {
		body  map[string]any
		files int
		keys  bool
	}{{map[string]any{"keys": false}, 0, false}, {map[string]any{"keys": true, "site": "tarnhollow"}, 55, true}} {
		r := s.send("POST", base+"/archive", c.body)
		archive, err := zip.NewReader(bytes.NewReader(r.body), int64(len(r.body)))
		if err != nil {
			t.Fatal(err)
		}
		var text strings.Builder
		for _, f := range archive.File {
			if mode := f.Mode().Perm(); mode != 0o600 && !(mode == 0o700 && strings.HasSuffix(f.Name, "/apply")) || f.Modified.Year() < 2026 {
				t.Errorf("%s: mode %v, of %v", f.Name, mode, f.Modified)
			}
			open, err := f.Open()
			if err != nil {
				t.Fatal(err)
			}
			io.Copy(&text, open)
		}
		if strings.Contains(text.String(), key) != c.keys || c.files > 0 && len(archive.File) != c.files {
			t.Errorf("%v: %d files, key in it: %v", c.body, len(archive.File), !c.keys)
		}
	}
	s.refused(404, "POST", base+"/sites/nowhere/private-key", nil)
}

func TestGatewaysOwnKeyIsNotOurs(t *testing.T) {
	s := start(t)
	base := s.demo()
	site := must[[]LedgerSite](s, "GET", base+"/sites", nil)[0].Site
	site.Gateway.PublicKey = "xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg="
	must[EstateHead](s, "PUT", base+"/sites/"+site.Key, site)
	s.refused(409, "POST", base+"/sites/"+site.Key+"/private-key", nil)
}

func TestForeignPagesAreKeptOut(t *testing.T) {
	s := start(t)
	s.refused(403, "POST", "/api/estates", map[string]string{"name": "X"}, "Origin", "http://evil.example")
	s.refused(403, "POST", "/api/estates", map[string]string{"name": "X"}, "Sec-Fetch-Site", "cross-site")
	s.refused(403, "POST", "/api/estates", map[string]string{"name": "X"}, "Origin", "")
	must[desk.Summary](s, "POST", "/api/estates", map[string]string{"name": "X"}, "Origin", "http://127.0.0.1:8080")
	s.refused(415, "POST", "/api/estates", `{"name": "Y"}`, "Content-Type", "text/plain")
	r := s.send("GET", "/", nil)
	for _, want := range []string{"script-src 'self'", "style-src 'self'", "frame-ancestors 'none'"} {
		if !strings.Contains(r.header.Get("Content-Security-Policy"), want) {
			t.Errorf("the policy lacks %s", want)
		}
	}
	if !loopbackName("localhost:8080") || !loopbackName("[::1]:80") || loopbackName("evil.example:8080") {
		t.Error("names of this machine are not told from others")
	}
}

func TestOpenAPI(t *testing.T) {
	s := start(t)
	var doc struct {
		OpenAPI string
		Paths   map[string]map[string]struct {
			Summary     string
			OperationID string
		}
	}
	r := s.send("GET", "/api/openapi.json", nil)
	if err := json.Unmarshal(r.body, &doc); err != nil || doc.OpenAPI != "3.1.0" || len(doc.Paths) < 15 {
		t.Fatalf("%v: %.100s", err, r.body)
	}
	for path, operations := range doc.Paths {
		for method, op := range operations {
			if op.Summary == "" || op.OperationID == "" {
				t.Errorf("%s %s is not described", method, path)
			}
		}
	}
}

func TestEightAtOnceLoseNothing(t *testing.T) {
	s := start(t)
	base := s.demo()
	done := make(chan error)
	for worker := range 8 {
		go func() {
			for i := range 5 {
				key := fmt.Sprintf("w%d-%d", worker, i)
				r := s.send("PUT", base+"/sites/"+key, estate.Site{Key: key, Name: key})
				if r.status != 201 {
					done <- fmt.Errorf("%s: %d %s", key, r.status, r.body)
					return
				}
			}
			done <- nil
		}()
	}
	for range 8 {
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	if head := must[EstateHead](s, "GET", base, nil); head.Sites != 80 {
		t.Errorf("%d sites, want 80", head.Sites)
	}
}
