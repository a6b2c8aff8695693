package e2e

import (
	"fmt"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
)

const inDraft = "/e/brindlewater/d/first/"

// TestFindingsByKeyboard works through the errors with the keyboard alone, and
// takes one back.
func TestFindingsByKeyboard(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "findings")
	for _, left := range []string{"1 error", "0 errors"} {
		_, err := d.page.Timeout(10 * time.Second).Element("[data-finding]:focus")
		d.must(err)
		d.press(input.Digit1)
		d.find("[data-testid=weighed]", "1 gone")
		d.press(input.ControlLeft, input.Enter)
		d.find("footer", left)
		d.gone("[data-testid=weighed]", "gone")
	}
	d.find("h1", "Findings")
	d.press(input.ArrowDown)
	d.press(input.ArrowUp)
	d.press(input.ControlLeft, input.KeyZ)
	d.find("footer", "1 error")
	d.find("[data-finding]:focus", "")
	d.press(input.Enter) // goes to where its pool is
	d.find("h1", "Shape")
}

// TestRulerShowsCollisionsAndRoom finds the collision on the ruler, weighs two
// ways out of it, and reserves room for a new works.
func TestRulerShowsCollisionsAndRoom(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "addresses?within=192.168.40.0/24")
	block := d.find(`button[aria-label*="192.168.40.0/24 at crossfold"]`, "crossfold")
	if said, _ := block.Attribute("aria-label"); !strings.Contains(*said, "collides") {
		t.Errorf("the block says %q", *said)
	}
	d.must(block.Click(proto.InputMouseButtonLeft, 1))
	d.find("[aria-label='Chosen block']", "It collides")
	d.click("button", "Renumber 192.168.40.0/24 at crossfold to 10.24.3.0/24")
	d.find("[data-testid=weighed]", "1 gone · nobody cut off")
	d.click("button", "Stop sharing 192.168.40.0/24 at crossfold into ops")
	d.find("[data-testid=weighed]", "cut")
	d.click("button", "Map 192.168.40.0/24 at dockside 1:1 to 10.24.3.0/24")
	d.click("button", "Apply ")
	d.find("footer", "1 error")
	d.goTo(inDraft + "addresses")
	d.write(d.labelled("Size, /"), "22")
	d.must(d.labelled("In region").Select([]string{"fen"}, true, "text"))
	d.write(d.labelled("to be kept for"), "the new works")
	d.find("li", "10.20.40.0/22")
	d.click("li button", "Reserve")
	d.find(`button[aria-label*="10.20.40.0/22 reserved the new works"]`, "the new works")
	d.find("[data-testid=last-edit]", "Reserve 10.20.40.0/22 for the new works")
}

// TestLoom changes the hub order of a region by keys and of a site by drag,
// reads what moves, asks why a pair is apart, and joins another directly.
func TestLoom(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "shape")
	region := d.find(`button[data-cell="0 0"]`, "1:12")
	d.must(region.Focus())
	d.press(input.AltLeft, input.ArrowRight)
	d.find("[data-testid=last-edit]", "sites in ops: quillbeck, harrowmere, cinderhall")
	d.find("[data-testid=consequences]", "nobody cut off")
	d.press(input.ControlLeft, input.KeyZ)
	d.gone("[data-testid=consequences]", "route")

	d.find(`button[title^="alderfold and harrowmere"][title$="hub number 1"]`, "4")
	from := d.find(`button[title^="alderfold and harrowmere"]`, "4").MustShape().Box()
	to := d.find(`button[title^="alderfold and quillbeck"]`, "4").MustShape().Box()
	mouse := d.page.Mouse
	d.must(mouse.MoveTo(proto.NewPoint(from.X+from.Width/2, from.Y+from.Height/2)))
	d.must(mouse.Down(proto.InputMouseButtonLeft, 1))
	d.must(mouse.MoveLinear(proto.NewPoint(to.X+to.Width/2, to.Y+to.Height/2), 12))
	d.must(mouse.Up(proto.InputMouseButtonLeft, 1))
	d.find("[data-testid=last-edit]", "Hubs of alderfold in ops: quillbeck, harrowmere, cinderhall")
	d.find("[data-testid=consequences]", "routes move at")

	d.goTo(inDraft + "shape?a=van-1&b=van-2")
	d.find("[aria-label=Pair] p", "No tunnel can join these two. Their traffic goes by cinderhall")
	d.find("[aria-label=Pair] li", "both are outbound only")
	d.must(d.labelled("One site of a pair").Select([]string{"Mossgill Works"}, true, "text"))
	d.must(d.labelled("The other").Select([]string{"Tarn Hollow Works"}, true, "text"))
	d.click("[aria-label=Pair] button", "Join them directly")
	d.find("[aria-label=Pair] li", "ring — ring")
	d.find("[data-testid=last-edit]", "Join mossgill and tarnhollow directly in ops")

	d.click("[aria-label='alderfold uses its own internet links'], [aria-label='van-1 uses its own internet links']", "")
	d.find("[data-testid=last-edit]", "Shape ops")
	d.find("[aria-label='Add a site to go through the hub'] option", "Field Laboratory 1")
	d.must(d.labelled("Add a site to go through the hub").Select([]string{"Field Laboratory 1"}, true, "text"))
	d.find("[aria-label='van-1 uses its own internet links']", "")
}

