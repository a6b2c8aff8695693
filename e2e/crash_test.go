package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

// TestKilledInTheMiddle kills the server with kill -9 while 8 clients send 200
// mixed edits, twice, and finds every acknowledged edit and no half one. What
// is not acknowledged is sent again under the same key, as a careful client
// does, and is then done once.
func TestKilledInTheMiddle(t *testing.T) {
	dir := folder(t)
	var server atomic.Pointer[app]
	server.Store(launch(t, "demo", dir))
	token := server.Load().signedIn(t, demoOwner, demoPassword).token("planner")

	const clients, each = 8, 25
	var acknowledged atomic.Int64
	done := make([][]string, clients) // what each client's edits must have left, by kind and number
	var all sync.WaitGroup
	for c := range clients {
		all.Add(1)
		go func() {
			defer all.Done()
			r := rand.New(rand.NewPCG(uint64(c), 7))
			for i := range each {
				key := fmt.Sprintf("c%d-%d", c, i)
				method, path, body, left := mixedEdit(r, key, done[c])
				for {
					status, text := send(server.Load().url, token, method, path, body, key)
					if status == 200 || status == 201 {
						break
					}
					if status != 0 && status != 503 {
						t.Errorf("%s %s: %d %s", method, path, status, text)
						return
					}
					time.Sleep(50 * time.Millisecond)
				}
				done[c] = append(done[c], left)
				acknowledged.Add(1)
			}
		}()
	}
	for _, after := range []int64{60, 130} {
		for acknowledged.Load() < after {
			if t.Failed() {
				return
			}
			time.Sleep(5 * time.Millisecond)
		}
		a := server.Load()
		a.command.Process.Signal(syscall.SIGKILL)
		a.command.Wait()
		server.Store(launch(t, "demo", dir))
	}
	all.Wait()
	if t.Failed() {
		return
	}
	p := server.Load().signedIn(t, demoOwner, demoPassword)
	var sites []struct {
		Key, Name string
		Subnets   []struct{ Name string }
	}
	p.must("GET", first+"/sites", nil, &sites)
	now := map[string]string{}
	for _, s := range sites {
		now[s.Key] = s.Name
		for _, n := range s.Subnets {
			if strings.HasPrefix(s.Key, "c") && strings.Contains(s.Key, "-") && n.Name != s.Name {
				t.Errorf("half an edit: site %q has a subnet of %q", s.Name, n.Name)
			}
		}
	}
	for c := range clients {
		want := map[string]string{}
		for _, left := range done[c] {
			key, name, _ := strings.Cut(left, "=")
			want[key] = name
		}
		for key, name := range want {
			if now[key] != name {
				t.Errorf("client %d: %s is %q, its last acknowledged edit made it %q", c, key, now[key], name)
			}
		}
	}
	var steps []struct{ Label string }
	p.must("GET", first+"/steps?limit=1000", nil, &steps)
	if len(steps) != 1+clients*each {
		t.Errorf("%d steps, want the import and %d edits, each once", len(steps), clients*each)
	}
}

// mixedEdit makes up an edit, with what it leaves: KEY=NAME, the name empty
// for a site that is gone.
func mixedEdit(r *rand.Rand, key string, before []string) (method, path string, body any, left string) {
	site := func(key, name string) any {
		n := r.IntN(65536)
		return map[string]any{
			"key": key, "name": name, "links": []any{map[string]any{"key": "wan", "reach": "nat"}},
			"subnets": []any{
				map[string]any{"prefix": fmt.Sprintf("172.%d.%d.0/25", 16+n/4096%16, n%256), "name": name},
				map[string]any{"prefix": fmt.Sprintf("172.%d.%d.128/25", 16+n/4096%16, n%256), "name": name},
			},
		}
	}
	if len(before) > 0 && r.IntN(3) > 0 {
		old, was, _ := strings.Cut(before[r.IntN(len(before))], "=")
		for _, later := range before {
			if k, name, _ := strings.Cut(later, "="); k == old {
				was = name
			}
		}
		if was != "" && r.IntN(3) == 0 {
			return "DELETE", first + "/sites/" + old, nil, old + "="
		}
		return "PUT", first + "/sites/" + old, site(old, "again "+key), old + "=again " + key
	}
	return "PUT", first + "/sites/" + key, site(key, "new "+key), key + "=new " + key
}

