package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"

	"wideknot/core/estate"
	"wideknot/internal/server/identity"
)

// least says for each operation who is the least that may call it, written
// down here again so that a slip in the server's own table shows.
var least = map[string]string{
	"get-entrance": "stranger", "sign-in": "stranger", "check-link": "stranger", "use-link": "stranger", "depart": "stranger", "arrive": "stranger",

	"get-me": "outsider", "list-estates": "outsider",
	"sign-out": "outsider", "list-sessions": "outsider", "end-session": "outsider", "end-sessions": "outsider", "set-password": "outsider",
	"list-tokens": "outsider", "add-token": "outsider", "delete-token": "outsider",

	"list-accounts": "administrator", "add-account": "administrator", "set-account": "administrator", "make-link": "administrator",
	"list-server-audit": "administrator", "create-estate": "administrator",

	"get-estate": "reader", "list-drafts": "reader", "get-draft": "reader", "list-steps": "reader", "list-findings": "reader",
	"list-sites": "reader", "list-overlays": "reader", "get-site-plan": "reader", "export": "reader", "export-sheet": "reader",
	"get-consequences": "reader", "watch-draft": "reader", "get-behind": "reader", "list-releases": "reader", "compare": "reader",
	"list-audit": "reader", "export-audit": "reader", "list-people": "reader", "make-archive": "reader",

	"new-draft": "planner", "discard-draft": "planner", "reopen-draft": "planner", "catch-up": "planner", "save-about": "planner",
	"undo": "planner", "redo": "planner", "repair": "planner", "save-site": "planner", "delete-site": "planner", "save-overlay": "planner",
	"delete-overlay": "planner", "share": "planner", "preview-import": "planner", "import": "planner",

	"get-outages": "reader", "get-outage": "reader", "get-outage-timeline": "reader", "get-standing": "reader", "get-outage-changes": "reader", "export-outages": "reader", "export-outage-report": "reader",
	"rank-links": "planner", "limit-links": "planner", "set-shed": "planner", "set-probe": "planner",
	"get-space": "reader", "find-room": "reader", "weigh-repairs": "reader", "get-loom": "reader", "get-loom-window": "reader", "get-pair": "reader", "get-both-ends": "reader",
	"check-key": "reader", "follow": "reader", "find": "reader", "get-before-after": "reader", "get-pattern": "reader",
	"reserve": "planner", "repair-all": "planner", "set-tunnel-order": "planner", "set-direct": "planner", "set-hub-order": "planner", "add-like": "planner",

	"list-gateways": "reader", "get-gateway": "reader", "list-events": "reader", "export-events": "reader", "list-windows": "reader", "add-window": "operator", "delete-window": "operator", "list-listeners": "operator", "add-listener": "operator", "delete-listener": "operator",
	"get-live-loom": "reader", "get-now": "reader", "get-why": "reader", "get-series": "reader", "foresee-drill": "reader", "list-drills": "reader", "get-drill": "reader", "export-drill": "reader", "report-drill": "reader", "start-drill": "operator", "stop-drill": "operator", "list-benches": "reader", "get-bench": "reader", "bench-tunnel": "operator", "list-tunnel-sessions": "operator", "export-series": "reader", "get-carried": "reader", "look-why": "planner", "list-offers": "reader", "take-offers": "planner", "take-drift": "operator", "refuse-offer": "planner",
	"make-join-code": "operator", "make-cloud-init": "operator", "withdraw-join-code": "operator", "bar-gateway": "operator", "bring-gateways": "operator", "put-back-gateway": "operator", "make-new-keys": "operator",
	"plan-rollout": "planner", "list-rollouts": "reader", "get-rollout": "reader", "start-rollout": "operator", "decide-rollout": "operator",

	"release": "operator", "reveal-key": "operator",

	"set-person": "owner", "remove-person": "owner", "delete-estate": "owner",
	"get-site": "reader", "get-overlay": "reader", "get-about": "reader", "get-audit-record": "reader",
}

// notForTokens are the operations for people at a browser only.
var notForTokens = []string{
	"sign-out", "list-sessions", "end-session", "end-sessions", "set-password", "list-tokens", "add-token", "delete-token",
	"list-accounts", "add-account", "set-account", "make-link", "list-server-audit", "create-estate", "set-person", "remove-person", "delete-estate",
}

