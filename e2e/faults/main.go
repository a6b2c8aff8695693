// Faults lets random things happen to a running demo's circuits, one after the other, and says
// what was told of each: whether it was one event and named the part, how long after the change it
// was told, and whether its end was told once. It exits with 1 where anything was missed.
package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"os"
	"slices"
	"strings"
	"time"

	"wideknot/core/estate"
	"wideknot/examples"
)

type event struct {
	ID    uint64
	At    time.Time
	Kind  string
	Code  string
	Words string
	Site  string
	Link  string
	Part  string
}

// fault is what happens, how it ends, and the parts that may be named.
type fault struct {
	name     string
	do, undo map[string]any
	parts    []string
}

type watcher struct {
	server, world string
	client        *http.Client
}

func main() {
	server := flag.String("url", "http://127.0.0.1:8080", "where the demo runs")
	world := flag.String("stand-ins", "http://127.0.0.1:8090", "page of the stand-ins")
	seed := flag.Uint64("seed", 1, "")
	count := flag.Int("n", 20, "how many faults")
	flag.Parse()
	jar, err := cookiejar.New(nil)
	if err != nil {
		log.Fatal(err)
	}
	w := &watcher{*server, *world, &http.Client{Jar: jar, Timeout: 30 * time.Second}}
	w.call("POST", w.server+"/api/session", map[string]any{"email": "olive.owner@demo.example", "password": "for the demo only"}, nil)
	e, err := examples.Estate("brindlewater")
	if err != nil {
		log.Fatal(err)
	}
	random := rand.New(rand.NewPCG(*seed, 3))
	missed := 0
	var took []time.Duration
	for n := range *count {
		f := choose(random, e)
		told, problem := w.try(&f)
		if problem != "" {
			missed++
			fmt.Printf("%3d %-34s MISSED: %s\n", n+1, f.name, problem)
			continue
		}
		took = append(took, told)
		fmt.Printf("%3d %-34s told after %.1f s\n", n+1, f.name, told.Seconds())
	}
	slices.Sort(took)
	if len(took) > 0 {
		fmt.Printf("%d faults, %d missed; told after p50 %.1f s, p95 %.1f s, at most %.1f s\n", *count, missed, took[len(took)/2].Seconds(), took[len(took)*95/100].Seconds(), took[len(took)-1].Seconds())
	}
	if missed > 0 {
		os.Exit(1)
	}
}

// choose makes up a fault: a circuit is cut or lets no UDP through, or all that share a fate or
// a carrier are cut.
func choose(random *rand.Rand, e *estate.Estate) fault {
	for {
		site := &e.Sites[random.IntN(len(e.Sites))]
		l := &site.Links[random.IntN(len(site.Links))]
		parts := []string{"link:" + site.Key + "/" + l.Key}
		if len(site.Links) == 1 {
			parts = append(parts, "gateway:"+site.Key)
		}
		switch of := random.IntN(8); {
		case of == 0 && l.Provider != "":
			return fault{"carrier " + l.Provider, map[string]any{"do": "cut", "provider": l.Provider}, map[string]any{"do": "restore", "provider": l.Provider}, []string{"provider:" + l.Provider}}
		case of == 1 && len(l.SharedFate) > 0:
			f := l.SharedFate[0]
			return fault{"fate " + f, map[string]any{"do": "cut", "fate": f}, map[string]any{"do": "restore", "fate": f}, append(parts, "fate:"+f)}
		case of == 2:
			at := map[string]any{"do": "like", "site": site.Key, "link": l.Key, "no_udp": true}
			back := map[string]any{"do": "like", "site": site.Key, "link": l.Key, "no_udp": false}
			return fault{"no UDP by " + site.Key + "/" + l.Key, at, back, parts}
		case of > 2:
			return fault{"circuit " + site.Key + "/" + l.Key, map[string]any{"do": "cut", "site": site.Key, "link": l.Key}, map[string]any{"do": "restore", "site": site.Key, "link": l.Key}, parts}
		}
	}
}

// try lets a fault happen and end.
func (w *watcher) try(f *fault) (told time.Duration, problem string) {
	last := w.last()
	w.call("POST", w.world+"/changes", f.do, nil)
	began := time.Now()
	var first *event
	for first == nil && time.Since(began) < 25*time.Second {
		time.Sleep(100 * time.Millisecond)
		if list := w.after(last); len(list) > 0 {
			first, told = &list[0], time.Since(began)
		}
	}
	time.Sleep(5 * time.Second) // more would be told by now
	during := w.after(last)
	w.call("POST", w.world+"/changes", f.undo, nil)
	for until := time.Now().Add(90 * time.Second); time.Now().Before(until); time.Sleep(300 * time.Millisecond) {
		open := 0
		for _, e := range w.after(last) {
			if e.Kind == "began" {
				open++
			} else {
				open--
			}
		}
		var now struct{ Dead int }
		w.call("GET", w.server+"/api/estates/brindlewater/now", nil, &now)
		if open <= 0 && now.Dead == 0 {
			break
		}
	}
	time.Sleep(4 * time.Second)
	all := w.after(last)
	switch {
	case first == nil:
		return 0, "nothing was told"
	case !slices.Contains(f.parts, first.Part):
		problem = fmt.Sprintf("told as %q (%s)", first.Words, first.Part)
	case len(during) != 1:
		problem = fmt.Sprintf("%d events while it lasted", len(during))
	case len(all) != 2 || all[1].Kind != "ended":
		problem = fmt.Sprintf("%d events in all", len(all))
	}
	if problem != "" {
		for _, e := range all {
			problem += fmt.Sprintf("\n      %s %s %s", e.At.Format(time.TimeOnly), e.Kind, e.Words)
		}
	}
	return told, problem
}

func (w *watcher) last() uint64 {
	var list []event
	w.call("GET", w.server+"/api/estates/brindlewater/events?most=1", nil, &list)
	if len(list) == 0 {
		return 1
	}
	return list[0].ID
}

func (w *watcher) after(id uint64) (list []event) {
	w.call("GET", fmt.Sprintf("%s/api/estates/brindlewater/events?after=%d", w.server, id), nil, &list)
	return list
}

func (w *watcher) call(method, url string, body, answer any) {
	text, err := json.Marshal(body)
	if err != nil {
		log.Fatal(err)
	}
	request, err := http.NewRequest(method, url, bytes.NewReader(text))
	if err != nil {
		log.Fatal(err)
	}
	request.Header.Set("Content-Type", "application/json")
	if strings.HasPrefix(url, w.server) {
		request.Header.Set("Origin", w.server)
	}
	response, err := w.client.Do(request)
	if err != nil {
		log.Fatal(err)
	}
	defer response.Body.Close()
	text, err = io.ReadAll(response.Body)
	if err != nil || response.StatusCode >= 300 {
		log.Fatalf("%s %s: %s %s %v", method, url, response.Status, text, err)
	}
	if answer != nil {
		if err := json.Unmarshal(text, answer); err != nil {
			log.Fatalf("%s: %v: %s", url, err, text)
		}
	}
}
