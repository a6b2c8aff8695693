package watch

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"wideknot/core/diagnose"
	"wideknot/core/estate"
	"wideknot/internal/fleet"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/events"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// receiver stands in for whoever is told by webhook: it is out of order at first.
type receiver struct {
	mu       sync.Mutex
	refuses  int
	messages []events.CloudEvent
	headers  []http.Header
	bodies   [][]byte
}

func (r *receiver) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	body, _ := io.ReadAll(q.Body)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.refuses > 0 {
		r.refuses--
		http.Error(w, "later", http.StatusServiceUnavailable)
		return
	}
	var e events.CloudEvent
	_ = json.Unmarshal(body, &e)
	r.messages, r.headers, r.bodies = append(r.messages, e), append(r.headers, q.Header), append(r.bodies, body)
}

func (r *receiver) told() []events.CloudEvent {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]events.CloudEvent{}, r.messages...)
}

// post stands in for a server that takes mail (RFC 5321), as far as one message needs it.
type post struct {
	net.Listener
	mu    sync.Mutex
	mails []string
}

func (p *post) run() {
	for {
		c, err := p.Accept()
		if err != nil {
			return
		}
		go p.talk(c)
	}
}

func (p *post) talk(c net.Conn) {
	defer c.Close()
	fmt.Fprint(c, "220 post.example\r\n")
	lines := bufio.NewScanner(c)
	var text []string
	data := false
	for lines.Scan() {
		line := lines.Text()
		switch verb := strings.ToUpper(strings.Fields(line + " x")[0]); {
		case data && line == ".":
			data = false
			p.mu.Lock()
			p.mails = append(p.mails, strings.Join(text, "\n"))
			p.mu.Unlock()
			fmt.Fprint(c, "250 taken\r\n")
		case data:
			text = append(text, line)
		case verb == "DATA":
			data = true
			fmt.Fprint(c, "354 go on\r\n")
		case verb == "QUIT":
			fmt.Fprint(c, "221 bye\r\n")
			return
		default:
			fmt.Fprint(c, "250 well\r\n")
		}
	}
}

func (p *post) came() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string{}, p.mails...)
}

// waits until something is so.
func waits(t *testing.T, what string, within time.Duration, is func() bool) {
	t.Helper()
	for until := time.Now().Add(within); !is(); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("not %s within %v", what, within)
		}
	}
}

