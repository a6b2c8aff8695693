package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// The OpenAPI document, as an outside validator reads it: each answer of the API
// tests is held against it.
type contract struct {
	document map[string]any
	compiler *jsonschema.Compiler
	mu       sync.Mutex
	schemas  map[string]*jsonschema.Schema
}

var published = sync.OnceValues(func() (*contract, error) {
	text, err := json.Marshal(Describe("test"))
	if err != nil {
		return nil, err
	}
	parsed, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	c := &contract{document: parsed.(map[string]any), compiler: jsonschema.NewCompiler(), schemas: map[string]*jsonschema.Schema{}}
	c.compiler.DefaultDraft(jsonschema.Draft2020)
	return c, c.compiler.AddResource("openapi.json", parsed)
})

// path finds the path template that a request's path is of; one without
// parameters comes before others.
func (c *contract) path(of string) string {
	best := ""
	for template := range c.document["paths"].(map[string]any) {
		a, b := strings.Split(template, "/"), strings.Split(of, "/")
		fits := len(a) == len(b)
		for i := 0; fits && i < len(a); i++ {
			before, rest, open := strings.Cut(a[i], "{")
			_, after, _ := strings.Cut(rest, "}")
			fits = a[i] == b[i] || open && b[i] != "" && strings.HasPrefix(b[i], before) && strings.HasSuffix(b[i], after)
		}
		if fits && (best == "" || strings.Count(template, "{") < strings.Count(best, "{")) {
			best = template
		}
	}
	return best
}

// holds says in what an answer is not as the document has it.
func (c *contract) holds(method, target string, r response) error {
	u, err := url.Parse(target)
	if err != nil || !strings.HasPrefix(u.Path, "/api/") || u.Path == "/api/openapi.json" {
		return nil
	}
	template := c.path(u.EscapedPath())
	if template == "" || method == "HEAD" || method == "OPTIONS" {
		return nil // there is no such path
	}
	item := c.document["paths"].(map[string]any)[template].(map[string]any)
	op, there := item[strings.ToLower(method)].(map[string]any)
	if !there {
		return nil
	}
	answer, there := op["responses"].(map[string]any)[fmt.Sprint(r.status)].(map[string]any)
	if !there {
		return fmt.Errorf("the document knows no answer %d", r.status)
	}
	content, _ := answer["content"].(map[string]any)
	kind, _, _ := strings.Cut(r.header.Get("Content-Type"), ";")
	if len(content) == 0 {
		if len(r.body) > 0 {
			return fmt.Errorf("the document knows no body for %d", r.status)
		}
		return nil
	}
	if content[kind] == nil {
		return fmt.Errorf("the document knows no %q for %d", kind, r.status)
	}
	if r.header.Get("Content-Encoding") != "" {
		return nil
	}
	if kind != "application/json" && kind != "application/problem+json" || op["operationId"] == "export" || op["operationId"] == "export-audit" && r.status == 200 {
		return nil
	}
	escape := strings.NewReplacer("~", "~0", "/", "~1")
	place := "openapi.json#/paths/" + url.PathEscape(escape.Replace(template)) + "/" + strings.ToLower(method) + "/responses/" + fmt.Sprint(r.status) + "/content/" + url.PathEscape(escape.Replace(kind)) + "/schema"
	c.mu.Lock()
	defer c.mu.Unlock()
	schema := c.schemas[place]
	if schema == nil {
		if schema, err = c.compiler.Compile(place); err != nil {
			return err
		}
		c.schemas[place] = schema
	}
	body, err := jsonschema.UnmarshalJSON(bytes.NewReader(r.body))
	if err != nil {
		return err
	}
	return schema.Validate(body)
}

func (s *server) held(method, path string, r response) {
	s.t.Helper()
	c, err := published()
	if err != nil {
		s.t.Fatal(err)
	}
	if err := c.holds(method, path, r); err != nil {
		s.t.Errorf("%s %s: %d is not what the document says: %v\n%.300s", method, path, r.status, err, r.body)
	}
}