// Every operation is called as everybody, and lets in whom the table says.
func TestEveryOperationAsEverybody(t *testing.T) {
	s := start(t)
	s.demo()
	ranks := []string{"stranger", "outsider", "reader", "planner", "operator", "owner"}
	people := map[string]func() *server{"stranger": func() *server { return &server{t, s.app, s.parts, ""} }}
	outsider := s.account("outsider@test.example")
	people["outsider"] = func() *server { return s.as(outsider) }
	for _, role := range identity.Roles {
		account := s.member("brindlewater", role)
		people[string(role)] = func() *server { return s.as(account) }
	}
	boss, err := s.parts.Office.SetAccount(context.Background(), s.account("boss@test.example").ID, false, true)
	if err != nil {
		t.Fatal(err)
	}
	people["administrator"] = func() *server { return s.as(boss) } // of the server, not of the estate

	doc := Describe("test")
	seen := map[string]bool{}
	for path, item := range doc.Paths {
		for method, op := range map[string]string{
			"GET": id(item.Get), "POST": id(item.Post), "PUT": id(item.Put), "DELETE": id(item.Delete),
		} {
			if op == "" {
				continue
			}
			seen[op] = true
			want, known := least[op]
			if !known {
				t.Errorf("the table does not know %s", op)
				continue
			}
			for name, open := range people {
				allowed := false
				switch want {
				case "administrator":
					allowed = name == "administrator"
				default:
					rank := name
					if name == "administrator" {
						rank = "outsider"
					}
					allowed = at(ranks, rank) >= at(ranks, want)
				}
				if got, status := open().letIn(method, path); got != allowed {
					t.Errorf("%s as %s: let in %v (status %d), want %v", op, name, got, status, allowed)
				}
			}
		}
	}
	for op := range least {
		if !seen[op] {
			t.Errorf("there is no operation %s", op)
		}
	}
	for op := range permissions {
		if !seen[op] && op != "make-archive-with-keys" {
			t.Errorf("the server's table speaks of %s, which there is not", op)
		}
	}
}

func id(op any) string {
	text, _ := json.Marshal(op)
	var named struct{ OperationID string }
	_ = json.Unmarshal(text, &named) // null gives none
	return named.OperationID
}

func at(list []string, x string) int {
	for i, y := range list {
		if x == y {
			return i
		}
	}
	return -1
}

var inPath = regexp.MustCompile(`\{(\w+)\}`)

// letIn reports whether an operation is let at, with parameters that do no
// harm.
func (s *server) letIn(method, path string, headers ...string) (bool, int) {
	s.t.Helper()
	path = inPath.ReplaceAllStringFunc(path, func(name string) string {
		return map[string]string{
			"{estate}": "brindlewater", "{draft}": "first", "{site}": "tarnhollow", "{overlay}": "ops", "{sheet}": "sites", "{number}": "1",
			"{account}": "99999", "{session}": "99999", "{token}": "99999", "{listener}": "99999", "{window}": "99999", "{drill}": "99999", "{record}": "99999", "{format}": "json", "{a}": "tarnhollow", "{b}": "harrowmere", "{pattern}": "eelgate",
		}[name]
	})
	var body any
	if method == "POST" || method == "PUT" {
		body = map[string]any{}
	}
	var status int
	var text []byte
	if strings.HasSuffix(path, "/events") {
		status, text = s.glimpse(path, headers...)
	} else {
		r := s.send(method, path, body, headers...)
		status, text = r.status, r.body
	}
	if method == "DELETE" && strings.HasSuffix(path, "/drafts/first") && status < 300 {
		s.send("POST", path+"/reopen", nil, headers...)
	}
	var p problemDocument
	_ = json.Unmarshal(text, &p) // what is no problem document is none
	kept := status == 403 || status == 401 && !strings.Contains(p.Detail, "do not go together") ||
		status == 404 && strings.Contains(p.Detail, "not a member")
	return !kept, status
}

// glimpse opens a stream for a moment.
func (s *server) glimpse(path string, headers ...string) (int, []byte) {
	s.t.Helper()
	r := httptest.NewRequest("GET", path, nil)
	r.Host = "127.0.0.1:8080"
	r.Header.Set("Cookie", "wideknot="+s.secret)
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	got, err := s.app.Test(r, fiber.TestConfig{Timeout: 700 * time.Millisecond, FailOnTimeout: false})
	if err != nil {
		return 200, nil // it streams on
	}
	defer got.Body.Close()
	text, _ := io.ReadAll(got.Body) // cut off by the time limit
	return got.StatusCode, text
}

