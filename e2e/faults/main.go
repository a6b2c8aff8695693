// Faults lets random things happen to a running demo's circuits, one or some at a time, and says
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
	of       []string // site, carrier and fates concerned; of what is wide that alone
	wide     bool     // of many sites
	told     time.Duration
	problem  string // that it was not told as it should
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
	atOnce := flag.Int("at-once", 1, "how many of them at a time")
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
	missed, n := 0, 0
	var took []time.Duration
	var rests [2][]string // what was just back: gateways would keep it out for having come and gone
	for n < *count {
		some := together(random, e, min(*atOnce, *count-n), slices.Concat(rests[:]...))
		rests[0], rests[1] = rests[1], nil
		for i := range some {
			rests[1] = append(rests[1], some[i].of[0])
		}
		problem := w.try(some)
		for i := range some {
			f := &some[i]
			if n++; f.problem != "" {
				missed++
				fmt.Printf("%3d %-34s MISSED: %s\n", n, f.name, f.problem)
				continue
			}
			took = append(took, f.told)
			fmt.Printf("%3d %-34s told after %.1f s\n", n, f.name, f.told.Seconds())
		}
		if problem != "" {
			missed++
			fmt.Printf("    TOO MUCH: %s\n", problem)
		}
	}
	slices.Sort(took)
	if len(took) > 0 {
		fmt.Printf("%d faults, %d missed; told after p50 %.1f s, p95 %.1f s, at most %.1f s\n", *count, missed, took[len(took)/2].Seconds(), took[len(took)*95/100].Seconds(), took[len(took)-1].Seconds())
	}
	if missed > 0 {
		os.Exit(1)
	}
}

// together makes up faults that happen at once and have nothing in common, nor with what was used: no
// site, no carrier and no fate. What concerns many sites happens alone.
func together(random *rand.Rand, e *estate.Estate, most int, used []string) (out []fault) {
	for range 20 * most {
		f := choose(random, e)
		if f.wide && len(out) > 0 || slices.ContainsFunc(f.of, func(s string) bool { return slices.Contains(used, s) }) {
			continue
		}
		out, used = append(out, f), append(used, f.of...)
		if f.wide || len(out) == most {
			break
		}
	}
	return out
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
		of := append([]string{site.Key, l.Provider}, l.SharedFate...)
		switch kind := random.IntN(8); {
		case kind == 0 && l.Provider != "":
			return fault{name: "carrier " + l.Provider, do: map[string]any{"do": "cut", "provider": l.Provider}, undo: map[string]any{"do": "restore", "provider": l.Provider}, parts: []string{"provider:" + l.Provider}, of: []string{l.Provider}, wide: true}
		case kind == 1 && len(l.SharedFate) > 0:
			f := l.SharedFate[0]
			if !slices.ContainsFunc(site.Links, func(l estate.Link) bool { return !slices.Contains(l.SharedFate, f) }) {
				parts = append(parts, "gateway:"+site.Key) // nobody can hear it then
			}
			return fault{name: "fate " + f, do: map[string]any{"do": "cut", "fate": f}, undo: map[string]any{"do": "restore", "fate": f}, parts: append(parts, "fate:"+f), of: []string{f}, wide: true}
		case kind == 2:
			at := map[string]any{"do": "like", "site": site.Key, "link": l.Key, "no_udp": true}
			back := map[string]any{"do": "like", "site": site.Key, "link": l.Key, "no_udp": false}
			return fault{name: "no UDP by " + site.Key + "/" + l.Key, do: at, undo: back, parts: parts, of: of}
		case kind > 2:
			return fault{name: "circuit " + site.Key + "/" + l.Key, do: map[string]any{"do": "cut", "site": site.Key, "link": l.Key}, undo: map[string]any{"do": "restore", "site": site.Key, "link": l.Key}, parts: parts, of: of}
		}
	}
}

// try lets faults happen and end. It says what was told besides them.
func (w *watcher) try(some []fault) (problem string) {
	last := w.last()
	for i := range some {
		w.call("POST", w.world+"/changes", some[i].do, nil)
	}
	began := time.Now()
	for open := len(some); open > 0 && time.Since(began) < 25*time.Second; {
		time.Sleep(100 * time.Millisecond)
		list := w.after(last)
		open = 0
		for i := range some {
			if f := &some[i]; f.told == 0 && len(f.own(list)) > 0 {
				f.told = time.Since(began)
			} else if f.told == 0 {
				open++
			}
		}
	}
	time.Sleep(5 * time.Second) // more would be told by now
	during := w.after(last)
	for i := range some {
		w.call("POST", w.world+"/changes", some[i].undo, nil)
	}
	w.over(last)
	all := w.after(last)
	for i := range some {
		f := &some[i]
		switch own := f.own(all); {
		case f.told == 0:
			f.problem = "it was not told"
		case len(f.own(during)) != 1:
			f.problem = fmt.Sprintf("%d events while it lasted", len(f.own(during)))
		case len(own) != 2 || own[1].Kind == "began":
			f.problem = fmt.Sprintf("%d events in all", len(own))
		}
		all = slices.DeleteFunc(all, func(e event) bool { return slices.Contains(f.parts, e.Part) || e.Code == "flapping" }) // what it did before may tell
	}
	for _, e := range all {
		problem += fmt.Sprintf("\n      %s %s %s", e.At.Format(time.TimeOnly), e.Kind, e.Words)
	}
	return problem
}

// own are the events that name the fault, but those of its having come and gone often. It ends, or
// is joined to one of those.
func (f *fault) own(list []event) (out []event) {
	for _, e := range list {
		if slices.Contains(f.parts, e.Part) && e.Code != "flapping" {
			out = append(out, e)
		}
	}
	return out
}

// over waits until all is as before, but tunnels that are kept out for having come and gone.
func (w *watcher) over(last uint64) {
	for until := time.Now().Add(90 * time.Second); time.Now().Before(until); time.Sleep(300 * time.Millisecond) {
		open := 0
		for _, e := range w.after(last) {
			switch {
			case e.Code == "flapping":
			case e.Kind == "began":
				open++
			default:
				open--
			}
		}
		var now struct {
			Dead     int
			Troubles []struct {
				Code    string
				Tunnels int
			}
		}
		w.call("GET", w.server+"/api/estates/brindlewater/now", nil, &now)
		for _, t := range now.Troubles {
			if t.Code == "flapping" {
				now.Dead -= t.Tunnels
			}
		}
		if open <= 0 && now.Dead == 0 {
			break
		}
	}
	time.Sleep(4 * time.Second)
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