// What can be read as a part can be put back, under the tag it was read with.
func TestPartsAreReadAndPutBack(t *testing.T) {
	s := start(t)
	base := s.demo()
	for _, path := range []string{base + "/sites/tarnhollow", base + "/overlays/ops", base + "/about"} {
		got := s.send("GET", path, nil)
		tag := got.header.Get("ETag")
		if got.status != 200 || tag == "" {
			t.Fatalf("%s: %d %q", path, got.status, tag)
		}
		if r := s.send("GET", path, nil, "If-None-Match", tag); r.status != 304 || len(r.body) > 0 || r.header.Get("ETag") != tag {
			t.Errorf("%s again: %d %q", path, r.status, r.header.Get("ETag"))
		}
		put := s.send("PUT", path, string(got.body), "If-Match", tag)
		if put.status != 200 || put.header.Get("ETag") != tag {
			t.Errorf("%s put back as it was: %d, tag %s of %s", path, put.status, put.header.Get("ETag"), tag)
		}
		changed := strings.Replace(string(got.body), `"name":"`, `"name":"New `, 1)
		if !strings.Contains(changed, `"name":"New `) {
			changed = strings.Replace(string(got.body), `"keepalive_s":`, `"keepalive_s":1`, 1)
		}
		if put = s.send("PUT", path, changed, "If-Match", tag); changed != string(got.body) {
			if put.status != 200 || put.header.Get("ETag") == tag {
				t.Errorf("%s changed: %d, tag %s", path, put.status, put.header.Get("ETag"))
			}
			s.refused(412, "PUT", path, changed, "If-Match", tag)
			if now := s.send("GET", path, nil); now.header.Get("ETag") != put.header.Get("ETag") {
				t.Errorf("%s: the tag of what was put is %s, of what is read %s", path, put.header.Get("ETag"), now.header.Get("ETag"))
			}
		}
	}
	s.refused(404, "GET", base+"/sites/nowhere", nil)
	made := s.send("PUT", base+"/sites/newbeck", `{"key":"newbeck","name":"Newbeck"}`)
	if made.status != 201 || made.header.Get("Location") != base+"/sites/newbeck" {
		t.Errorf("a new site: %d at %q", made.status, made.header.Get("Location"))
	}
	draft := s.send("POST", "/api/estates/brindlewater/drafts", map[string]string{"name": "Other"})
	if at := draft.header.Get("Location"); draft.status != 201 || s.send("GET", at, nil).status != 200 {
		t.Errorf("a new draft: %d at %q", draft.status, at)
	}
}

// Lists are read part by part, or whole, and take no parameter they do not know.
func TestListsGoOn(t *testing.T) {
	s := start(t)
	base := s.demo()
	for _, path := range []string{base + "/sites", base + "/findings", "/api/estates/brindlewater/drafts", "/api/estates/brindlewater/releases", "/api/accounts"} {
		var whole []json.RawMessage
		if err := json.Unmarshal(s.send("GET", path, nil).body, &whole); err != nil {
			t.Fatal(path, err)
		}
		var all []json.RawMessage
		parts := 0
		for at := path + "?limit=7"; at != ""; parts++ {
			r := s.send("GET", at, nil)
			var some []json.RawMessage
			if err := json.Unmarshal(r.body, &some); err != nil || len(some) > 7 {
				t.Fatalf("%s: %d items, %v", at, len(some), err)
			}
			all = append(all, some...)
			at = ""
			if link := r.header.Get("Link"); link != "" {
				at = strings.TrimSuffix(strings.TrimPrefix(link, "<"), `>; rel="next"`)
			}
		}
		if fmt.Sprint(all) != fmt.Sprint(whole) || parts != (max(1, len(whole))+6)/7 {
			t.Errorf("%s: %d items in %d parts, %d at once", path, len(all), parts, len(whole))
		}
		s.refused(422, "GET", path+"?colour=red", nil)
		s.refused(422, "GET", path+"?limit=0", nil)
	}
	s.refused(400, "GET", base+"/sites?cursor=zzz", nil)
	for _, site := range must[[]LedgerSite](s, "GET", base+"/sites?region=fen", nil) {
		if site.Region != "fen" {
			t.Errorf("%s is not in the fen", site.Key)
		}
	}
}

func TestAnEstateIsDeletedByItsName(t *testing.T) {
	s := start(t)
	s.demo()
	operator := s.as(s.member("brindlewater", "operator"))
	operator.refused(403, "DELETE", "/api/estates/brindlewater?name=Brindlewater", nil)
	s.refused(422, "DELETE", "/api/estates/brindlewater", nil)
	s.refused(422, "DELETE", "/api/estates/brindlewater?name=brindlewater", nil)
	if r := s.send("DELETE", "/api/estates/brindlewater?name=Brindlewater", nil); r.status != http.StatusNoContent {
		t.Errorf("%d %s", r.status, r.body)
	}
	s.refused(404, "GET", "/api/estates/brindlewater", nil)
	if r := s.send("GET", "/api/audit?action=estate.delete", nil); !strings.Contains(string(r.body), "Brindlewater") {
		t.Errorf("the audit does not know: %s", r.body)
	}
}
