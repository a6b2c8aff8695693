package e2e

import (
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
)

// TestStationsOnOneMast finds the two stations whose backup shares a mast with
// the first choice, takes one backup off it, and sees what that is worth
// against the release.
func TestStationsOnOneMast(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "outages?view=standing")
	d.find("li", "eelgate: radio and cell are all its links and share mast-34")
	d.find("li", "Take cell of kelpwick off mast-39")
	d.click("li:has(a[href*='fate:mast-39']) a", "kelpwick")
	d.write(d.find(`[name="links[1].shared_fate"]`, ""), "mast-77")
	d.click("form button", "Save")
	d.find("[data-testid=last-edit]", "Kelpwick")
	d.goTo(inDraft + "outages?view=standing")
	d.find("li", "eelgate: radio and cell")
	d.gone("li", "kelpwick: radio and cell")
	d.goTo(inDraft + "outages?view=changes")
	d.find("tr", "shared fate mast-39")
	d.find("td", "✓ better")
	d.press(input.ControlLeft, input.KeyZ)
	d.goTo(inDraft + "outages?view=standing")
	d.find("li", "kelpwick: radio and cell")
}

// TestNothingSwitches takes from a site what switches there, and reads on every
// page that plans with it what that comes to.
func TestNothingSwitches(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "outages?fail=link:alderfold/copper")
	what := "[aria-label='What the failure does'] "
	d.find(what+"p", "No site with a living gateway is cut off")
	d.gone("[role=note]", "No automatic failover")
	d.goTo(inDraft + "survey?site=alderfold")
	d.click("summary", "Gateway:")
	d.must(d.find(`[name="gateway.switches"]`, "").Click("left", 1))
	d.click("form button", "Save")
	d.find("[data-testid=last-edit]", "Alderfold")
	for _, page := range []string{"outages?fail=link:alderfold/copper", "outages?view=standing", "outages?view=plan"} {
		d.goTo(inDraft + page)
		d.find("[role=note]", "No automatic failover at alderfold")
	}
	d.goTo(inDraft + "outages?fail=link:alderfold/copper&a=alderfold&b=mossgill")
	d.find(what+"strong", "Cuts")
	d.find(what+"li", "no automatic failover at alderfold: the dead tunnel stays in use until somebody intervenes")
	d.goTo(inDraft + "paths/alderfold?view=routes")
	d.find("span", "there is no automatic failover at this gateway")
	d.goTo(inDraft + "findings")
	d.find("*", "no automatic failover at the gateway of alderfold")
}

// TestFirstHubDies drops the first hub from the grid and reads who moves and
// whether the second can bear it; then both hubs together.
func TestFirstHubDies(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "outages?kind=gateway")
	d.click("button[data-failure]", "harrowmere")
	what := "[aria-label='What the failure does'] "
	d.find(what+"p", "No site with a living gateway is cut off")
	d.find(what+"li", "alderfold copper — harrowmere/fibre-a")
	d.find(what+"td", "quillbeck/fibre-a")
	d.must(d.labelled("At which site").Select([]string{"brackenpost: moved"}, true, "text"))
	d.find(what+"li a", "copper — quillbeck/fibre-a")
	d.gone(what+"li", "alderfold copper")
	d.must(d.find("button[data-failure]", "harrowmere").Focus())
	d.press(input.ArrowDown)
	d.find(`button[data-failure]:focus:not([aria-label*="harrowmere"])`, "")
	d.goTo(inDraft + "outages?fail=gateway:harrowmere&fail=gateway:quillbeck&fail=gateway:cinderhall")
	d.find(what+"strong", "Cuts")
}

// TestSatelliteForControlOnly makes the satellites of all reservoirs the last
// resort for one zone, as one edit for the whole pattern, and orders who gives
// way.
func TestSatelliteForControlOnly(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "outages?view=plan")
	pattern := "[data-pattern='cell satellite'] "
	d.must(d.find(pattern+"select[aria-label='Zones on satellite']", "").Select([]string{"for control only"}, true, "text"))
	d.find("[data-testid=last-edit]", "satellite of 9 sites for control only")
	d.click(pattern+"[aria-label='satellite earlier']", "")
	d.find("[data-testid=last-edit]", "Links of 9 sites: satellite, then cell")
	d.find("[data-testid=consequences]", "routes move at")
	d.click("[data-pattern='satellite cell'] [aria-label='satellite later']", "")
	d.find("[data-testid=last-edit]", "Links of 9 sites: cell, then satellite")
	d.must(d.labelled("Add a zone to be shed").Select([]string{"camera"}, true, "text"))
	d.find("[data-testid=last-edit]", "Zones shed: camera")
	form := "form[aria-label='Probes of ops'] "
	d.write(d.find(form+"input", ""), "500")
	d.click(form+"button", "Save")
	d.find(form+"p", "2.30 s")
	d.goTo(inDraft + "paths/overtarn?view=configuration")
	d.click("li button", ".nft")
	d.find("pre", "ip saddr")
}

