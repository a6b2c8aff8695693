// Command lines measures how servers hold the lines of many gateways: light ones, which join,
// call, take a release and report, and carry nothing.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"wideknot/core/gateway"
	"wideknot/e2e/sampled"
	"wideknot/internal/gateway/join"
	"wideknot/internal/line"
)

const path = "/api/estates/load/gateways"

func main() {
	binary := flag.String("binary", "bin/wideknot", "the program")
	sites := flag.Int("sites", 1000, "spokes of the estate, each with a gateway")
	links := flag.Int("links", 3, "WAN links of each")
	hours := flag.Int("hours", 0, "so many hours of samples are written first, and pages of Watch are measured; nothing else is")
	flag.Parse()
	ports := []string{port(), port(), port()}
	lines := ports[0] + "," + ports[2]
	first, err := sampled.Start(*binary, *sites, *links, "--line-listen", ports[0], "--enrol-listen", ports[1], "--line-at", lines)
	if err != nil {
		log.Fatal(err)
	}
	defer first.Stop()
	f := &fleet{server: first}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	f.rest("nobody called")
	began := time.Now()
	if err := f.join(ctx); err != nil {
		log.Fatal(err)
	}
	fmt.Printf("%d gateways joined in %.1f s\n", len(f.all), time.Since(began).Seconds())
	f.until("have release 1 confirmed", 10*time.Minute, func(g row) bool { return g.Up && g.Confirmed == 1 })
	if *hours > 0 {
		if err := f.history(ctx, *hours); err != nil {
			log.Fatal(err)
		}
		return
	}
	f.rest("one server")
	f.changes(200)
	f.name = f.rows()[0].Server
	second, err := first.Beside(*binary, "--line-listen", ports[2], "--enrol-listen", port(), "--line-at", lines)
	if err != nil {
		log.Fatal(err)
	}
	defer second.Stop()
	f.scatter(ctx)
	f.until("are there, on two servers", time.Minute, func(g row) bool { return g.Up })
	counts := map[string]int{}
	for _, g := range f.rows() {
		counts[g.Server]++
	}
	fmt.Printf("shared as %v\n", counts)
	if err := f.rollout(); err != nil {
		log.Fatal(err)
	}
	second.Kill()
	f.until("are at the other server after a kill -9", time.Minute, func(g row) bool { return g.Up && g.Server == f.name })
}

func port() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		log.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// A fleet is light gateways.
type fleet struct {
	server *sampled.Server
	all    []*light
	name   string // of the first server, as it calls itself
}

// A row is of the list of gateways.
type row struct {
	Site, Server string
	Up           bool
	Since        time.Time
	Confirmed    int
	Dead         int
}

// ask sends a request with the administrator's token.
func (f *fleet) ask(method, path string, body string, out any) error {
	r, err := http.NewRequest(method, f.server.URL+path, strings.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+f.server.Token)
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		return fmt.Errorf("%s %s: %s", method, path, answer.Status)
	}
	return json.NewDecoder(answer.Body).Decode(out)
}

func (f *fleet) rows() []row {
	var list struct{ Gateways []row }
	if err := f.ask("GET", path, "", &list); err != nil {
		log.Print(err)
	}
	return list.Gateways
}

// join lets all join, sixteen at a time, and call.
func (f *fleet) join(ctx context.Context) error {
	home, err := os.MkdirTemp("", "wk-lines-")
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, func() { _ = os.RemoveAll(home) })
	var all sync.WaitGroup
	var failed atomic.Pointer[error]
	turns := make(chan bool, 16)
	for _, s := range f.server.Sites {
		g := &light{site: s.Key, more: make(chan struct{})}
		f.all = append(f.all, g)
		all.Go(func() {
			turns <- true
			defer func() { <-turns }()
			var made struct{ Code string }
			err := f.ask("POST", path+"/"+g.site+"/code", "{}", &made)
			if err == nil {
				var code *line.JoinCode
				if code, err = line.ParseJoinCode(made.Code); err == nil {
					g.id, err = join.Join(ctx, filepath.Join(home, g.site), code, join.Way{})
				}
			}
			if err != nil {
				failed.Store(&err)
				return
			}
			g.begin(ctx)
		})
	}
	all.Wait()
	if err := failed.Load(); err != nil {
		return *err
	}
	return nil
}

