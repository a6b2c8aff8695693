package agent

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"

	"wideknot/core/gateway"
	"wideknot/internal/line"
)

// What may happen to a gateway on trial, in any order: a commit, a confirmation or a
// cancellation of one of two releases over the line there is; a confirmation that was
// under way on the line before; the trial's time is over; the line breaks; the agent is
// killed.
var happenings = []string{"commit 1", "commit 2", "confirm 1", "confirm 2", "late confirm 1", "cancel 1", "cancel 2", "time is over", "line breaks", "agent killed"}

// A modelled gateway is what is expected of a real one.
type modelled struct {
	confirmed string   // "", "1" or "2"
	trial     string   // what is tried
	last      string   // how the last trial ended: its name and + or -
	began     []string // trials that began on the line there is
	before    []string // and on the line before
}

// step says by which status the gateway answers, 0 where nothing is asked, and whether it
// closes the line.
func (m *modelled) step(what string) (status int, closes bool) {
	word, name, _ := strings.Cut(strings.TrimPrefix(what, "late "), " ")
	confirm := func(began []string) int {
		switch {
		case slices.Contains(began, name):
			return http.StatusConflict
		case m.trial == name:
			m.confirmed, m.trial, m.last = name, "", name+"+"
		case m.last != name+"+":
			return http.StatusBadRequest
		}
		return http.StatusNoContent
	}
	switch {
	case strings.HasPrefix(what, "late"):
		return confirm(m.before), false
	case word == "commit" && m.trial == "":
		m.trial = name
		m.began = append(m.began, name)
		return http.StatusNoContent, true
	case word == "commit" && m.trial != name:
		return http.StatusConflict, false
	case word == "commit":
		return http.StatusNoContent, false
	case word == "confirm":
		return confirm(m.began), false
	case word == "cancel" && m.trial == name:
		m.trial, m.last = "", name+"-"
		return http.StatusNoContent, false
	case word == "cancel" && m.last == name+"-": // the answer was lost
		return http.StatusNoContent, false
	case word == "cancel":
		return http.StatusBadRequest, false
	case (word == "time" || word == "agent") && m.trial != "":
		m.trial, m.last = "", m.trial+"-"
	}
	return 0, word == "line" || word == "agent"
}

// runs is the name of what runs.
func (m *modelled) runs() string {
	if m.trial != "" {
		return m.trial
	}
	return m.confirmed
}

// A trialled gateway is a real agent with the lines to it.
type trialled struct {
	t            *testing.T
	plane        *tray
	state, keys  string
	agent        *Agent
	stop         func()
	now, earlier http.Handler
	configs      map[string]*gateway.Config
	closed       bool // the gateway wants the line closed
}

func (g *trialled) start() {
	g.t.Helper()
	a, err := New(g.plane, Settings{State: g.state, Keys: g.keys, Resolvers: func() []netip.Addr { return nil }})
	if err != nil {
		g.t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan struct{}), make(chan error, 1)
	go func() { ended <- a.Run(ctx, func() { close(ready) }, func() {}) }()
	<-ready
	g.agent, g.stop = a, func() { cancel(); <-ended; _ = a.Close() }
}

func (g *trialled) dial() {
	g.earlier, g.now = g.now, line.OnLine(g.agent, func() { g.closed = true })
}

func (g *trialled) ask(h http.Handler, method, path, body string) int {
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/yang-data+json")
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	return w.Code
}

// step lets something happen to the gateway, and returns by what it answered.
func (g *trialled) step(what string) (status int) {
	g.t.Helper()
	word, name, _ := strings.Cut(strings.TrimPrefix(what, "late "), " ")
	token := fmt.Sprintf(`{"ietf-netconf:input":{"persist-id":"t%s"}}`, name)
	switch word {
	case "commit":
		text, err := gateway.Write(g.configs[name])
		if err != nil {
			g.t.Fatal(err)
		}
		if code := g.ask(g.now, "PUT", candidatePath+"/wideknot-gateway:gateway", string(text)); code != http.StatusNoContent {
			g.t.Fatalf("the candidate: %d", code)
		}
		return g.ask(g.now, "POST", commitPath, fmt.Sprintf(`{"ietf-netconf:input":{"confirmed":[null],"confirm-timeout":600,"persist":"t%s"}}`, name))
	case "confirm":
		h := g.now
		if strings.HasPrefix(what, "late") {
			h = g.earlier
		}
		return g.ask(h, "POST", commitPath, token)
	case "cancel":
		return g.ask(g.now, "POST", cancelPath, token)
	case "time":
		_ = g.agent.do(context.Background(), func() error {
			if g.agent.trial != nil {
				g.agent.ends = 0
				g.agent.expire()
			}
			return nil
		})
	case "agent":
		g.stop()
		g.start()
		g.closed = true
	case "line":
		g.closed = true
	}
	return 0
}

// Whatever happens in whatever order, the gateway runs what is tried or what was confirmed
// last, nothing else, says so, and without a word more goes back to what was confirmed:
// nobody is locked out, and there are never two truths.
func TestTrialsInEveryOrder(t *testing.T) {
	depth := 4
	if testing.Short() {
		depth = 3
	}
	where := "/dev/shm" // what is synced there costs nothing
	if _, err := os.Stat(where); err != nil {
		where = ""
	}
	keys := keysIn(t)
	first, second := twoReleases()
	for i := range first.Tunnels {
		first.Tunnels[i].Probe, second.Tunnels[i].Probe = nil, nil
	}
	configs := map[string]*gateway.Config{"1": first, "2": second}
	digests := map[string]string{"": "", "1": first.Digest(), "2": second.Digest()}
	orders := 0
	var each func(order []string)
	each = func(order []string) {
		if t.Failed() {
			return
		}
		if len(order) < depth {
			for _, next := range happenings {
				each(append(slices.Clone(order), next))
			}
			return
		}
		orders++
		state, err := os.MkdirTemp(where, "wk-trial-")
		if err != nil {
			t.Fatal(err)
		}
		defer os.RemoveAll(state)
		g := &trialled{t: t, plane: newTray(newTestNet()), state: state, keys: keys, configs: configs}
		m := &modelled{}
		g.start()
		defer func() { g.stop() }()
		g.dial()
		g.dial()
		for i, what := range append(order, "time is over") {
			want, closes := m.step(what)
			got := g.step(what)
			s, err := g.agent.State(context.Background())
			if err != nil {
				t.Fatal(err)
			}
			token := ""
			if m.trial != "" {
				token = "t" + m.trial
			}
			last := ""
			if s.Trial.LastToken != "" {
				last = strings.TrimPrefix(s.Trial.LastToken, "t") + map[string]string{Confirmed: "+", WentBack: "-"}[s.Trial.LastOutcome]
			}
			if got != want || s.Digest != digests[m.runs()] || s.Trial.Token != token || last != m.last || g.closed != closes {
				t.Errorf("%v, step %d: answered %d, not %d; runs %.8s on trial %q, last %q, line closed %v; expected %+v, %v", order, i+1, got, want, s.Digest, s.Trial.Token, last, g.closed, m, closes)
				return
			}
			if closes {
				g.closed = false
				g.dial()
				m.before, m.began = m.began, nil
			}
			if what == "agent killed" { // nothing is under way on its lines any more
				g.dial()
				m.before = nil
			}
		}
		if m.trial != "" || m.runs() != m.confirmed {
			t.Errorf("%v: the model itself ends on trial", order)
		}
	}
	each(nil)
	t.Logf("%d orders", orders)
}
