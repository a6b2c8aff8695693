package e2e

import (
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
)

// TestFirstStart goes from the link on the terminal to an estate with a second
// person in it, who comes by a link too and sees no other estate.
func TestFirstStart(t *testing.T) {
	t.Parallel()
	a := launch(t, "serve", folder(t))
	d := sitDownAs(t, a, "", "")
	d.find("p", "Sign in to see your estates")
	d.goTo("/welcome#" + a.link)
	d.find("p", "no administrator yet")
	d.write(d.labelled("Your e-mail address"), adminEmail)
	d.write(d.labelled("Your name"), "Ada")
	d.write(d.labelled("Password, at least 12 characters"), "short")
	d.write(d.labelled("The same again"), "short")
	d.click("button", "Set the password and sign in")
	d.find("form p", "at least 12 characters; a few words")
	d.write(d.labelled("Password, at least 12 characters"), adminPassword)
	d.find("form p", "The two differ")
	d.write(d.labelled("The same again"), adminPassword)
	d.click("button", "Set the password and sign in")
	d.find("p", "No estate yet")
	for _, name := range []string{"Vale", "Hidden"} {
		d.goTo("/")
		d.write(d.labelled("Name of a new estate"), name)
		d.click("button", "Start empty")
		d.find("h2", "The ledger is empty")
	}
	d.goTo("/e/vale/people")
	d.write(d.labelled("E-mail address of someone else"), "bo@test.example")
	d.must(d.labelled("who becomes").Select([]string{"planner"}, true, "text"))
	d.click("form button", "Add")
	d.find("td", "bo@test.example")
	link, err := d.find("[role=status]", "/welcome#").Text()
	d.must(err)
	_, secret, _ := strings.Cut(link, "/welcome#")
	secret, _, _ = strings.Cut(strings.TrimSpace(secret), " ")

	bo := sitDownAs(t, a, "", "")
	bo.goTo("/welcome#" + strings.Fields(secret)[0])
	bo.find("p", "bo@test.example")
	bo.write(bo.labelled("Password, at least 12 characters"), "bo has a long one")
	bo.write(bo.labelled("The same again"), "bo has a long one")
	bo.click("button", "Set the password and sign in")
	bo.find("td a", "Vale")
	bo.gone("td a", "Hidden")
	bo.goTo("/e/hidden")
	bo.find("[role=alert]", "no such estate")
	bo.goTo("/e/vale")
	bo.click("td a", "First draft")
	bo.find("h2", "The ledger is empty")

	// The session ends elsewhere while Bo has a form open: the form stays.
	bo.click("button", "Add a site")
	bo.write(bo.labelled("Site key"), "millgate")
	a.signedIn(t, "bo@test.example", "bo has a long one").must("DELETE", "/api/me/sessions", nil, nil)
	bo.click("form button", "Add the site")
	bo.find("dialog h2", "Your session has ended")
	bo.write(bo.find("dialog[open]", "Sign in again").MustElement("input[type=email]"), "bo@test.example")
	password := bo.find("dialog[open]", "Sign in again").MustElement("input[type=password]")
	bo.write(password, "bo has a long one")
	bo.must(password.Type(input.Enter))
	bo.gone("dialog h2", "Your session has ended")
	bo.click("form button", "Add the site")
	bo.find("[data-row]", "millgate")

	d.goTo("/e/vale/audit")
	d.find("td", "people.role")
	d.find("td", "draft.edit")
	d.must(d.labelled("Who, full e-mail address").Input("bo@test.example"))
	d.gone("td", "people.role")
	d.goTo("/me")
	d.click("button", "Sign out everywhere")
	d.find("p", "Sign in to see your estates")
}

