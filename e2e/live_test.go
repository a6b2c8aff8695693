package e2e

import (
	"bufio"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"
)

// readEvents sends "KIND DATA" for each event of a stream.
func readEvents(in io.Reader, out chan<- string) {
	kind := ""
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if name, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
			kind = name
		}
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			out <- kind + " " + data
		}
	}
	close(out)
}

// TestStreamsResumeAfterAGap leaves a stream, misses three edits, and is told
// them on coming back.
func TestStreamsResumeAfterAGap(t *testing.T) {
	t.Parallel()
	a := launch(t, "demo", folder(t))
	p := a.signedIn(t, demoOwner, demoPassword)
	token := p.token("reader")
	listen := func(after string) (<-chan string, func()) {
		r, err := http.NewRequest("GET", a.url+first+"/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+token)
		if after != "" {
			r.Header.Set("Last-Event-ID", after)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil || answer.StatusCode != 200 {
			t.Fatal(answer, err)
		}
		events := make(chan string, 100)
		go readEvents(answer.Body, events)
		return events, func() { answer.Body.Close() }
	}
	expect := func(events <-chan string, what string) {
		t.Helper()
		deadline := time.After(5 * time.Second)
		for {
			select {
			case e := <-events:
				if strings.Contains(e, what) {
					return
				}
			case <-deadline:
				t.Fatalf("no event with %q", what)
			}
		}
	}
	events, leave := listen("")
	expect(events, `consequences {"revision":2`)
	p.must("DELETE", first+"/sites/van-1", nil, nil)
	expect(events, `step {"revision":3,"kind":"edit"`)
	expect(events, `"cut_pairs":0`)
	leave()
	p.must("DELETE", first+"/sites/van-2", nil, nil)
	p.must("POST", first+"/undo", nil, nil)
	p.must("POST", first+"/redo", nil, nil)
	events, leave = listen("3")
	defer leave()
	for i, kind := range []string{"edit", "undo", "redo"} {
		expect(events, fmt.Sprintf(`step {"revision":%d,"kind":"%s"`, 4+i, kind))
	}
	// A stream ends when its holder may listen no more.
	var tokens []struct{ ID int }
	p.must("GET", "/api/me/tokens", nil, &tokens)
	p.must("DELETE", fmt.Sprint("/api/me/tokens/", tokens[0].ID), nil, nil)
	deadline := time.After(30 * time.Second)
	for {
		select {
		case _, open := <-events:
			if !open {
				return
			}
		case <-deadline:
			t.Fatal("the stream goes on without its token")
		}
	}
}

// TestTwoPeopleInOneDraft has two people in a draft: the one sees who else is
// there and what the other edits, and is told when the other was faster.
func TestTwoPeopleInOneDraft(t *testing.T) {
	t.Parallel()
	a := launch(t, "demo", folder(t))
	olive := sitDown(t, a)
	piet := sitDownAs(t, a, demoPlanner, demoPassword)
	const survey = "/e/brindlewater/d/first/survey"
	olive.goTo(survey)
	piet.goTo(survey)
	olive.find("[data-testid=people]", "piet.planner")
	piet.find("[data-testid=people]", "olive.owner")

	// Both open the same site; Piet saves first.
	olive.open("Mossgill Works")
	piet.open("Mossgill Works")
	piet.write(piet.labelled("Name"), "Mossgill Upper Works")
	piet.click("form button", "Save")
	olive.find("[role=status]", "piet.planner@demo.example: Edit Mossgill Upper Works")
	olive.write(olive.labelled("Demand Mbit/s"), "66")
	olive.click("form button", "Save")
	olive.find("[role=alert]", "was changed meanwhile by piet.planner@demo.example")
	olive.find("[role=alert] li", "name: Mossgill Works became Mossgill Upper Works")
	if got, _ := olive.labelled("Demand Mbit/s").Property("value"); got.Str() != "66" {
		t.Errorf("the form lost what was entered: %q", got.Str())
	}
	olive.click("[role=alert] button", "Save mine over it")
	olive.gone("form", "Subnets")
	piet.find("[data-row]", "Mossgill Works")

	// Piet deletes a site that Olive is editing: what she typed stays, and is
	// saved over it when she wants.
	olive.open("Kelpwick Pumping Station")
	olive.write(olive.labelled("Demand Mbit/s"), "77")
	piet.open("Kelpwick Pumping Station")
	piet.click("form button", "Delete the site")
	olive.find("[role=status]", "was deleted meanwhile")
	if got, _ := olive.labelled("Demand Mbit/s").Property("value"); got.Str() != "77" {
		t.Errorf("the form of a deleted site lost what was entered: %q", got.Str())
	}
	olive.click("form button", "Save")
	olive.click("[role=alert] button", "Save mine over it")
	olive.gone("form", "Subnets")
	piet.find("[data-row]", "Kelpwick Pumping Station")

	// A reader sees it too, and edits nothing.
	rhea := sitDownAs(t, a, demoReader, demoPassword)
	rhea.goTo(survey)
	rhea.find("p", "You are a reader of this estate")
	rhea.click("[data-row]", "Tarn Hollow Works")
	rhea.find("form button:focus", "Close without saving")
	if !rhea.labelled("Name").MustMatches(":disabled") {
		t.Error("a reader can type another name")
	}
}

// TestServerGone has the server away while someone edits: the page says so,
// keeps the form, and sends the edit itself when the server is back.
func TestServerGone(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	a := launch(t, "demo", dir)
	d := sitDown(t, a)
	d.goTo("/e/brindlewater/d/first/survey")
	d.open("Mossgill Works")
	d.write(d.labelled("Name"), "Mossgill Lower Works")
	a.command.Process.Kill()
	a.command.Wait()
	d.find("[role=status]", "The server cannot be reached")
	d.click("form button", "Save")
	d.find("[role=status]", "An edit waits here")
	again := launch(t, "demo", dir, "--listen", strings.TrimPrefix(a.url, "http://"))
	d.gone("[role=status]", "The server cannot be reached")
	d.find("[data-row]", "Mossgill Lower Works")
	if again.url != a.url {
		t.Errorf("%s came back as %s", a.url, again.url)
	}
}