// TestInspector looks at a site beside the ledger and beside the loom, and goes
// on from there.
func TestInspector(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "survey")
	d.must(d.find("[data-row]", "Kelpwick").Focus())
	d.press(input.KeyI)
	d.find("[aria-label=Inspector] h2", "Kelpwick Pumping Station")
	d.find("[aria-label=Inspector] li", "kelpwick")
	d.click("[aria-label='Close the inspector']", "")
	d.goTo(inDraft + "shape")
	d.click("[data-site=mossgill]", "Mossgill Works")
	d.find("[aria-label=Inspector] h2", "Mossgill Works")
	d.click("[aria-label=Inspector] a", "10.16.8.0/24")
	d.find("[aria-label='Chosen block']", "at mossgill")
	d.must(d.find("button[data-look^=subnet]", "mossgill").Focus())
	d.press(input.KeyI)
	d.find("[aria-label=Inspector] a", "On the ruler")
	d.goTo(inDraft + "paths/mossgill")
	d.must(d.find("tr[data-look] a", "").Focus())
	d.press(input.KeyI)
	d.click("[aria-label=Inspector] a", "Both ends")
	d.find("h1", "Both ends")
	d.goTo(inDraft + "findings")
	d.must(d.find("[data-finding]", "").Focus())
	d.press(input.KeyI)
	d.find("[aria-label=Inspector] a", "Repairs, in the list")
}

// TestTunnelOrderHoldsAtBothEnds raises a tunnel of a pair and finds it first
// at both ends; then compares keys.
func TestTunnelOrderHoldsAtBothEnds(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "shape?a=tarnhollow&b=harrowmere")
	d.click("[aria-label='Raise fibre — fibre-a']", "")
	d.find("[aria-label=Pair] li:first-child", "fibre — fibre-a")
	d.find("[aria-label=Pair] p", "You put some first")
	d.click("[aria-label=Pair] li a", "fibre — fibre-a")
	d.find("header p", "choice 1 of 5 between tarnhollow and harrowmere")
	d.find("[role=status]", "Both ends match")
	key, err := d.find("tr", "own public key").MustElement("td:nth-child(4)").Text()
	d.must(err)
	paste := d.labelled("Paste the public key that the peer of tarnhollow has")
	for pasted, want := range map[string]string{
		strings.TrimSuffix(key, "="): "the = at its end was lost in copying",
		key:                          "this is the public key of harrowmere, not of tarnhollow",
		key[:43]:                     "lost in copying",
	} {
		d.write(paste, pasted)
		d.must(paste.Type(input.Enter))
		d.find("form [role=status]", want)
	}
}