// A circuit that dies is one event, told once by webhook and mail, whoever was out of order
// meanwhile; its return is another. Two servers look after it and tell it once. Asked why, the
// server lets the gateways look, and names the circuit.
func TestACircuitIsOneEvent(t *testing.T) { // beside others it would take their time, which they measure
	w := opened(t, "three-sites", 1, func(e *estate.Estate) {
		e.Overlays[0].Probe = &estate.Probe{Target: estate.FarEnd, IntervalMs: 500, TimeoutMs: 400, Misses: 3, Successes: 3}
	})
	world := w.stand()
	since := time.Now()
	w.eventually("release 1 confirmed everywhere, all alive for some seconds", 60*time.Second, func(rows map[string]desk.GatewayRow) bool {
		for _, r := range rows {
			if r.Dead > 0 || r.Tunnels == 0 || !w.allConfirmed(1)(rows) {
				since = time.Now()
			}
		}
		return time.Since(since) > 4*time.Second
	})
	hook := &receiver{refuses: 1}
	server := httptest.NewServer(hook)
	defer server.Close()
	listen, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	mailbox := &post{Listener: listen}
	defer listen.Close()
	go mailbox.run()
	sealer, err := identity.NewSealer(filepath.Join(t.TempDir(), "master.key"))
	if err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.NewTextHandler(t.Output(), nil))
	teller := &events.Teller{
		Store: w.db, Sealer: sealer, Hosts: []string{u.Host}, Origin: "https://plan.example", Log: log,
		Mail: events.MailServer{Host: "127.0.0.1", Port: listen.Addr().(*net.TCPAddr).Port, From: "knot@plan.example", Plain: true},
	}
	ctx, stop := context.WithCancel(t.Context())
	var all sync.WaitGroup
	defer all.Wait()
	defer stop()
	for i := range 2 {
		watcher := &events.Watcher{Store: w.db, Desk: w.desk, Name: fmt.Sprintf("watcher-%d", i), Log: log}
		all.Go(func() { watcher.Run(ctx) })
		all.Go(func() { teller.Run(ctx) })
	}
	_, secret, err := events.Add(ctx, w.db, teller, sealer, w.row.ID, events.ListenerOrder{Kind: events.Webhook, Target: server.URL + "/hook"})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := events.Add(ctx, w.db, teller, sealer, w.row.ID, events.ListenerOrder{Kind: events.Mailbox, Target: "night@plan.example"}); err != nil {
		t.Fatal(err)
	}
	list := func() []events.Event {
		out, err := events.List(ctx, w.db, w.row.ID, events.Query{Most: 100})
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	change := func(c fleet.Change) {
		t.Helper()
		if err := world.Do(c); err != nil {
			t.Fatal(err)
		}
	}
	// What has joined just now is on its way up; so it is made to have joined long ago.
	if err := w.db.InTransaction(ctx, func(tx *store.Tx) error { return tx.AgeGateways(w.row.ID, time.Hour) }); err != nil {
		t.Fatal(err)
	}
	change(fleet.Change{Do: "cut", Site: "withybrook", Link: "fibre"})
	waits(t, "an event", 20*time.Second, func() bool { return len(list()) > 0 })
	first := list()[0]
	if first.Kind != events.Began || first.Code != string(diagnose.CircuitDead) || first.Site != "withybrook" || first.Link != "fibre" || first.Part != "link:withybrook/fibre" {
		t.Errorf("the event is %+v", first)
	}
	var why *desk.WhyAnswer
	waits(t, "that it goes by another circuit, and why", 15*time.Second, func() bool { // gateways may be moving what they send still
		why, err = w.desk.Why(ctx, w.key, desk.Why{From: "10.40.3.9", To: "millgate", Protocol: "icmp", Look: true})
		return err == nil && why.Verdict == diagnose.Standby
	})
	if len(why.Causes) == 0 || why.Causes[0].Code != diagnose.CircuitDead || why.Causes[0].Sure != diagnose.Sure {
		t.Errorf("why: %v, %+v", err, why)
	}
	waits(t, "told by webhook, at the second try", 20*time.Second, func() bool { return len(hook.told()) == 1 })
	waits(t, "told by mail", 10*time.Second, func() bool { return len(mailbox.came()) == 1 })
	if text := mailbox.came()[0]; !strings.Contains(text, "Subject: [works] the circuit fibre of withybrook is dead") || !strings.Contains(text, "Nobody is cut by it.") || !strings.Contains(text, "https://plan.example/e/works/d/released/watch") {
		t.Errorf("the mail is %s", text)
	}
	message, head := hook.told()[0], hook.headers[0]
	raw, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	if err != nil {
		t.Fatal(err)
	}
	if head.Get("webhook-signature") != "v1,"+events.Sign(raw, head.Get("webhook-id"), head.Get("webhook-timestamp"), hook.bodies[0]) {
		t.Error("the signature is not of the message")
	}
	if message.SpecVersion != "1.0" || message.Type != "wideknot.trouble.began" || message.Source != "/estates/works" || message.Subject != "link:withybrook/fibre" || message.Data.Cut != 0 || message.Data.Words == "" {
		t.Errorf("the message is %+v", message)
	}
	// In a window of its site nobody is told of the second circuit, until that is taken back.
	id, err := events.AddWindow(ctx, w.db, w.row.ID, events.Window{Site: "stonebeck", BeginsAt: time.Now().Add(-time.Minute), Minutes: 60})
	if err != nil {
		t.Fatal(err)
	}
	change(fleet.Change{Do: "like", Site: "stonebeck", Link: "cell", NoUDP: new(true)})
	waits(t, "a quiet event", 20*time.Second, func() bool { return len(list()) == 2 })
	if quiet := list()[0]; !quiet.Quiet || quiet.Site != "stonebeck" {
		t.Errorf("in a window: %+v", quiet)
	}
	time.Sleep(2 * time.Second)
	if len(hook.told()) != 1 {
		t.Errorf("told in a window: %+v", hook.told())
	}
	if err := events.DropWindow(ctx, w.db, w.row.ID, id); err != nil {
		t.Fatal(err)
	}
	waits(t, "told when the window is over", 40*time.Second, func() bool { return len(hook.told()) == 2 })
	change(fleet.Change{Do: "like", Site: "stonebeck", Link: "cell", NoUDP: new(false)})
	waits(t, "the end of that", 40*time.Second, func() bool { return len(hook.told()) == 3 })
	change(fleet.Change{Do: "restore", Site: "withybrook", Link: "fibre"})
	waits(t, "its end", 40*time.Second, func() bool { return len(hook.told()) > 3 })
	time.Sleep(4 * time.Second) // more would come by now
	if got := list(); len(got) != 4 || got[0].Kind != events.Ended || got[0].LastedS == 0 || len(hook.told()) != 4 || len(mailbox.came()) != 4 {
		t.Errorf("%d told by webhook, %d by mail; events %+v", len(hook.told()), len(mailbox.came()), got)
	}
}

// What cannot be told is refused with the reason, and whom the administrator does not allow.
func TestListenersAreChecked(t *testing.T) {
	teller := &events.Teller{Hosts: []string{"chat.example", "10.0.0.9:8443"}}
	for _, c := range []struct {
		order events.ListenerOrder
		words string
	}{
		{events.ListenerOrder{Kind: events.Webhook, Target: "https://chat.example/hook"}, ""},
		{events.ListenerOrder{Kind: events.Webhook, Target: "https://10.0.0.9:8443/hook"}, ""},
		{events.ListenerOrder{Kind: events.Webhook, Target: "https://chat.example:99/hook"}, "may not tell"},
		{events.ListenerOrder{Kind: events.Webhook, Target: "https://127.0.0.1/hook"}, "may not tell"},
		{events.ListenerOrder{Kind: events.Webhook, Target: "https://user@chat.example/"}, "no address"},
		{events.ListenerOrder{Kind: events.Webhook, Target: "file:///etc/passwd"}, "no address"},
		{events.ListenerOrder{Kind: events.Mailbox, Target: "a@b.example"}, "sends no mail"},
		{events.ListenerOrder{Kind: "bell", Target: "x"}, "webhook or a mailbox"},
		{events.ListenerOrder{Kind: events.Webhook, Target: "https://chat.example/hook", From: "22:30"}, "both times"},
		{events.ListenerOrder{Kind: events.Webhook, Target: "https://chat.example/hook", From: "22:30", To: "24:30"}, "no time of day"},
	} {
		err := teller.Check(&c.order)
		if (err == nil) != (c.words == "") || err != nil && !strings.Contains(err.Error(), c.words) {
			t.Errorf("%+v: %v, not %q", c.order, err, c.words)
		}
	}
	mails := &events.Teller{Mail: events.MailServer{Host: "post.example"}}
	for target, good := range map[string]bool{"a@b.example": true, "A <a@b.example>": false, "a@b.example\r\nBcc: x@y.example": false, "nobody": false} {
		if err := mails.Check(&events.ListenerOrder{Kind: events.Mailbox, Target: target}); (err == nil) != good {
			t.Errorf("%q: %v", target, err)
		}
	}
}