// A token does what its holder may, up to its role, in its estate, and nothing
// that is for people only.
func TestTokensAreLimited(t *testing.T) {
	s := start(t)
	s.demo()
	must[struct{ Key string }](s, "POST", "/api/estates", map[string]string{"name": "Other"})
	token := func(role, estate string) string {
		body := map[string]any{"name": role, "role": role, "estate": estate, "expires": time.Now().Add(time.Hour)}
		return "Bearer " + must[NewToken](s, "POST", "/api/me/tokens", body).Secret
	}
	nobody := &server{t, s.app, s.parts, ""}
	for _, c := range []struct {
		header, method, path string
		want                 int
	}{
		{token("reader", ""), "GET", "/api/estates/brindlewater", 200},
		{token("reader", ""), "POST", "/api/estates/brindlewater/drafts/first/undo", 403},
		{token("planner", "brindlewater"), "POST", "/api/estates/brindlewater/drafts/first/undo", 200},
		{token("planner", "brindlewater"), "GET", "/api/estates/other", 404},
		{token("owner", "other"), "GET", "/api/estates/brindlewater", 404},
		{"Bearer wk_FORGEDFORGEDFORGEDFORGEDFORGEDFORGEDFORGEDFORGEDFORGED", "GET", "/api/estates", 401},
		{"Bearer ", "GET", "/api/estates", 401},
		{"Basic YWRtaW46YWRtaW4=", "GET", "/api/estates", 401},
	} {
		if r := nobody.send(c.method, c.path, nil, "Authorization", c.header, "Origin", ""); r.status != c.want {
			t.Errorf("%s %s with %.12s…: %d %s, want %d", c.method, c.path, c.header, r.status, r.body, c.want)
		}
	}
	all := token("owner", "")
	for path, item := range Describe("test").Paths {
		for method, op := range map[string]string{"GET": id(item.Get), "POST": id(item.Post), "PUT": id(item.Put), "DELETE": id(item.Delete)} {
			if at(notForTokens, op) >= 0 {
				if got, status := nobody.letIn(method, path, "Authorization", all); got {
					t.Errorf("%s with a token: %d", op, status)
				}
			}
		}
	}
	// Its holder's role is the limit, and closing the account ends it.
	made := must[NewToken](s, "POST", "/api/me/tokens", map[string]any{"name": "short", "role": "owner", "expires": time.Now().Add(time.Hour)})
	bearer := "Bearer " + made.Secret
	s.send("DELETE", fmt.Sprint("/api/me/tokens/", made.ID), nil)
	if r := nobody.send("GET", "/api/estates", nil, "Authorization", bearer); r.status != 401 {
		t.Errorf("an ended token: %d", r.status)
	}
	s.refused(422, "POST", "/api/me/tokens", map[string]any{"name": "long", "role": "owner", "expires": time.Now().Add(500 * 24 * time.Hour)})
}

// Another estate's ids, an oversized body, a forged session, a replayed
// request.
func TestTricks(t *testing.T) {
	s := start(t)
	base := s.demo()
	must[struct{ Key string }](s, "POST", "/api/estates", map[string]string{"name": "Other"})
	other := "/api/estates/other/drafts/first"
	s.refused(404, "GET", other+"/sites/tarnhollow/plan", nil)
	s.refused(404, "POST", other+"/sites/tarnhollow/private-key", nil)
	s.refused(404, "GET", "/api/estates/other/drafts/winter/sites", nil)
	reader := s.as(s.member("other", identity.Reader))
	reader.refused(404, "GET", base+"/sites", nil)
	reader.refused(404, "GET", "/api/estates/other/compare?from=released&to=../brindlewater", nil)

	forged := &server{t, s.app, s.parts, "AAAAAAAAAAAAAAAAAAAAAAAAAA"}
	forged.refused(401, "GET", "/api/estates", nil)
	big := `{"key":"big","name":"` + strings.Repeat("x", smallBody) + `"}`
	s.refused(413, "PUT", base+"/sites/big", big)
	s.refused(413, "POST", base+"/import", strings.Repeat("x", MaxBody+1))

	site := estate.Site{Key: "van-9", Name: "Once"}
	first := must[EstateHead](s, "PUT", base+"/sites/van-9", site, "Idempotency-Key", "r1")
	must[EstateHead](s, "DELETE", base+"/sites/van-9", nil)
	again := must[EstateHead](s, "PUT", base+"/sites/van-9", site, "Idempotency-Key", "r1")
	if again.Sites != first.Sites-1 {
		t.Error("a replayed request was carried out again")
	}
}

// What a stale edit is answered says what changed, and by whom.
func TestStaleEditsAreToldWhatHappened(t *testing.T) {
	s := start(t)
	base := s.demo()
	piet := s.as(s.member("brindlewater", identity.Planner))
	site := must[[]LedgerSite](s, "GET", base+"/sites", nil)[3]
	mine := site.Site
	mine.Name = "Mine"
	theirs := site.Site
	theirs.DemandMbps = 77
	must[EstateHead](piet, "PUT", base+"/sites/"+site.Key, theirs)
	r := s.send("PUT", base+"/sites/"+site.Key, mine, "If-Match", fmt.Sprintf(`"%d"`, site.Revision))
	var got struct {
		Status  int
		Now     uint64
		Changes []string
		Steps   []struct{ Author, Label string }
	}
	if err := json.Unmarshal(r.body, &got); err != nil || got.Status != 412 {
		t.Fatalf("%v %s", err, r.body)
	}
	if got.Now <= site.Revision || len(got.Steps) != 1 || got.Steps[0].Author != "planner@brindlewater.example" || len(got.Changes) != 1 || !strings.Contains(got.Changes[0], "became 77") {
		t.Errorf("%s", r.body)
	}
	// Undo takes back what the page shows, not what came since.
	head := must[EstateHead](s, "GET", base, nil)
	must[EstateHead](piet, "DELETE", base+"/sites/van-1", nil)
	s.refused(412, "POST", base+"/undo", nil, "If-Match", fmt.Sprintf(`"%d"`, head.Revision))
	if after := must[EstateHead](s, "GET", base, nil); after.Undo != "Delete Field Laboratory 1" {
		t.Errorf("%q was taken back", after.Undo)
	}
}