// TestNewSiteLikeItsNeighbour adds a site after a neighbour's pattern and reads
// its configuration, and who else is touched.
func TestNewSiteLikeItsNeighbour(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "survey")
	d.find("[data-row]", "can be a hub")
	d.click("button", "Add a site")
	d.must(d.labelled("Like").Select([]string{"Heronstow Pumping Station"}, true, "text"))
	d.find("form p", "next free blocks of its region")
	d.write(d.labelled("Site key"), "sedgeford-pump")
	d.write(d.labelled("Name"), "Sedge Lane Pumping Station")
	d.click("form button", "Add the site")
	d.find("h1", "Sedge Lane Pumping Station")
	d.find("a, button", "filter.nft")
	d.find("[data-testid=consequences]", "tunnels · ")
	d.click("[role=tab]", "Tunnels")
	d.find("h2", "to harrowmere")
	d.click("[data-testid=consequences]", "")
	d.find("summary", "Edited")
	d.find("li", "spoke sedgeford-pump added")
}

// TestBeforeAfterAndFollow reads a site's routes before and after, and follows
// packets: one that comes back another way, one that a policy denies.
func TestBeforeAfterAndFollow(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo("/e/brindlewater/d/winter-round/paths/osierweir?view=changes")
	d.find("strong", "56 of 73 routes move")
	d.find("td", "quillbeck-1 via quillbeck")

	d.press(input.ControlLeft, input.KeyK)
	box := d.find("dialog[open]", "choose").MustElement("input")
	d.must(box.Input("10.20.24.9"))
	d.find("[cmdk-item]", "at larkspit, control, in ops")
	d.must(box.Input(" 10.16.4.1"))
	d.find("[cmdk-item]", "Follow a packet from 10.20.24.9 to 10.16.4.1")
	d.press(input.Enter)
	d.find("[role=status]", "comes back another way")
	d.find("[aria-label=There] a", "harrowmere")
	d.click("button", "Swap ends")
	d.click("button", "Follow")
	d.find("[role=status]", "another way")
	d.write(d.labelled("From address"), "10.16.5.9")
	d.write(d.labelled("To address"), "10.20.24.1")
	d.click("form button", "Follow")
	d.find("section div", "denied")
	d.find("li", "decides there")
	d.write(d.labelled("To address"), "not an address")
	d.click("form button", "Follow")
	d.find("[role=alert]", "")

	d.goTo(inDraft + "paths/-/follow?from=192.168.40.7&to=10.16.4.1")
	d.find("section div", "not placed")
}

// TestImportedEstateInTheWorkbench does the same on an estate that is not the
// demo's.
func TestImportedEstateInTheWorkbench(t *testing.T) {
	t.Parallel()
	a := launch(t, "serve", folder(t))
	p := a.admin(t)
	p.must("POST", "/api/estates", map[string]string{"name": "Vale"}, nil)
	text, err := os.ReadFile("../examples/two-hubs.yaml")
	if err != nil {
		t.Fatal(err)
	}
	p.must("POST", "/api/estates/vale/drafts/first/import", map[string]string{"document": string(text)}, nil)
	d := sitDownAs(t, a, adminEmail, adminPassword)
	d.goTo("/e/vale/d/first/shape")
	cell := d.find(`button[title^="tarn and first"]`, "1")
	d.must(cell.Focus())
	d.press(input.AltLeft, input.ArrowRight)
	d.find("[data-testid=last-edit]", "Hubs of tarn in ops: second, first")
	d.goTo("/e/vale/d/first/paths/-/follow?" + url.Values{"from": {"10.50.3.1"}, "to": {"10.50.4.1"}}.Encode())
	d.find("[role=status]", "the reply comes back the same way")
	d.find("[aria-label=There] a", "second")
	d.goTo("/e/vale/d/first/addresses")
	d.find("h3", "outside the regions")

	// Two depots of a bought-up company collide; one way out is taken for both.
	for key, prefix := range map[string]string{"bought-one": "10.50.3.0/24", "bought-two": "10.50.4.0/24"} {
		p.must("PUT", "/api/estates/vale/drafts/first/sites/"+key, map[string]any{
			"key": key, "name": key, "gateway": map[string]any{"switches": true}, "links": []any{map[string]any{"key": "wan", "reach": "nat"}},
			"subnets": []any{map[string]any{"prefix": prefix, "share": []string{"ops"}}},
		}, nil)
		p.must("PUT", "/api/estates/vale/drafts/first/overlays/ops", addSpoke(p, key), nil)
	}
	d.goTo("/e/vale/d/first/findings?severity=error")
	d.find("footer", "2 errors")
	d.click("[data-finding]:first-child button", "Stop sharing")
	d.click("[data-finding]:first-child button", "the same way for 1 more of this kind")
	d.find("section", "2 repairs chosen")
	d.find("[data-testid=weighed]", "2 gone")
	d.click("button", "Apply ")
	d.find("footer", "0 errors")
	d.press(input.ControlLeft, input.KeyZ)
	d.find("footer", "2 errors")
}

