package api

import (
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// chapters are the parts of the API's description, by how their paths begin
// behind the estate or draft; the first that fits counts.
var chapters = []struct{ start, name, about string }{
	{"/api/entrance", "Entrance", "Signing in, one-time links and the OpenID Connect provider."},
	{"/api/session", "Entrance", ""},
	{"/api/links", "Entrance", ""},
	{"/api/provider", "Entrance", ""},
	{"/api/me", "Account", "Who asks: sessions, password, API tokens."},
	{"/api/accounts", "Administration", "Accounts of the server, for its administrators."},
	{"/api/audit", "Administration", ""},
	{"{estate}/people", "People", "Who may see an estate, and do what."},
	{"{estate}/audit", "Audit", "Who did what."},
	{"{draft}/outages", "Outages", "What failures do, how available sites are, and what is planned against it."},
	{"{draft}/link-", "Outages", ""},
	{"{draft}/shed", "Outages", ""},
	{"{draft}/import", "Transfer", "Sheets and documents, in and out."},
	{"{draft}/document", "Transfer", ""},
	{"{draft}/sheets", "Transfer", ""},
	{"{draft}/archive", "Transfer", ""},
	{"{draft}/sites", "Survey", "Sites with their links and subnets, and what follows for each."},
	{"{draft}/about", "Survey", ""},
	{"{draft}/space", "Addresses", "What has which addresses, and what is free."},
	{"{draft}/room", "Addresses", ""},
	{"{draft}/reserved", "Addresses", ""},
	{"{draft}/overlays", "Shape", "Overlays, and the pairs of sites they join."},
	{"{draft}/both-ends", "Paths", "Packets followed, and both ends of a tunnel."},
	{"{draft}/follow", "Paths", ""},
	{"{draft}/find", "Paths", ""},
	{"{draft}/repairs", "Findings", "What is wrong or risky, and repairs."},
	{"{draft}/findings", "Findings", ""},
	{"/api/estates", "Estates", "Estates, their drafts and releases."},
}

func chapterOf(path string) string {
	for _, c := range chapters {
		if strings.Contains(path, c.start) {
			return c.name
		}
	}
	return "Estates"
}

// problems are the answers of an operation that goes wrong, by who may call it
// and what it takes.
func problems(op *huma.Operation, n need) map[int]string {
	out := map[int]string{
		http.StatusBadRequest: "the request is not well formed", http.StatusMisdirectedRequest: "the server was asked under a name that is not its own",
		http.StatusTooManyRequests: "too many requests; Retry-After says when to come again", http.StatusInternalServerError: "the server failed",
		http.StatusServiceUnavailable: "the database is away, or too much is asked at once; Retry-After says when to come again",
	}
	if !n.open || op.OperationID == "sign-in" {
		out[http.StatusUnauthorized] = "nobody is signed in, or the token is not good"
	}
	out[http.StatusForbidden] = "who asks may not do this, or the request comes from a page of another origin"
	if strings.Contains(op.Path, "{") || n.open {
		out[http.StatusNotFound] = "what the path names is not there, or not for who asks"
	}
	if n.open {
		out[http.StatusGone] = "the link or sign-in has ended"
	}
	out[http.StatusUnprocessableEntity] = "a value cannot be taken; errors say which and why"
	if op.Method != http.MethodGet {
		out[http.StatusConflict] = "the state does not allow it"
		out[http.StatusInsufficientStorage] = "the disk of the database is full"
	}
	if op.RequestBody != nil {
		out[http.StatusRequestEntityTooLarge] = "the body is too large"
		out[http.StatusRequestTimeout] = "the body did not come in time"
		out[http.StatusUnsupportedMediaType] = "the body is of a kind that is not taken"
	}
	if edits(op) {
		out[http.StatusPreconditionFailed] = "the state that If-Match names has been changed: by whom, and how"
	}
	return out
}

func edits(op *huma.Operation) bool {
	return slices.ContainsFunc(op.Parameters, func(p *huma.Param) bool { return p.Name == "If-Match" })
}

// finish says in the document what follows from elsewhere: chapters, who may call
// what, and what problems look like.
func finish(document *huma.OpenAPI) {
	schemas := document.Components.Schemas
	schema := func(t reflect.Type, name string) *huma.Schema { return schemas.Schema(t, true, name) }
	plain := schema(reflect.TypeFor[huma.ErrorModel](), "ErrorModel")
	special := map[string]map[int]*huma.Schema{
		"release":  {http.StatusConflict: oneOf(plain, schema(reflect.TypeFor[heldProblem](), "HeldProblem"))},
		"catch-up": {http.StatusConflict: oneOf(plain, schema(reflect.TypeFor[unsettledProblem](), "UnsettledProblem"))},
	}
	stale := schema(reflect.TypeFor[conflictProblem](), "ConflictProblem")
	for _, c := range chapters {
		if c.about != "" {
			document.Tags = append(document.Tags, &huma.Tag{Name: c.name, Description: c.about})
		}
	}
	for _, item := range document.Paths {
		for _, op := range []*huma.Operation{item.Get, item.Put, item.Post, item.Delete} {
			if op == nil {
				continue
			}
			n := permissions[op.OperationID]
			op.Tags = []string{chapterOf(op.Path)}
			switch {
			case n.open:
				op.Security = []map[string][]string{}
			case n.session:
				op.Security = []map[string][]string{{"session": {}}}
			default:
				op.Security = []map[string][]string{{"session": {}}, {"token": {}}}
			}
			delete(op.Responses, "default")
			for status := range op.Responses {
				if strings.HasPrefix(status, "4") || strings.HasPrefix(status, "5") {
					delete(op.Responses, status)
				}
			}
			for status, text := range problems(op, n) {
				body := plain
				if status == http.StatusPreconditionFailed {
					body = stale
				} else if own := special[op.OperationID][status]; own != nil {
					body = own
				}
				op.Responses[strconv.Itoa(status)] = &huma.Response{
					Description: text, Content: map[string]*huma.MediaType{"application/problem+json": {Schema: body}},
				}
			}
			if op.Method == http.MethodGet && op.Responses["200"] != nil && op.Responses["200"].Headers["ETag"] != nil && !slices.Contains(volatile, op.OperationID) {
				op.Responses["304"] = &huma.Response{Description: "the state is still the one that If-None-Match names"}
			}
			if slices.Contains([]string{"save-site", "save-overlay"}, op.OperationID) {
				op.Responses["201"] = &huma.Response{Description: "Created", Headers: op.Responses["200"].Headers, Content: op.Responses["200"].Content}
			}
		}
	}
}

func oneOf(schemas ...*huma.Schema) *huma.Schema { return &huma.Schema{AnyOf: schemas} }
