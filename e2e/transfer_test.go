package e2e

import (
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
)

const document = `wideknot: 1
estate: {name: Vale, regions: [{key: vale, blocks: [10.40.0.0/16]}]}
sites:
  - key: millgate
    name: Millgate Office
    region: vale
    links: [{key: fibre, reach: static, addresses: [203.0.113.10]}]
    subnets: [{prefix: 10.40.1.0/24, share: [ops]}]
  - key: stonebeck
    name: Stonebeck Station
    region: vale
    links: [{key: cell, reach: nat}]
    subnets: [{prefix: 10.40.1.0/24, share: [ops]}]
overlays:
  - {key: ops, shape: hub-and-spoke, transit: [100.96.0.0/24], hubs: [millgate], spokes: [{site: stonebeck}]}
`

// TestDocumentIn imports a document with a mistake, which is told with its
// line, then the right one; a collision in it is repaired with one click, and
// one undo takes that back.
func TestDocumentIn(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "serve", folder(t)))
	d.write(d.labelled("Name of a new estate"), "Vale")
	d.click("button", "Start empty")
	d.find("h2", "The ledger is empty")
	d.goTo("/e/vale/d/first/survey/import")
	d.click("[role=tab]", "Estate document")
	d.write(d.labelled("Estate document"), strings.Replace(document, "region: vale", "region: vail", 1))
	d.click("button", "Preview")
	d.find("td", "line 6, column 13")
	d.find("td", `there is no region "vail"`)
	d.find("p", "imported whole or not at all")
	d.write(d.labelled("Estate document"), document)
	d.click("button", "Preview")
	d.click("button", "Import the document")
	d.find("[data-row]", "Stonebeck Station")

	d.click("nav a", "Addresses")
	d.find("p", "millgate and stonebeck both use 10.40.1.0/24 in ops")
	d.click("button", "Map 10.40.1.0/24 at stonebeck 1:1 to 10.40.0.0/24")
	d.find("[data-testid=weighed]", "gone")
	d.click("button", "Apply ")
	d.gone("p", "both use 10.40.1.0/24")
	d.find("footer", "0 errors")
	d.must(d.find("h1", "Addresses").Focus())
	d.press(input.ControlLeft, input.KeyZ)
	d.find("p", "millgate and stonebeck both use 10.40.1.0/24 in ops")
}

// TestRegionsAreEdited gives a region a block that cannot be one, reads why,
// and fixes it.
func TestRegionsAreEdited(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo("/e/brindlewater/d/first/survey/regions")
	d.find("h1", "Regions")
	d.click("button", "Add a region")
	keys, err := d.page.Elements("form input.font-mono")
	d.must(err)
	d.write(keys[len(keys)-2], "isles")
	d.write(keys[len(keys)-1], "10.28.0.0/44")
	d.click("form button", "Save")
	d.find("p", "is not an IPv4 or IPv6 prefix")
	d.write(keys[len(keys)-1], "10.28.0.0/16")
	d.click("form button", "Save")
	d.find("[data-testid=last-edit]", "Edit the estate's name and regions")
}

// TestOverlayIsReshaped makes a site a spoke no longer, changes the first hub
// of another, and gives the overlay a pool that cannot be one.
func TestOverlayIsReshaped(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo("/e/brindlewater/d/first/shape?view=members")
	d.find("p", "443 tunnels among 40 sites")
	d.must(d.labelled("Mossgill Works is a spoke").Click("left", 1))
	d.find("p", "429 tunnels among 39 sites")
	d.must(d.labelled("First hub of Alderfold Pumping Station").Select([]string{"quillbeck first"}, true, "text"))
	d.find("option", "quillbeck, then harrowmere, then cinderhall")
	pool := d.labelled("Transit pools")
	d.write(pool, "100.96.0.0/160")
	d.must(pool.Type(input.Enter))
	d.find("p", "is not an IPv4 or IPv6 prefix")
	d.write(pool, "100.96.0.0/16 fd00:96::/64")
	d.must(pool.Type(input.Enter))
	d.gone("p", "is not an IPv4 or IPv6 prefix")
	d.must(d.labelled("hubs tell which sites they reach").Click("left", 1))
	d.find("[data-testid=last-edit]", "Shape ops")
	d.goTo("/e/brindlewater/d/first/paths/alderfold")
	d.find("td", "fd00:96::")
	d.find("h2", "to quillbeck")
}

// TestThemeAndKeys switches the theme, which stays, and asks for the keys.
func TestThemeAndKeys(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo("/e/brindlewater/d/first/paths")
	d.find("td a", "Harrowmere Control Centre")
	before, err := d.page.Eval(`() => document.documentElement.dataset.theme`)
	d.must(err)
	d.click("nav button", "theme")
	d.must(d.page.Reload())
	d.find("td a", "Harrowmere Control Centre")
	after, err := d.page.Eval(`() => document.documentElement.dataset.theme`)
	d.must(err)
	if before.Value.Str() == after.Value.Str() {
		t.Errorf("the theme is %s still", after.Value.Str())
	}
	d.must(d.page.Keyboard.Type('?'))
	d.find("dialog[open] dd", "Undo the last edit")
	d.click("dialog button", "Close")
	d.goTo("/e/nowhere/d/first/survey")
	d.find("[role=alert]", "no such estate")
}