// rollout brings a release that changes every gateway to them, and prints how long that took.
func (f *fleet) rollout() error {
	const draft, all = "/api/estates/load/drafts/first", "/api/estates/load/rollouts"
	var any any
	if err := f.ask("PUT", draft+"/overlays/ops/probe", `{"interval_ms":1000,"misses":2,"successes":3,"timeout_ms":700,"target":"far-end"}`, &any); err != nil {
		return err
	}
	if err := f.ask("POST", draft+"/release", `{"message":"probes","reason":"measuring"}`, &any); err != nil {
		return err
	}
	began := time.Now()
	if err := f.ask("POST", "/api/estates/load/rollout-plan", `{"release":2,"soak_s":0,"by_hand":false,"away":0,"without_away":false}`, &any); err != nil {
		return err
	}
	fmt.Printf("a rollout is planned in %.1f s\n", time.Since(began).Seconds())
	began = time.Now()
	if err := f.ask("POST", all, `{"release":2,"soak_s":0,"by_hand":false,"away":0,"without_away":false}`, &any); err != nil {
		return err
	}
	for {
		var is struct {
			State, Words string
			Round        int
			Plan         struct{ Rounds []struct{ Name string } }
		}
		if err := f.ask("GET", all+"/1", "", &is); err != nil {
			return err
		}
		if is.State != "running" {
			fmt.Printf("the rollout of %d rounds is %s after %.1f s %s\n", len(is.Plan.Rounds), is.State, time.Since(began).Seconds(), is.Words)
			return nil
		}
		if time.Since(began) > 15*time.Minute {
			return fmt.Errorf("it is at round %d still", is.Round)
		}
		time.Sleep(500 * time.Millisecond)
	}
}

// scatter lets every gateway dial anew: each takes one of the servers by chance.
func (f *fleet) scatter(ctx context.Context) {
	for _, g := range f.all {
		g.stop()
		g.begin(ctx)
	}
	time.Sleep(3 * time.Second)
}

// until waits until all gateways are so, and prints how long it took.
func (f *fleet) until(what string, within time.Duration, is func(row) bool) {
	began := time.Now()
	for {
		good := 0
		for _, g := range f.rows() {
			if is(g) {
				good++
			}
		}
		if good == len(f.all) {
			fmt.Printf("all %s after %.1f s\n", what, time.Since(began).Seconds())
			return
		}
		if time.Since(began) > within {
			fmt.Printf("only %d of %d %s after %v\n", good, len(f.all), what, within)
			return
		}
		time.Sleep(250 * time.Millisecond)
	}
}

// rest prints what a server holds and works while nothing happens.
func (f *fleet) rest(what string) {
	before, err := work(f.server.Pid())
	if err != nil {
		log.Fatal(err)
	}
	const length = 30 * time.Second
	time.Sleep(length)
	after, err := work(f.server.Pid())
	if err != nil {
		log.Fatal(err)
	}
	memory, err := f.server.Memory()
	if err != nil {
		log.Fatal(err)
	}
	fmt.Printf("%s, at rest: %d MB, %.0f %% of a core\n", what, memory>>20, 100*(after-before).Seconds()/length.Seconds())
}

// work is how long a process has worked.
func work(pid int) (time.Duration, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	var user, system int64
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+2:]))
	if _, err := fmt.Sscan(fields[11], &user); err != nil {
		return 0, err
	}
	if _, err := fmt.Sscan(fields[12], &system); err != nil {
		return 0, err
	}
	return time.Duration(user+system) * 10 * time.Millisecond, nil // the kernel's hundredths
}

// changes lets tunnels die at random gateways, and prints how long it takes until an open
// page is told.
func (f *fleet) changes(n int) {
	r, err := http.NewRequest("GET", f.server.URL+sampled.Draft+"/events", nil)
	if err != nil {
		log.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+f.server.Token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		log.Fatal(err)
	}
	defer answer.Body.Close()
	p := &openPage{began: map[string]time.Time{}}
	go p.hear(answer.Body)
	time.Sleep(2 * time.Second)
	for i := range n {
		g := f.all[(i*37)%len(f.all)]
		p.expect(g.site)
		g.dies()
		time.Sleep(50 * time.Millisecond)
	}
	time.Sleep(3 * time.Second)
	p.mu.Lock()
	defer p.mu.Unlock()
	took := p.took
	slices.Sort(took)
	if len(took) == 0 {
		fmt.Println("no page was told")
		return
	}
	fmt.Printf("%d of %d changes reached an open page: p50 %d ms, p95 %d ms, last %d ms\n", len(took), n, took[len(took)/2].Milliseconds(), took[len(took)*95/100].Milliseconds(), took[len(took)-1].Milliseconds())
}

// An openPage waits to be told of dead tunnels.
type openPage struct {
	mu    sync.Mutex
	began map[string]time.Time // by site: since when it should be told
	took  []time.Duration
}

func (p *openPage) expect(site string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.began[site] = time.Now()
}

