// Command load measures a server with many people at once: it starts one on an
// empty folder, fills it with a synthetic estate, lets editors edit and read
// for a while, and prints how long they waited.
package main

import (
	"bufio"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"wideknot/e2e/sampled"
)

func main() {
	binary := flag.String("binary", "bin/wideknot", "the program")
	sites := flag.Int("sites", 1000, "spokes of the estate")
	links := flag.Int("links", 3, "WAN links of each")
	editors := flag.Int("editors", 20, "people at work")
	pause := flag.Duration("pause", 10*time.Second, "how long each thinks between two edits, on average")
	streams := flag.Int("streams", 0, "pages that are open besides, in 40 accounts")
	strain := flag.Bool("strain", false, "instead, put a strain on the server and print the memory it holds after each")
	length := flag.Duration("for", 60*time.Second, "how long they work, at most ten minutes")
	flag.Parse()
	server, err := sampled.Start(*binary, *sites, *links)
	if err != nil {
		log.Fatal(err)
	}
	defer server.Stop()
	l := &load{Server: server, waits: map[string][]time.Duration{}, fails: map[string]int{}, sent: map[uint64]time.Time{}}
	if *strain {
		if err := l.strain(); err != nil {
			log.Fatal(err)
		}
		return
	}
	if err := l.openPages(*streams); err != nil {
		log.Fatal(err)
	}
	if err := l.work(*editors, *pause, min(*length, 10*time.Minute)); err != nil {
		log.Fatal(err)
	}
	l.report()
}

// A load is a server under load.
type load struct {
	*sampled.Server

	mu    sync.Mutex
	waits map[string][]time.Duration
	fails map[string]int
	sent  map[uint64]time.Time // revision → when the edit that made it was sent
}

// timed sends a request and notes how long it took.
func (l *load) timed(what, method, path string, body any) (time.Time, string) {
	start := time.Now()
	tag, err := l.Ask(method, path, body, nil)
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
	i := n + editors*r.IntN(len(l.Sites)/editors)
	site := l.Sites[i]
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
	l.Sites[i] = site
	start, tag := l.timed(what, "PUT", sampled.Draft+"/sites/"+site.Key, site)
	var revision uint64
	if _, err := fmt.Sscanf(tag, `"%d"`, &revision); err == nil {
		l.mu.Lock()
		l.sent[revision] = start
		l.mu.Unlock()
	}
}

// look reads what a page reads after an edit.
func (l *load) look(r *rand.Rand) {
	site := l.Sites[r.IntN(len(l.Sites))].Key
	l.timed("read: who am I", "GET", "/api/me", nil)
	l.timed("read: head of the draft", "GET", sampled.Draft, nil)
	l.timed("read: ledger of all sites", "GET", sampled.Draft+"/sites", nil)
	l.timed("read: findings", "GET", sampled.Draft+"/findings", nil)
	l.timed("read: a site's plan", "GET", sampled.Draft+"/sites/"+site+"/plan", nil)
}

// openPages opens streams of events, as pages do, and reads them.
func (l *load) openPages(n int) error {
	const accounts = 40
	for i := range min(n, accounts) {
		cookie, err := l.Reader(i)
		if err != nil {
			return err
		}
		for range n / accounts {
			r, err := http.NewRequest("GET", l.URL+sampled.Draft+"/events", nil)
			if err != nil {
				return err
			}
			r.Header.Set("Cookie", cookie)
			answer, err := http.DefaultTransport.RoundTrip(r)
			if err != nil {
				return err
			}
			if answer.StatusCode != http.StatusOK {
				return fmt.Errorf("opening a page: %s", answer.Status)
			}
			go io.Copy(io.Discard, answer.Body)
		}
	}
	return nil
}

// listen notes when the consequences of each edit arrive at an open page.
func (l *load) listen(ready chan<- error) {
	r, err := http.NewRequest("GET", l.URL+sampled.Draft+"/events", nil)
	if err != nil {
		ready <- err
		return
	}
	r.Header.Set("Authorization", "Bearer "+l.Token)
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
	var edits []time.Duration
	for name, waits := range l.waits {
		names = append(names, name)
		if strings.HasPrefix(name, "edit") {
			edits = append(edits, waits...)
		}
	}
	if len(edits) > 0 {
		names = append(names, "edits of all kinds")
		l.waits["edits of all kinds"] = edits
	}
	slices.Sort(names)
	for _, name := range names {
		w := l.waits[name]
		slices.Sort(w)
		at := func(q float64) float64 { return float64(w[int(q*float64(len(w)-1))].Microseconds()) / 1000 }
		fmt.Printf("%-52s %6d %9.1f %9.1f %9.1f %6d\n", name, len(w), at(.5), at(.95), at(1), l.fails[name])
	}
}