func send(url, token, method, path string, body any, request string) (int, string) {
	var in bytes.Buffer
	if body != nil {
		_ = json.NewEncoder(&in).Encode(body) // a map of plain values
	}
	r, err := http.NewRequest(method, url+path, &in)
	if err != nil {
		return 0, err.Error()
	}
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Idempotency-Key", request)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := (&http.Client{Timeout: 20 * time.Second}).Do(r)
	if err != nil {
		return 0, err.Error()
	}
	defer answer.Body.Close()
	var text bytes.Buffer
	if _, err := text.ReadFrom(answer.Body); err != nil {
		return 0, err.Error()
	}
	return answer.StatusCode, text.String()
}

// TestTwoServersOneDatabase runs two processes on one database: both edit the
// same draft, each sees what the other does, and a page at the one hears of an
// edit at the other.
func TestTwoServersOneDatabase(t *testing.T) {
	dir := folder(t)
	one := launch(t, "serve", dir)
	admin := one.admin(t)
	admin.must("POST", "/api/estates", map[string]string{"name": "Shared"}, nil)
	token := admin.token("owner")
	key, err := exec.Command("sh", "-c", "cat "+dir+"/mariadb/password").Output()
	if err != nil {
		t.Fatal(err)
	}
	two := launch(t, "serve", folder(t), "--master-key-file", dir+"/master.key",
		"--dsn", fmt.Sprintf("wideknot:%s@unix(%s/mariadb/mariadb.sock)/wideknot", key, dir))
	if two.link != "" {
		t.Error("the second server knows no administrator")
	}
	const base = "/api/estates/shared/drafts/first"

	heard := make(chan string, 1000)
	r, _ := http.NewRequest("GET", two.url+base+"/events", nil)
	r.Header.Set("Authorization", "Bearer "+token)
	stream, err := http.DefaultClient.Do(r)
	if err != nil || stream.StatusCode != 200 {
		t.Fatal(stream, err)
	}
	defer stream.Body.Close()
	go readEvents(stream.Body, heard)

	var all sync.WaitGroup
	for n, a := range []*app{one, two, one, two} {
		all.Add(1)
		go func() {
			defer all.Done()
			for i := range 10 {
				key := fmt.Sprintf("s%d-%d", n, i)
				if status, text := send(a.url, token, "PUT", base+"/sites/"+key, map[string]any{"key": key, "name": key}, key); status != 200 && status != 201 {
					t.Errorf("%s: %d %s", key, status, text)
				}
			}
		}()
	}
	all.Wait()
	for _, a := range []*app{one, two} {
		if got := a.signedIn(t, adminEmail, adminPassword).get(base); got["sites"] != 40.0 || got["revision"] != 41.0 {
			t.Errorf("%s: %v sites at revision %v, want 40 at 41", a.url, got["sites"], got["revision"])
		}
	}
	steps := map[string]bool{}
	deadline := time.After(10 * time.Second)
	for len(steps) < 40 {
		select {
		case e := <-heard:
			if strings.HasPrefix(e, "step ") {
				steps[e] = true
			}
		case <-deadline:
			t.Fatalf("a page at the second server heard of %d steps, want 40", len(steps))
		}
	}
	// What one revealed or ended, the other knows at once.
	admin.must("DELETE", "/api/me/sessions", nil, nil)
	if status, _, _ := two.person(t).do("GET", "/api/me", nil); status != 401 {
		t.Errorf("a stranger at the second server: %d", status)
	}
}
