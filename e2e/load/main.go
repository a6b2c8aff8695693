// Command load measures a server with many people at once: it starts one on an
// empty folder, fills it with a synthetic estate, lets editors edit and read
// for a while, and prints how long they waited.
package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"wideknot/core/estate"
	"wideknot/core/sample"
)

func main() {
	binary := flag.String("binary", "bin/wideknot", "the program")
	sites := flag.Int("sites", 1000, "spokes of the estate")
	links := flag.Int("links", 3, "WAN links of each")
	editors := flag.Int("editors", 20, "people at work")
	pause := flag.Duration("pause", 10*time.Second, "how long each thinks between two edits, on average")
	length := flag.Duration("for", 60*time.Second, "how long they work, at most ten minutes")
	flag.Parse()
	l, err := begin(*binary, *sites, *links)
	if err != nil {
		log.Fatal(err)
	}
	defer l.stop()
	if err := l.work(*editors, *pause, min(*length, 10*time.Minute)); err != nil {
		log.Fatal(err)
	}
	l.report()
}

// A load is a server under load.
type load struct {
	url, token string
	command    *exec.Cmd
	folder     string
	sites      []estate.Site

	mu    sync.Mutex
	waits map[string][]time.Duration
	fails map[string]int
	sent  map[uint64]time.Time // revision → when the edit that made it was sent
}

const draft = "/api/estates/load/drafts/work"

// begin starts the server and fills it.
func begin(binary string, sites, links int) (*load, error) {
	folder, err := os.MkdirTemp("", "wk-load-")
	if err != nil {
		return nil, err
	}
	l := &load{folder: folder, waits: map[string][]time.Duration{}, fails: map[string]int{}, sent: map[uint64]time.Time{}}
	l.command = exec.Command(binary, "serve", "--listen", "127.0.0.1:0", "--var", folder, "--rate", "0")
	l.command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	l.command.Stderr = os.Stderr
	out, err := l.command.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := l.command.Start(); err != nil {
		return nil, err
	}
	link := ""
	for scanner := bufio.NewScanner(out); link == "" && scanner.Scan(); {
		if m := regexp.MustCompile(`Wide Knot is at (\S+)`).FindStringSubmatch(scanner.Text()); m != nil {
			l.url = m[1]
		}
		if m := regexp.MustCompile(`/welcome#(\w+)`).FindStringSubmatch(scanner.Text()); m != nil {
			link = m[1]
		}
	}
	go io.Copy(io.Discard, out)
	if err := l.enter(link); err != nil {
		return nil, err
	}
	return l, l.fill(sites, links)
}

func (l *load) stop() {
	_ = l.command.Process.Signal(syscall.SIGINT)
	_ = l.command.Wait()
	_ = os.RemoveAll(l.folder)
}

// enter sets up the administrator and makes a token of it.
func (l *load) enter(link string) error {
	jar := ""
	ask := func(path string, body any, out any) error {
		text, _ := json.Marshal(body)
		r, err := http.NewRequest("POST", l.url+path, bytes.NewReader(text))
		if err != nil {
			return err
		}
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Origin", l.url)
		r.Header.Set("Cookie", jar)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return err
		}
		defer answer.Body.Close()
		if answer.StatusCode >= 300 {
			return fmt.Errorf("POST %s: %s", path, answer.Status)
		}
		for _, c := range answer.Cookies() {
			jar = c.Name + "=" + c.Value
		}
		if out == nil {
			return nil
		}
		return json.NewDecoder(answer.Body).Decode(out)
	}
	if err := ask("/api/links/use", map[string]string{"link": link, "email": "load@test.example", "name": "Load", "password": "quite a long password"}, nil); err != nil {
		return err
	}
	if err := ask("/api/estates", map[string]string{"name": "Load"}, nil); err != nil {
		return err
	}
	var made struct{ Secret string }
	err := ask("/api/me/tokens", map[string]any{"name": "load", "role": "owner", "expires": time.Now().Add(time.Hour)}, &made)
	l.token = made.Secret
	return err
}

func (l *load) fill(sites, links int) error {
	e, err := sample.Estate(sample.Options{Sites: sites, Links: links, Seed: 1})
	if err != nil {
		return err
	}
	text, err := estate.WriteJSON(e)
	if err != nil {
		return err
	}
	start := time.Now()
	first := "/api/estates/load/drafts/first"
	for _, step := range []struct {
		path string
		body any
	}{
		{first + "/import", map[string]any{"document": string(text)}},
		{first + "/release", map[string]any{"message": "the sample", "reason": "a sample has findings"}},
		{"/api/estates/load/drafts", map[string]any{"name": "work"}},
	} {
		if _, err := l.ask("POST", step.path, step.body, nil); err != nil {
			return err
		}
	}
	fmt.Printf("imported, released and branched %d sites (%.1f MB) in %.1f s\n", len(e.Sites), float64(len(text))/1e6, time.Since(start).Seconds())
	_, err = l.ask("GET", draft+"/sites", nil, &l.sites)
	return err
}