// TestReleaseAndCatchUp releases the demo's waiting draft, brings the other one
// up to date with a conflict, compares, and makes an earlier release a draft.
func TestReleaseAndCatchUp(t *testing.T) {
	t.Parallel()
	a := launch(t, "demo", folder(t))
	d := sitDown(t, a)
	p := a.signedIn(t, demoOwner, demoPassword)
	var sites []map[string]any
	p.must("GET", first+"/sites", nil, &sites)
	for _, s := range sites {
		if s["key"] == "eelgate" {
			for _, derived := range []string{"revision", "tunnels", "hub_fit", "errors", "warnings"} {
				delete(s, derived)
			}
			s["demand_mbps"] = 20
			p.must("PUT", first+"/sites/eelgate", s, nil)
		}
	}
	d.goTo("/e/brindlewater/d/winter-round/survey")
	d.find("[data-testid=consequences]", "12 tunnels change · 64 routes move at 4 sites · nobody cut off")
	d.click("[data-testid=consequences]", "routes move")
	d.find("li", "spoke osierweir hubs: [quillbeck harrowmere] became [harrowmere quillbeck]")
	d.write(d.labelled("What this release is for"), "Osier Weir to Harrowmere first")
	d.click("button", "Put in force as release 2")
	d.find("[role=alert]", "write down why this may be released")
	d.write(d.labelled("Why it may go in spite of new warnings, or errors that stand already"), "They stood before; the depots are next")
	d.click("button", "Put in force as release 2")
	d.find("[role=status]", "Release 2 is in force")

	d.goTo("/e/brindlewater/d/first/survey")
	d.click("a", "Bring it up to date")
	d.find("legend", "Eelgate Pumping Station")
	d.find("button", "1 still to choose")
	d.find("label", "demand_mbps: 4 became 20")
	d.must(d.find("label", "This draft's").Click("left", 1))
	d.click("button", "Bring up to release 2")
	d.gone("h2", "came in between")
	d.find("li", "demand_mbps: 9 became 20")
	d.press(input.ControlLeft, input.KeyZ)
	d.find("h2", "came in between")

	d.goTo("/e/brindlewater/compare?from=release-1&to=release-2&site=osierweir")
	d.find("summary", "osierweir/routes")
	d.find("span", "Routes that move")
	d.goTo("/e/brindlewater/d/release-1/survey")
	d.find("p", "You look at release 1. Nothing in it can be edited")
	d.goTo("/e/brindlewater")
	d.find("td", "Released despite findings: They stood before")
	d.write(d.labelled("Name of a new draft"), "Back to the start")
	d.must(d.labelled("that starts from").Select([]string{"release 1, The network as it was taken over"}, true, "text"))
	d.click("button", "Start the draft")
	d.find("[data-testid=consequences]", "64 routes move at 4 sites")
	d.goTo("/e/brindlewater")
	d.click("button[aria-label='Discard Back to the start']", "Discard")
	d.gone("td a", "Back to the start")
	d.click("button", "1 discarded, kept")
	d.click("button", "Restore")
	d.find("button[aria-label='Discard Back to the start']", "Discard")
}

// TestReaderSeesAndEditsNothing goes through the stages as a reader: what edits
// is there to read and cannot be used, what finds one's way can.
func TestReaderSeesAndEditsNothing(t *testing.T) {
	t.Parallel()
	a := launch(t, "demo", folder(t))
	d := sitDownAs(t, a, demoReader, demoPassword)
	usable := func(selector string) {
		t.Helper()
		if d.find(selector, "").MustMatches(":disabled") {
			t.Errorf("%s cannot be used", selector)
		}
	}
	barred := func(selector string) {
		t.Helper()
		if !d.find(selector, "").MustMatches(":disabled") {
			t.Errorf("a reader can use %s", selector)
		}
	}
	for _, c := range []struct {
		path           string
		barred, usable []string
	}{
		{"survey?site=tarnhollow", []string{"form [name=name]", "form [name='links[0].rank']", "form button[type=submit]"}, []string{"form button:not([type=submit]).btn-sm"}},
		{"survey/regions", []string{"form input", "form button[type=submit]"}, nil},
		{"shape", []string{"[aria-label='Move quillbeck up']", "[aria-label='Add a hub']", "[aria-label=Zones] input", "[aria-label='Hub for internet traffic']"}, []string{"[role=tab]", "[aria-label='Filter the loom']"}},
		{"shape?view=members", []string{"[aria-label=Members] input[type=checkbox]", "[aria-label=Members] select"}, []string{"[aria-label='Filter the members']"}},
		{"shape?view=policy", []string{"[aria-label=Policy] button", "[aria-label=Pins] button"}, nil},
		{"shape?view=settings", []string{"[aria-label=Costs] input", "[aria-label=Tunnels] select"}, nil},
		{"outages?view=plan", []string{"[data-share=cell]", "[aria-label='Zones on cell']", "[aria-label='Probes of ops'] input"}, nil},
	} {
		d.goTo(inDraft + c.path)
		d.find("h1", "")
		for _, s := range c.barred {
			barred(s)
		}
		for _, s := range c.usable {
			usable(s)
		}
	}
	d.press(input.ControlLeft, input.KeyZ)
	d.find("[data-testid=last-edit]", "Import a document")
	barred("footer button")
}