// TestControlLeavesALossyLink holds a zone to limits, asks what a lossy link does then,
// second by second, and follows a packet meanwhile.
func TestControlLeavesALossyLink(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "outages?view=plan")
	form := "form[aria-label='Probes of ops'] "
	d.write(d.find(form+"fieldset label:nth-child(3) input", ""), "1.5")
	d.click(form+"button", "Save")
	d.find(form+"[role=alert]", "say which zones are held to the limits")
	d.click(form+"[aria-label='Hold control to the limits of ops']", "")
	d.click(form+"button", "Save")
	d.find("[data-testid=last-edit]", "control held to loss 1.5 %")
	d.goTo(inDraft + "outages?degree=lossy")
	d.gone("[data-failure]", "slow")
	d.goTo(inDraft + "outages?fail=lossy:link:alderfold/copper&a=alderfold&b=mossgill")
	d.find("section h2", "link alderfold/copper is lossy")
	d.find("section p", "Only what is held to limits moves")
	d.find("section li", "control goes by alderfold/cell harrowmere/fibre-a; all else stays")
	d.click("section a", "Follow a packet meanwhile")
	d.find("main p", "While link alderfold/copper is lossy")
	d.goTo(inDraft + "paths/-/follow?from=10.16.12.9&to=10.16.8.9&fail=lossy:link:alderfold/copper")
	d.find("[aria-label=There] a", "by limits")
	d.find("[aria-label=Back] a", "by limits")
	d.click("main p a", "With nothing failing")
	d.gone("[aria-label=There] a", "by limits")
}

// TestLumenwayFails asks what happens to Osier Weir when a provider fails, and
// reads the course of a failure that does move its traffic, second by second.
func TestLumenwayFails(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "outages?kind=provider&a=osierweir&b=mossgill")
	d.click("button[data-failure]", "Lumenway")
	what := "[aria-label='What the failure does'] "
	d.find(what+"p", "The failure does not move their traffic.")
	d.must(d.labelled("One site").Select([]string{"alderfold"}, true, "text"))
	d.find(what+"li", "probe 3 of 3 is missed too")
	d.find(what+"li", "traffic flows again after at most 3.8 s")
	d.find(what+"svg[aria-label^='Nothing flows for up to 3.80 s']", "")
	d.find(what+"p", "The two reach each other 99.")
}

// TestNoSingleFailureCutsAWorks reads from the grid that no single failure but
// its own gateway's cuts a works, on the demo estate as it is, and that taking
// links away would: that is undone.
func TestNoSingleFailureCutsAWorks(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "outages")
	d.find("button[data-failure][aria-label*='cuts']", "")
	works := []string{"tarnhollow", "osierweir", "salternreach", "mossgill", "ferrowlock"}
	cut := func() (labels string) {
		for _, e := range d.page.MustElements("button[data-failure][aria-label*='cuts']") {
			label, _ := e.Attribute("aria-label")
			labels += *label + "\n"
		}
		return labels
	}
	before := cut()
	for _, w := range works {
		if strings.Contains(before, w) {
			t.Errorf("something cuts %s:\n%s", w, before)
		}
	}
	report := string(d.download("a", "Report"))
	if !strings.Contains(report, "fate:mast-34") || strings.Contains(report, "<td>tarnhollow</td><td>") {
		t.Errorf("%.400s", report)
	}
	d.goTo(inDraft + "survey?site=mossgill")
	for _, link := range []string{"1", "2"} { // the cell and the ring
		d.click(`[name="links[`+link+`].no_tunnels"]`, "")
	}
	d.click("form button", "Save")
	d.find("[data-testid=last-edit]", "Mossgill")
	d.goTo(inDraft + "outages")
	d.find("button[data-failure][aria-label*='cuts']", "fibre")
	if after := cut(); !strings.Contains(after, "mossgill") {
		t.Errorf("nothing cuts mossgill:\n%s", after)
	}
	d.press(input.ControlLeft, input.KeyZ)
	d.gone("button[data-failure][aria-label*='cuts']", "mossgill/fibre")
}

// TestStationsShareTheLoad has the stations' copper and cell lines share the
// load three to one, for the whole pattern at once, follows that to the routes
// and a failure, compares it with another draft and takes it back.
func TestStationsShareTheLoad(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "outages?view=plan")
	pattern := "[data-pattern='copper cell'] "
	d.click(pattern+"[data-share=cell]", "")
	d.find("[data-testid=last-edit]", "Links of 12 sites: copper × 1 beside cell × 1")
	d.find(pattern+"[data-share=cell][aria-pressed=true]", "")
	parts := d.find(pattern+"[aria-label='Parts of the flows for copper']", "")
	d.write(parts, "40")
	d.press(input.Enter)
	d.find("[role=alert]", "16")
	d.write(d.find(pattern+"[aria-label='Parts of the flows for copper']", ""), "3")
	d.press(input.Enter)
	d.find("[data-testid=last-edit]", "copper × 3 beside cell × 1")
	d.goTo(inDraft + "paths/alderfold?view=routes")
	d.find("td", "harrowmere-1 × 3 + harrowmere-3 × 1")
	d.goTo(inDraft + "paths/alderfold")
	d.find("td", "3 of 4 parts")
	d.goTo(inDraft + "outages?fail=link:alderfold/copper&at=alderfold")
	d.find("li", "copper — harrowmere/fibre-a + cell — harrowmere/fibre-a")
	d.find("svg[aria-label^='75.0 % of the flows stand still for up to 3.80 s']", "")
	d.goTo(inDraft + "outages?view=changes")
	d.must(d.labelled("Compared with").Select([]string{"draft Winter round"}, true, "text"))
	d.find("[role=status]", "23 sites harder and 1 less hard")
	d.click("[aria-label='Sites that fare differently'] button", "alderfold")
	d.find("td", "link alderfold/cell")
	d.gone("td", "brackenpost")
	d.goTo(inDraft + "outages?view=plan")
	d.click("[data-pattern='copper cell'] [aria-label='cell later']", "")
	d.find("[data-testid=last-edit]", "Links of 12 sites: copper, then cell")
}