// ask sends a request and returns the revision of the answer.
func (l *load) ask(method, path string, body, out any) (string, error) {
	var in io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return "", err
		}
		in = bytes.NewReader(text)
	}
	r, err := http.NewRequest(method, l.url+path, in)
	if err != nil {
		return "", err
	}
	r.Header.Set("Authorization", "Bearer "+l.token)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		text, _ := io.ReadAll(answer.Body)
		return "", fmt.Errorf("%s %s: %s %.300s", method, path, answer.Status, text)
	}
	if out != nil {
		return answer.Header.Get("ETag"), json.NewDecoder(answer.Body).Decode(out)
	}
	_, err = io.Copy(io.Discard, answer.Body)
	return answer.Header.Get("ETag"), err
}

// timed sends a request and notes how long it took.
func (l *load) timed(what, method, path string, body any) (time.Time, string) {
	start := time.Now()
	tag, err := l.ask(method, path, body, nil)
	l.mu.Lock()
	defer l.mu.Unlock()
	if err != nil {
		l.fails[what]++
		log.Print(err)
		return start, ""
	}
	l.waits[what] = append(l.waits[what], time.Since(start))
	return start, tag
}

func (l *load) work(editors int, pause, length time.Duration) error {
	listening := make(chan error)
	go l.listen(listening)
	if err := <-listening; err != nil {
		return err
	}
	end := time.Now().Add(length)
	var all sync.WaitGroup
	for n := range editors {
		all.Add(1)
		go func() {
			defer all.Done()
			r := rand.New(rand.NewPCG(uint64(n), 1))
			time.Sleep(rand.N(pause))
			for time.Now().Before(end) {
				l.editOnce(r, n, editors)
				l.look(r)
				time.Sleep(pause/2 + rand.N(pause))
			}
		}()
	}
	all.Wait()
	time.Sleep(2 * time.Second) // for the last consequences
	return nil
}

// editOnce changes a site of the editor's own in one of the ways people do.
func (l *load) editOnce(r *rand.Rand, n, editors int) {
	i := n + editors*r.IntN(len(l.sites)/editors)
	site := l.sites[i]
	what := "edit"
	switch r.IntN(4) {
	case 0:
		site.Name += " *"
	case 1:
		site.DemandMbps++
	case 2:
		site.Links = slices.Clone(site.Links)
		site.Links[0].MTU = 1400 + r.IntN(100)
		what = "edit of a link"
	default:
		if len(site.Links) < 2 {
			return
		}
		site.Links = slices.Clone(site.Links)
		site.Links[0].Rank, site.Links[1].Rank = 2, 1
		what = "edit of link order"
	}
	l.sites[i] = site
	start, tag := l.timed(what, "PUT", draft+"/sites/"+site.Key, site)
	var revision uint64
	if _, err := fmt.Sscanf(tag, `"%d"`, &revision); err == nil {
		l.mu.Lock()
		l.sent[revision] = start
		l.mu.Unlock()
	}
}

// look reads what a page reads after an edit.
func (l *load) look(r *rand.Rand) {
	site := l.sites[r.IntN(len(l.sites))].Key
	l.timed("read: head of the draft", "GET", draft, nil)
	l.timed("read: ledger of all sites", "GET", draft+"/sites", nil)
	l.timed("read: findings", "GET", draft+"/findings", nil)
	l.timed("read: a site's plan", "GET", draft+"/sites/"+site+"/plan", nil)
}

// listen notes when the consequences of each edit arrive at an open page.
func (l *load) listen(ready chan<- error) {
	r, err := http.NewRequest("GET", l.url+draft+"/events", nil)
	if err != nil {
		ready <- err
		return
	}
	r.Header.Set("Authorization", "Bearer "+l.token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		ready <- err
		return
	}
	defer answer.Body.Close()
	ready <- nil
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(nil, 1<<24)
	kind, told := "", uint64(0)
	for lines.Scan() {
		if name, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
			kind = name
		}
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok || kind != "consequences" {
			continue
		}
		arrived := time.Now()
		var tally struct{ Revision uint64 }
		if err := json.Unmarshal([]byte(data), &tally); err != nil {
			continue
		}
		// The edit's own answer may come later than what followed from it.
		go func(from, to uint64) {
			time.Sleep(time.Second)
			l.mu.Lock()
			defer l.mu.Unlock()
			for revision := from + 1; revision <= to; revision++ {
				if start, ok := l.sent[revision]; ok {
					l.waits["consequences on open pages, from sending the edit"] = append(l.waits["consequences on open pages, from sending the edit"], arrived.Sub(start))
				}
			}
		}(told, tally.Revision)
		told = tally.Revision
	}
}

func (l *load) report() {
	l.mu.Lock()
	defer l.mu.Unlock()
	fmt.Printf("%-52s %6s %9s %9s %9s %6s\n", "", "count", "p50 ms", "p95 ms", "max ms", "failed")
	var names []string
	for name := range l.waits {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		w := l.waits[name]
		slices.Sort(w)
		at := func(q float64) float64 { return float64(w[int(q*float64(len(w)-1))].Microseconds()) / 1000 }
		fmt.Printf("%-52s %6d %9.1f %9.1f %9.1f %6d\n", name, len(w), at(.5), at(.95), at(1), l.fails[name])
	}
}