// addSpoke is the overlay ops with one more spoke.
func addSpoke(p *person, key string) map[string]any {
	var overlays []map[string]any
	p.must("GET", "/api/estates/vale/drafts/first/overlays", nil, &overlays)
	ops := overlays[0]
	for _, derived := range []string{"revision", "tunnels", "zones", "members"} {
		delete(ops, derived)
	}
	spokes, _ := ops["spokes"].([]any)
	ops["spokes"] = append(spokes, map[string]any{"site": key})
	return ops
}

// TestPolicyAndPinsAreFixed finds the planted asymmetry with a packet, the
// shadowed rule and the missing return among the findings, and fixes each from
// there.
func TestPolicyAndPinsAreFixed(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	const packet = inDraft + "paths/-/follow?from=10.20.24.9&to=10.16.4.1"
	d.goTo(packet)
	d.find("[role=status]", "comes back another way")
	d.click("a", "policy and pins")
	d.click("[aria-label='Remove the pin of larkspit']", "Remove")
	d.gone("[aria-label='Findings about policy and pins']", "by a pin, traffic of larkspit")
	d.goTo(packet)
	d.find("[role=status]", "the reply comes back the same way")

	d.goTo(inDraft + "shape?view=policy")
	about := "[aria-label='Findings about policy and pins'] li"
	d.find(about, "rule 6")
	d.click("[aria-label='Move rule 6 up']", "")
	d.gone(about, "is never asked")
	d.find(about, "rule 2 of ops (deny office to control) also denies replies")
	rules := len(d.page.MustElements("[aria-label=Policy] tbody tr"))
	d.click("[aria-label='Delete rule 2']", "")
	d.gone(about, "deny office to control")
	if left := len(d.page.MustElements("[aria-label=Policy] tbody tr")); left != rules-1 {
		t.Errorf("%d rules of %d", left, rules)
	}
	d.must(d.find("h1", "Shape").Focus())
	d.press(input.ControlLeft, input.KeyZ)
	d.find(about, "deny office to control")
	to := d.labelled("Rule 1 to")
	d.write(to, "10.0.0.0/99")
	d.must(to.Type(input.Enter))
	d.find("[role=alert]", "10.0.0.0/99")
	if got, _ := d.labelled("Rule 1 to").Property("value"); got.Str() != "10.0.0.0/99" {
		t.Errorf("what was typed is gone: %q", got.Str())
	}
}