// hear reads a stream of events until it ends.
func (p *openPage) hear(stream io.Reader) {
	lines := bufio.NewScanner(stream)
	lines.Buffer(nil, 16<<20)
	kind := ""
	for lines.Scan() {
		if k, ok := strings.CutPrefix(lines.Text(), "event:"); ok {
			kind = strings.TrimSpace(k)
		}
		text, ok := strings.CutPrefix(lines.Text(), "data:")
		var rows []row
		if !ok || kind != "gateways" || json.Unmarshal([]byte(text), &rows) != nil {
			continue
		}
		p.mu.Lock()
		for _, g := range rows {
			if at, ok := p.began[g.Site]; ok && g.Dead > 0 {
				p.took = append(p.took, time.Since(at))
				delete(p.began, g.Site)
			}
		}
		p.mu.Unlock()
	}
}

// light is a gateway that carries nothing.
type light struct {
	site string
	id   *join.Identity
	stop context.CancelFunc

	mu      sync.Mutex
	is      *gateway.Config
	release int
	token   string
	last    string
	dead    int
	events  uint64
	more    chan struct{}
}

// begin keeps a line.
func (g *light) begin(ctx context.Context) {
	ctx, g.stop = context.WithCancel(ctx)
	home := line.Home{Device: g, Servers: g.id.Lines, TLS: g.id.TLS(), Log: slog.New(slog.DiscardHandler)}
	go func() { _ = home.Run(ctx) }()
}

// dies lets one more of its tunnels die, and says so.
func (g *light) dies() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.dead++
	g.events++
	close(g.more)
	g.more = make(chan struct{})
}

func (g *light) Running(context.Context) (*gateway.Config, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.is, nil
}

func (g *light) State(context.Context) (*gateway.State, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := &gateway.State{At: gateway.Time(time.Now().UTC().Format(time.RFC3339)), Trial: gateway.TrialState{Token: g.token, LastToken: g.last, LastOutcome: "confirmed"}}
	if g.last == "" {
		out.Trial.LastOutcome = ""
	}
	if g.is == nil {
		return out, nil
	}
	out.Site, out.Release, out.Digest = g.site, g.release, g.is.Digest()
	for i := range g.is.Tunnels {
		out.Tunnels = append(out.Tunnels, gateway.TunnelState{
			Interface: g.is.Tunnels[i].Interface, Up: i >= g.dead, HandshakeS: 12, BytesIn: 1_000_000, BytesOut: 2_000_000, Sent: 1000, Answered: 998, LatencyUs: 21_400, JitterUs: 800, PathMTU: 1420,
		})
	}
	for i := range g.is.Ways {
		out.Ways = append(out.Ways, gateway.WayState{ID: g.is.Ways[i].ID, Group: 1})
	}
	return out, nil
}

func (g *light) Try(_ context.Context, c *gateway.Config, release int, token string, seconds int) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.is, g.release = c, release
	if seconds > 0 {
		g.token = token
	}
	return nil
}

func (g *light) Confirm(_ context.Context, token string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.token, g.last = "", token
	return nil
}

func (g *light) Back(context.Context, string) error               { return line.ErrToken }
func (g *light) Offers(context.Context) (*gateway.Offers, error)  { return &gateway.Offers{}, nil }
func (g *light) Share(context.Context, map[string][32]byte) error { return nil }

// Echo says that everything answers: there is nothing behind a light gateway.
func (g *light) Echo(_ context.Context, list []gateway.Echo) (out []gateway.Echoed, err error) {
	for _, e := range list {
		out = append(out, gateway.Echoed{From: e.From, To: e.To, Answered: max(e.Size, gateway.SmallEcho)})
	}
	return out, nil
}

// Look sees nothing: there is no device behind a light gateway.
func (g *light) Look(context.Context, *gateway.Look) (*gateway.Looked, error) {
	return &gateway.Looked{}, nil
}

// Samples tells of none: a light gateway measures nothing.
// Bench loads nothing.
func (g *light) Bench(context.Context, *gateway.Bench) (*gateway.Benched, error) {
	return &gateway.Benched{}, nil
}
func (g *light) Hold(context.Context, *gateway.Hold) error { return nil }
func (g *light) Sessions(context.Context, *gateway.SessionsOrder) (*gateway.Sessions, error) {
	return &gateway.Sessions{}, nil
}
func (g *light) Samples(context.Context, string, gateway.Counter) (*gateway.Samples, error) {
	return &gateway.Samples{Epoch: "light", Now: gateway.Time(time.Now().UTC().Format(time.RFC3339))}, nil
}

// NewKey says that there is none: a light gateway has no tunnels.
func (g *light) NewKey(context.Context) (string, error) {
	return "", errors.New("a light gateway has no keys")
}

func (g *light) Events(after uint64, most int) (string, []line.Event, <-chan struct{}, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	var out []line.Event
	for n := after + 1; n <= g.events && len(out) < most; n++ {
		out = append(out, line.Event{Epoch: "e", Sequence: n, At: time.Now(), Kind: "tunnel-dead", Words: "a tunnel died"})
	}
	return "e", out, g.more, nil
}
