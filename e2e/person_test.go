package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"testing"
	"time"
)

// The accounts of the demo, and of the administrator that tests set up.
const (
	demoOwner    = "olive.owner@demo.example"
	demoPlanner  = "piet.planner@demo.example"
	demoReader   = "rhea.reader@demo.example"
	demoPassword = "for the demo only"

	adminEmail    = "ada@test.example"
	adminPassword = "quite a long password"
)

// A person uses the API with a browser's cookies.
type person struct {
	t      testing.TB
	url    string
	client *http.Client
}

func (a *app) person(t testing.TB) *person {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &person{t, a.url, &http.Client{Jar: jar, Timeout: time.Minute}}
}

// signedIn is a person who signed in with a password.
func (a *app) signedIn(t testing.TB, email, password string) *person {
	t.Helper()
	p := a.person(t)
	p.must("POST", "/api/session", map[string]string{"email": email, "password": password}, nil)
	return p
}

// admin is the administrator, whose password is set by the one-time link when
// the program printed one.
func (a *app) admin(t testing.TB) *person {
	t.Helper()
	if a.link == "" {
		return a.signedIn(t, adminEmail, adminPassword)
	}
	p := a.person(t)
	p.must("POST", "/api/links/use", map[string]string{"link": a.link, "email": adminEmail, "name": "Ada", "password": adminPassword}, nil)
	return p
}

// do sends a request; headers come as name, value. An error is one of the
// connection.
func (p *person) do(method, path string, body any, headers ...string) (status int, text []byte, err error) {
	var in io.Reader
	if body != nil {
		content, err := json.Marshal(body)
		if err != nil {
			return 0, nil, err
		}
		in = bytes.NewReader(content)
	}
	r, err := http.NewRequest(method, p.url+path, in)
	if err != nil {
		return 0, nil, err
	}
	r.Header.Set("Origin", p.url)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	answer, err := p.client.Do(r)
	if err != nil {
		return 0, nil, err
	}
	defer answer.Body.Close()
	text, err = io.ReadAll(answer.Body)
	return answer.StatusCode, text, err
}

// must sends a request that has to succeed, and reads its answer into out
// unless that is nil.
func (p *person) must(method, path string, body, out any, headers ...string) {
	p.t.Helper()
	status, text, err := p.do(method, path, body, headers...)
	if err != nil || status >= 300 {
		p.t.Fatalf("%s %s: %d %v %s", method, path, status, err, text)
	}
	if out == nil {
		return
	}
	if err := json.Unmarshal(text, out); err != nil {
		p.t.Fatalf("%s %s: %v: %.200s", method, path, err, text)
	}
}

func (p *person) get(path string) map[string]any {
	p.t.Helper()
	out := map[string]any{}
	p.must("GET", path, nil, &out)
	return out
}

// token makes an API token of the person.
func (p *person) token(role string) string {
	p.t.Helper()
	var made struct{ Secret string }
	p.must("POST", "/api/me/tokens", map[string]any{"name": fmt.Sprint("for ", role), "role": role, "expires": time.Now().Add(time.Hour)}, &made)
	return made.Secret
}