// TestDirtySheetOfThirty pastes thirty sites with their links from a
// spreadsheet, fixes two cells in place, sees which can be hubs, joins them to
// two hubs with another order in one region, and five of them as a mesh besides.
func TestDirtySheetOfThirty(t *testing.T) {
	t.Parallel()
	a := launch(t, "serve", folder(t))
	a.admin(t).must("POST", "/api/estates", map[string]string{"name": "Thirty"}, nil)
	sites, links, subnets := "key\tname\tdemand_mbps\n", "site\tkey\treach\taddresses\n", "site\tprefix\tzone\n"
	for i := range 30 {
		demand, reach := fmt.Sprint(2+i), "nat\t"
		if i == 7 {
			demand = "lots"
		}
		if i < 3 {
			reach = fmt.Sprintf("static\t192.0.2.%d", 10+i)
		}
		if i == 9 {
			reach = "behind nat\t"
		}
		sites += fmt.Sprintf("s%02d\tSite %02d\t%s\n", i, i, demand)
		links += fmt.Sprintf("s%02d\twan\t%s\n", i, reach)
		subnets += fmt.Sprintf("s%02d\t10.9.%d.0/24\tcontrol\n", i, i)
	}
	d := sitDownAs(t, a, adminEmail, adminPassword)
	d.goTo("/e/thirty/d/first/survey/import")
	d.write(d.labelled("Sheet of sites"), sites)
	d.write(d.labelled("Sheet of WAN links"), links)
	d.write(d.labelled("Sheet of LAN subnets"), subnets)
	d.click("button", "Preview")
	for label, value := range map[string]string{"sites, row 9, demand_mbps": "9", "links, row 11, reach": "nat"} {
		cell := d.labelled(label)
		d.write(cell, value)
		d.must(cell.Type(input.Enter))
		time.Sleep(400 * time.Millisecond) // the preview is made anew
	}
	d.click("button", "Import 90 rows")
	d.find("[data-row]", "can be a hub")

	d.goTo("/e/thirty/d/first/shape")
	d.click("button", "Make the overlay")
	for _, hub := range []string{"Site 00", "Site 01"} {
		d.must(d.labelled("Add a hub").Select([]string{hub}, true, "text"))
		d.find("[data-hub]", "s"+hub[5:])
	}
	d.click("button", "Make the other 28 sites spokes")
	d.find("p", "57 tunnels among 30 sites")
	d.click("label", "control")
	d.must(d.find(`button[title^="s05 and s00"]`, "").Focus())
	d.press(input.AltLeft, input.ArrowRight)
	d.find("[data-testid=last-edit]", "Hubs of s05 in ops: s01, s00")

	d.click("button", "New overlay")
	d.write(d.labelled("Overlay key"), "mesh")
	d.write(d.labelled("Transit pool"), "100.97.0.0/16")
	d.click("button", "Make the overlay")
	d.find("[role=tab][aria-selected=true]", "mesh")
	d.must(d.labelled("Shape").Select([]string{"every pair of members"}, true, "text"))
	for _, member := range []string{"Site 00", "Site 01", "Site 02", "Site 03", "Site 04"} {
		d.goTo("/e/thirty/d/first/shape?overlay=mesh&view=members")
		box := d.labelled(member + " is a member")
		d.must(box.Click(proto.InputMouseButtonLeft, 1))
		d.find("[data-testid=last-edit]", "Shape mesh")
		time.Sleep(200 * time.Millisecond)
	}
	d.goTo("/e/thirty/d/first/shape?overlay=mesh")
	d.find("p", "9 tunnels among 5 sites")
	d.find(`button[title^="s03 and s04 cannot be joined"]`, "")
}

// TestCostsAndTunnels changes what an overlay's paths cost and how its tunnels
// are made; a cost that cannot be stays as typed, beside what is wrong with it.
func TestCostsAndTunnels(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo(inDraft + "shape?overlay=ops&view=settings")
	d.write(d.labelled("From hub to hub"), "150")
	d.press(input.Enter)
	d.find("[data-testid=last-edit]", "Shape ops: costs")
	d.find("[data-testid=consequences]", "routes move at")
	d.write(d.labelled("Over a direct pair"), "0.5")
	d.press(input.Enter)
	d.find("p.text-error", `expected a whole number, found "0.5"`)
	if v := d.labelled("Over a direct pair").MustProperty("value").Str(); v != "0.5" {
		t.Errorf("what was typed became %q", v)
	}
	d.press(input.ControlLeft, input.KeyZ)
	d.goTo(inDraft + "shape?overlay=works-mesh&view=settings")
	d.must(d.labelled("Tunnel addresses").Select([]string{"two for each tunnel"}, true, "text"))
	d.find("[data-testid=consequences]", "tunnels change")
	d.must(d.labelled("Transport").Select([]string{"IPsec"}, true, "text"))
	d.write(d.labelled("ESP proposals"), "ENCR_AES_GCM_16-512")
	d.press(input.Enter)
	d.find("p", `"ENCR_AES_GCM_16-512" is not an IKEv2 transform name known here`)
	d.write(d.labelled("ESP proposals"), "ENCR_AES_GCM_16-256 ENCR_AES_GCM_16-128")
	d.press(input.Enter)
	d.find("[data-testid=last-edit]", "Shape works-mesh: crypto")
	d.gone("p", "is not an IKEv2 transform name")
	d.goTo(inDraft + "shape?overlay=works-mesh&view=settings")
	if v := d.labelled("ESP proposals").MustProperty("value").Str(); v != "ENCR_AES_GCM_16-256 ENCR_AES_GCM_16-128" {
		t.Errorf("the proposals are %q", v)
	}
}
