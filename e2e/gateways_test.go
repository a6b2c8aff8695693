package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"
)

// freePort is a loopback address that nobody listens on.
func freePort(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// standIns are the gateways of a document, in a process of their own.
type standIns struct {
	t  testing.TB
	at string
}

// standUp starts stand-ins that join by codes.
func standUp(t testing.TB, document string, codes map[string]string) *standIns {
	t.Helper()
	home := folder(t)
	text, err := json.Marshal(codes)
	if err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string]string{"document.yaml": document, "codes.json": string(text)} {
		if err := os.WriteFile(filepath.Join(home, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s := &standIns{t, freePort(t)}
	command := exec.Command(binary, "fleet", filepath.Join(home, "document.yaml"), "--codes", filepath.Join(home, "codes.json"), "--state", home, "--listen", s.at)
	command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	command.Stderr = os.Stderr
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		command.Process.Signal(syscall.SIGINT)
		command.Wait()
	})
	return s
}

// change lets something happen to a circuit.
func (s *standIns) change(text string) {
	s.t.Helper()
	answer, err := http.Post("http://"+s.at+"/changes", "application/json", strings.NewReader(text))
	if err != nil {
		s.t.Fatal(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusNoContent {
		said, _ := io.ReadAll(answer.Body)
		s.t.Fatalf("%s: %s", text, said)
	}
}

// echo waits until a host of a site has an echo of another.
func (s *standIns) echo(site, from, to string) {
	s.t.Helper()
	last := ""
	for until := time.Now().Add(30 * time.Second); time.Now().Before(until); time.Sleep(200 * time.Millisecond) {
		answer, err := http.Get("http://" + s.at + "/ask?" + url.Values{"site": {site}, "from": {from}, "to": {to}}.Encode())
		if err != nil {
			last = err.Error()
			continue
		}
		text, _ := io.ReadAll(answer.Body)
		_ = answer.Body.Close()
		if last = string(text); strings.Contains(last, `"answered"`) {
			return
		}
	}
	s.t.Fatalf("no echo from %s to %s: %s", from, to, last)
}

// A new station goes from its form to the first echo over its tunnels: its gateway joins by a
// code of the screen, what it sees is taken from the survey, a release brings the rest.
func TestANewStationJoins(t *testing.T) {
	t.Parallel()
	document, err := os.ReadFile("../examples/three-sites.yaml")
	if err != nil {
		t.Fatal(err)
	}
	a := launch(t, "serve", folder(t), "--line-listen", "127.0.0.1:0", "--enrol-listen", "127.0.0.1:0")
	d := sitDown(t, a)
	d.write(d.labelled("Name of a new estate"), "Vale")
	d.click("button", "Start empty")
	d.find("h2", "The ledger is empty")
	p := a.signedIn(t, adminEmail, adminPassword)
	p.must("POST", "/api/estates/vale/drafts/first/import", map[string]any{"document": string(document)}, nil)
	codes := map[string]string{}
	for _, site := range []string{"millgate", "withybrook"} {
		var made struct{ Code string }
		p.must("POST", "/api/estates/vale/gateways/"+site+"/code", map[string]int{}, &made)
		codes[site] = made.Code
	}
	// The third by the screen.
	d.goTo("/e/vale/d/first/watch")
	d.click("[data-gateway=stonebeck] a", "Stonebeck")
	d.find("p", "No gateway has joined for this site yet")
	d.click("button", "Make a join code")
	said, err := d.find("[data-testid=join-code]", "wideknot gateway join").Text()
	d.must(err)
	codes["stonebeck"] = strings.TrimPrefix(strings.TrimSpace(said), "wideknot gateway join ")
	s := standUp(t, string(document), codes)
	d.find("[data-testid=facts] dd", "joined, runs nothing yet")
	d.click("nav a", "Watch")
	d.find("header p", "3 of 3 gateways that joined are there")

	// What the gateways see that the survey does not say: their keys.
	d.goTo("/e/vale/d/first/survey?site=stonebeck")
	d.find("[data-testid=offers] tr[data-offer=public-key] td", "nothing")
	d.click("[data-testid=offers] tr[data-offer=public-key] button", "Refuse")
	reason := d.labelled("Why it is not taken")
	d.write(reason, "not asked for")
	d.click("[data-testid=offers] button", "Refuse")
	d.find("[data-testid=offers] td", "refused: not asked for")
	d.click("[data-testid=offers] button", "offer again")
	d.click("[data-testid=offers] tr[data-offer=public-key] button", "Take")
	d.gone("[data-testid=offers] tr[data-offer=public-key] button", "Take")
	d.find("footer", "Take the public key of its tunnels from the gateway of Stonebeck")
	for _, site := range []string{"millgate", "withybrook"} {
		p.must("POST", "/api/estates/vale/drafts/first/sites/"+site+"/offers", map[string]any{"offers": []string{"public-key"}}, nil)
	}
	p.must("POST", "/api/estates/vale/drafts/first/release", map[string]any{"message": "the first", "reason": "as surveyed"}, nil)
	d.goTo("/e/vale/d/first/watch/stonebeck")
	d.find("[data-testid=facts] dd", "as confirmed")
	d.find("[data-testid=tunnel-ends] a", "millgate/fibre")
	s.echo("stonebeck", "10.40.2.9", "10.40.3.9")
}

// The demo lives: all gateways are there, what happens to a circuit is on the page in seconds
// without being asked for, and the other tunnels carry; a release goes to them and comes back.
// It has the machine for itself: where its stand-ins get a tenth of it, no probe is answered in
// time, and all tunnels are dead.
func TestTheDemoLives(t *testing.T) {
	s := &standIns{t, freePort(t)}
	a := launch(t, "demo", folder(t), "--stand-ins-listen", s.at)
	d := sitDown(t, a)
	d.page = d.page.CancelTimeout().Timeout(8 * time.Minute) // two rollouts, a drill, and gateways that look
	d.goTo("/e/brindlewater/d/first/watch")
	p := a.signedIn(t, demoOwner, demoPassword)
	for until := time.Now().Add(3 * time.Minute); ; time.Sleep(300 * time.Millisecond) {
		var list struct {
			Gateways []struct {
				Site, Phase, Words string
				Up                 bool
				Confirmed, Dead    int
			}
		}
		p.must("GET", "/api/estates/brindlewater/gateways", nil, &list)
		good := 0
		var others []any
		for _, g := range list.Gateways {
			if g.Up && g.Confirmed == 1 && g.Dead == 0 {
				good++
			} else {
				others = append(others, g)
			}
		}
		if good == 40 {
			break
		}
		if time.Now().After(until) {
			t.Fatalf("%d gateways of 40 are as confirmed, not %+v", good, others)
		}
	}
	d.find("[data-testid=there] span", "40 of 40 there")
	d.find("[data-testid=now] strong", "Nobody is cut")
	d.find("[data-testid=now] strong", "The clock of fenhouse is")
	d.find("[data-gateway=fenhouse] span", "its clock is 4 min fast")
	d.goTo("/e/brindlewater/d/first/release?view=plan")
	d.find("[data-testid=plan-sum] p", "No gateway has anything to change")
	p.must("POST", "/api/estates/brindlewater/windows", map[string]any{"begins_at": time.Now().Add(-time.Minute), "minutes": 60, "words": "a drill of Lumenway"}, nil)
	aDrillIsAsPredicted(d)
	aSlowTunnelIsTried(d, s)
	p.must("POST", "/api/estates/brindlewater/drafts/winter-round/release", map[string]any{"message": "winter round", "reason": "as it stands"}, nil)
	goesAndComesBack(d)
	aFaultStopsIt(d, s)
	d.goTo("/e/brindlewater/d/first/watch")
	s.echo("tarnhollow", "10.16.4.10", "10.20.8.10")
	s.change(`{"do":"cut","site":"tarnhollow","link":"fibre"}`)
	d.find("[data-gateway=tarnhollow] span", "a WAN link is silent")
	d.find("[data-testid=now] strong", "The circuit fibre of tarnhollow is dead")
	d.find("[data-testid=now] p", "As foreseen")
	s.echo("tarnhollow", "10.16.4.10", "10.20.8.10")
	d.click("[data-gateway=tarnhollow] a", "Tarn Hollow")
	d.find("[data-testid=tunnel-ends] strong", "dead")
	d.click("[data-testid=tunnel-ends] a", fmt.Sprintf("%s/%s", "harrowmere", "ring"))
	d.find("[data-testid=ends-now] td", "handshake")
	d.find("[data-testid=ends-now] td", "s ago")
	theLoomLives(d)
	s.change(`{"do":"cut","site":"tarnhollow","link":"ring"}`)
	asksWhy(d)
	d.goTo("/e/brindlewater/d/winter-round/watch")
	d.click("header a", "Events")
	d.find("[data-testid=events] td", "The circuit ring of tarnhollow is dead")
	d.write(d.labelled("URL"), "https://chat.example/hook")
	d.click("[data-testid=listeners] button", "Tell them")
	d.find("[data-testid=listeners] form", "its administrator allows hosts by --tell")
	s.change(`{"do":"restore","site":"tarnhollow","link":"ring"}`)
	looksOverTime(d)
	d.goTo("/e/brindlewater/d/winter-round/watch/osierweir")
	d.find("[data-testid=tunnel-ends] td", "carries")
	d.click("[data-testid=keys] button", "Make a new key here")
	d.find("[data-testid=keys] p", "1 new key is in this draft")
	d.goTo("/e/brindlewater/d/winter-round/release")
	d.find("section li, section p, section td", "osierweir")
	watchIsAccessible(d)
}

// theLoomLives sees in the loom that a site leans on its standbys, and goes from there to the pair, to
// a tunnel of it and to the link that died.
func theLoomLives(d *desk) {
	d.t.Helper()
	d.goTo("/e/brindlewater/d/first/watch")
	d.click("header a", "Loom")
	d.find("p[role=status]", "by another than the first choice")
	d.find("[data-row=tarnhollow] a", "choice 1 dead")
	d.click("header label", "only what is not as designed")
	d.gone("[data-row=eastgate] a", "Eastgate")
	d.click("[data-row=tarnhollow] a", "tarnhollow and cinderhall")
	d.find("[data-testid=pair-verdict]", "It arrives") // by a third site, which is nearer
	d.find("[data-testid=between] td", "dead")
	d.find("[data-testid=steps-there] li", "tunnel from tarnhollow (ring) to harrowmere (ring)")
	d.await(30*time.Second, "[data-leg=tarnhollow] td", "first choice")
	d.click("[data-testid=between] a", "fibre – rack-a")
	d.find("[data-testid=tunnel-state] strong", "dead")
	d.find("p strong", "Cause: the circuit fibre of tarnhollow is dead")
	d.find("[data-testid=sessions] span", "recorded in the audit")
	d.goTo("/e/brindlewater/d/first/watch")
	d.click("[data-testid=now] a", "tarnhollow/fibre")
	d.find("[data-testid=link-state] strong", "its next hop is silent")
	d.find("[data-testid=compared] td", "MTU")
}

// watchIsAccessible looks at the pages of Watch while gateways are there. It comes last: judging takes
// a core, which stand-ins then lack.
func watchIsAccessible(d *desk) {
	d.t.Helper()
	axe := axeScript(d.t)
	for _, path := range []string{
		"", "/tarnhollow", "/-/loom", "/-/link?site=tarnhollow&link=fibre", "/-/pair?a=tarnhollow&b=harrowmere", "/-/tunnel?overlay=ops&tunnel=harrowmere/fibre-a%20tarnhollow/fibre",
		"/-/events", "/-/drills?fail=provider:Lumenway", "/-/time?site=tarnhollow&interface=harrowmere-1", "/-/time?site=tarnhollow&other=osierweir", "/-/bench?site=tarnhollow&interface=harrowmere-4", "/-/why?from=10.16.4.10&to=10.20.8.10",
	} {
		d.looksAccessible(axe, "/e/brindlewater/d/first/watch"+path)
	}
}

// aDrillIsAsPredicted rehearses the death of a carrier, from its outage to the report.
func aDrillIsAsPredicted(d *desk) {
	d.t.Helper()
	d.goTo("/e/brindlewater/d/released/outages?fail=provider:Lumenway")
	d.click("section a", "Drill it")
	d.find("[data-testid=drill-plan] li", "nobody is cut")
	d.click("[data-testid=drill-plan] button", "Begin the drill")
	d.await(30*time.Second, "[data-testid=drill] p", "held")
	d.await(2*time.Minute, "[data-testid=drill] p", "as predicted")
	if report := string(d.download("[data-testid=drill] a", "Report")); !strings.Contains(report, "provider:Lumenway") || !strings.Contains(report, "✓ As predicted") {
		d.t.Errorf("the report says %s", report)
	}
	if sheet := string(d.download("[data-testid=drill] a", "Sheet")); !strings.HasPrefix(sheet, "second,ends dead,") {
		d.t.Errorf("the sheet says %.200s", sheet)
	}
	d.goTo("/e/brindlewater/d/released/outages?fail=provider:Lumenway")
	d.find("[data-testid=drilled]", "as predicted")
}

// aSlowTunnelIsTried loads a tunnel whose circuit bears less than the survey says, and corrects
// the survey.
func aSlowTunnelIsTried(d *desk, s *standIns) {
	d.t.Helper()
	s.change(`{"do":"like","site":"tarnhollow","link":"cell","up_mbps":2}`)
	d.goTo("/e/brindlewater/d/winter-round/watch/tarnhollow")
	d.find("[data-testid=tunnel-ends] td", "cell")
	d.goTo("/e/brindlewater/d/winter-round/watch/-/bench?site=tarnhollow&interface=harrowmere-4")
	d.find("p", "A window of maintenance is open")
	seesSessions(d)
	d.click("button", "Start the test")
	d.await(time.Minute, "[data-bench=tarnhollow] p", "▲ It passes")
	d.click("[data-bench=tarnhollow] a", "Correct tarnhollow")
	offer := d.find("[data-offer=\"link:cell:up-rate\"]", "up rate of WAN link cell")
	take, err := offer.ElementR("button", "Take")
	d.must(err)
	d.must(take.Click(proto.InputMouseButtonLeft, 1))
	d.gone("[data-offer=\"link:cell:up-rate\"]", "up rate")
	s.change(`{"do":"like","site":"tarnhollow","link":"cell","up_mbps":0}`)
}

// seesSessions lists what is open by a tunnel, and has keys agreed anew; then it goes back.
func seesSessions(d *desk) {
	d.t.Helper()
	d.goTo("/e/brindlewater/d/released/watch/tarnhollow")
	d.click("[data-testid=tunnel-ends] a", "harrowmere/fibre-a")
	d.click("[data-testid=sessions] button", "List them at tarnhollow")
	d.await(20*time.Second, "[data-testid=sessions] p", "last handshake")
	d.click("[data-testid=sessions] button", "Rekey the tunnel")
	d.await(20*time.Second, "[data-testid=sessions] strong", "rekeys the tunnel")
	d.goTo("/e/brindlewater/d/winter-round/watch/-/bench?site=tarnhollow&interface=harrowmere-4")
}

// looksOverTime looks at what was measured while circuits were cut: which tunnels carried, and one
// of them as a plot and as a sheet.
func looksOverTime(d *desk) {
	d.t.Helper()
	d.goTo("/e/brindlewater/d/winter-round/watch/-/time?site=tarnhollow&other=osierweir")
	d.await(30*time.Second, "[data-leg=tarnhollow] td", "standby")
	d.find("[data-testid=meanwhile] td", "The circuit ring of tarnhollow is dead")
	d.click("[data-leg=tarnhollow] button", ":")
	d.find("header button", "Zoom out")
	d.goTo("/e/brindlewater/d/winter-round/watch/-/time?site=tarnhollow&interface=harrowmere-1")
	d.find("h2", "Latency")
	d.find("[data-plot=Latency] .u-legend", "jitter")
	if sheet := string(d.download("header a", "Take away as CSV")); !strings.HasPrefix(sheet, "time (UTC),seconds,latency (ms),") || strings.Count(sheet, "\n") < 5 {
		d.t.Errorf("the sheet says %.300s", sheet)
	}
}

// asksWhy asks why a host is not reached as designed: the gateways look, and the page names the
// circuit, the step and what mends it; then why a policy does not let a packet through.
func asksWhy(d *desk) {
	d.t.Helper()
	d.goTo("/e/brindlewater/d/winter-round/watch")
	d.find("[data-testid=now] strong", "The circuit ring of tarnhollow is dead")
	d.click("header a", "Why does it not arrive")
	d.write(d.labelled("From address or site"), "10.16.4.10")
	d.write(d.labelled("To address or site"), "10.20.8.10")
	d.click("form button", "Ask why")
	d.await(30*time.Second, "[data-testid=causes] h2", "The circuit ring of tarnhollow is dead")
	d.find("[data-testid=causes] li", "its next hop does not answer")
	d.find("[data-testid=causes] p", "Tell Brindle Ring")
	d.find("[data-testid=steps-there] li", "the first step that fails")
	d.find("[data-testid=steps-back] li", "it answers its gateway")
	d.write(d.labelled("To address or site"), "10.20.45.9")
	d.click("form button", "Ask why")
	d.find("[data-testid=why-verdict]", "The design does not let it through")
	d.find("[data-testid=causes] a", "the policy")
	d.write(d.labelled("To address or site"), "nowhere")
	d.click("form button", "Ask why")
	d.find("form", "neither an address nor a site")
}

// aFaultStopsIt plants a circuit that loses large packets, which probes do not see: the rollout
// stops, and the page says which site all of it is about.
func aFaultStopsIt(d *desk, s *standIns) {
	d.t.Helper()
	for _, link := range []string{"ring", "fibre", "cell"} {
		s.change(`{"do":"like","site":"osierweir","link":"` + link + `","mtu":1300}`)
	}
	d.goTo("/e/brindlewater/d/winter-round/release?view=plan")
	d.write(d.labelled("Watch each round for, s"), "0")
	d.click("form button", "Bring release 2 to the gateways")
	d.find("[data-testid=run-head] p", "gateways ask each other from LAN to LAN")
	d.await(time.Minute, "[data-testid=run-head] h2", "stopped by itself")
	d.find("[data-testid=run-head] p", "all of them from or to osierweir")
	d.click("[role=tab]", "The proof")
	d.find("[data-testid=proof] td", "answered with 84 bytes")
	d.click("[role=tab]", "The run")
	d.click("[data-testid=decisions] button", "Take it back")
	d.find("[data-testid=run-head] h2", "was taken back wholly")
	for _, link := range []string{"ring", "fibre", "cell"} {
		s.change(`{"do":"like","site":"osierweir","link":"` + link + `","mtu":0}`)
	}
}

// goesAndComesBack lets release 2 of the demo go to its gateways: planned, begun, watched, let
// wait after its first round, and taken back.
func goesAndComesBack(d *desk) {
	d.t.Helper()
	d.goTo("/e/brindlewater/d/winter-round/watch")
	d.click("header a", "Release 2 has not reached")
	d.find("[data-testid=plan-sum] strong", "Nobody is cut meanwhile")
	d.click("[data-testid=waves] summary", "Change the waves")
	d.write(d.labelled("One wave a line: its name, a colon, its sites"), "spokes: osierweir tarnhollow salternreach mossgill")
	d.click("[data-testid=waves] button", "Plan these waves")
	d.find("p", "changes, and is in no wave")
	d.click("button", "Back to the usual waves")
	d.find("[data-testid=plan-sum] strong", "Nobody is cut meanwhile")
	d.write(d.labelled("Watch each round for, s"), "0")
	box, err := d.find("form label", "I let each round begin").Element("input")
	d.must(err)
	d.must(box.Click(proto.InputMouseButtonLeft, 1))
	d.click("form button", "Bring release 2 to the gateways")
	d.find("[data-testid=run-head] h2", "waits for a person: round 2")
	d.find("[data-testid=run-head] p", "Nothing is worse than predicted")
	d.find("[data-testid=on-its-way] span", "waits")
	d.click("[role=tab]", "The proof")
	d.find("[data-testid=proof] td", "✓ none")
	d.find("[data-testid=echoes] p", "echoes are as expected")
	d.find("[data-testid=echoes] th", "osierweir")
	d.click("[role=tab]", "The run")
	d.click("[data-testid=decisions] button", "Take it back")
	d.find("[data-testid=run-head] h2", "was taken back wholly")
	d.find("[data-testid=history] li", "taken back")
}
