// Package e2e drives the real program in a real browser, as users do.
package e2e

import (
	"archive/zip"
	"bytes"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
)

const sites = "key;name;region;demand_mbps;switches\nmillgate;Millgate Office;vale;100;yes\nstonebeck;Stonebeck Station;vale;4,5;yes\nwithybrook;Withybrook Works;vale;forty;yes\n"
const links = "site;key;reach;addresses;rank\nmillgate;fibre;static;203.0.113.10;1\nstonebeck;cell;nat;;1\nwithybrook;fibre;static;198.51.100.20;1\nwithybrook;cell;nat;;2\n"
const subnets = "site;prefix;zone\nmillgate;10.40.1.0/24;office\nstonebeck;10.40.2.9/24;control\nwithybrook;10.40.2.0/24;control\n"

// TestSheetsToConfiguration is the job the product is for: three sheets with a
// bad cell and a collision come in, both are fixed on the screen, and a
// configuration goes out.
func TestSheetsToConfiguration(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "serve", folder(t)))
	d.write(d.labelled("Name of a new estate"), "Vale Water")
	d.click("button", "Start empty")
	d.find("h2", "The ledger is empty")
	d.click("a", "Import them")

	d.write(d.labelled("Sheet of sites"), sites)
	d.write(d.labelled("Sheet of WAN links"), links)
	d.write(d.labelled("Sheet of LAN subnets"), subnets)
	d.click("button", "Preview")
	d.find("td", "expected a number without unit")
	d.find("td", `has an error in row 4 of the sites sheet`)
	d.find("td", "host bits were set")
	d.find("button", "Import 6 good rows, leave 4 out")
	cell := d.labelled("sites, row 4, demand_mbps")
	d.write(cell, "40")
	d.must(cell.Type(input.Enter))
	d.click("button", "Import 10 rows")

	d.find("[data-row] span", "Withybrook Works")
	d.click("nav a", "Shape")
	d.find("form p", "An overlay is a set of tunnels")
	d.click("button", "Make the overlay")
	hub := d.labelled("Add a hub")
	d.must(hub.Select([]string{"Millgate Office"}, true, "text"))
	d.find("section", "Make the other 2 sites spokes")
	d.click("button", "Make the other 2 sites spokes")
	d.find("p", "3 tunnels among 3 sites")
	for _, zone := range []string{"control", "office"} {
		d.click("label", zone)
		d.find("tr", zone)
	}
	d.click("nav a", "Addresses")
	d.find("p", "stonebeck and withybrook both use 10.40.2.0/24 in ops")

	// The finding leads to the field that is to be fixed.
	d.click("li a", "withybrook 10.40.2.0/24")
	d.find("form[aria-label='Edit Withybrook Works']", "WAN links")
	field, err := d.page.Element(`[name="subnets[0].prefix"]:focus`)
	d.must(err)
	d.write(field, "10.40.300.0/24")
	d.click("form button", "Save")
	d.find("form p", "is not an IPv4 or IPv6 prefix")
	d.write(field, "10.40.3.0/24")
	d.click("form button", "Save")
	d.gone("form", "WAN links")
	d.find("footer", "0 errors")

	d.click("nav a", "Paths")
	d.click("td a", "Withybrook Works")
	d.find("h2", "to millgate")
	d.click("[role=tab]", "Configuration")
	d.find("pre", "sh apply --try 180")
	d.click("button", "Reveal the private key")
	key, err := d.find("code", "=").Text()
	d.must(err)
	d.click("label", "with the private key")
	archive := d.download("button", "Download all (zip)")
	files, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	d.must(err)
	found := false
	for _, f := range files.File {
		r, err := f.Open()
		d.must(err)
		text, err := io.ReadAll(r)
		d.must(err)
		if f.Name == "withybrook/secrets/private.key" {
			found = strings.TrimSpace(string(text)) == key
		}
	}
	if !found {
		t.Errorf("the archive has no configuration with the key; it has %d files", len(files.File))
	}
}

// TestEditInPlaceAndUndo edits, deletes and adds a site on the demo estate and
// takes each back.
func TestEditInPlaceAndUndo(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.click("td a", "Brindlewater")
	d.click("td a", "First draft")
	d.open("Mossgill Works")
	d.write(d.labelled("Name"), "Mossgill Treatment Works")
	d.press(input.ControlLeft, input.Enter)
	d.find("[data-row]", "Mossgill Treatment Works")
	d.find("[data-testid=last-edit]", "Edit Mossgill Treatment Works")
	d.press(input.ControlLeft, input.KeyZ)
	d.gone("[data-row]", "Mossgill Treatment Works")
	d.find("[data-row]", "Mossgill Works")

	d.open("Mossgill Works")
	d.click("form button", "Delete the site")
	d.find("nav", "39 sites")
	d.click("footer button", "Undo")
	d.find("nav", "40 sites")

	d.click("button", "Add a site")
	d.write(d.labelled("Site key"), "Bad Key")
	d.click("form button", "Add the site")
	d.find("form p", "cannot be a site key")
	d.write(d.labelled("Site key"), "good-key")
	d.click("form button", "Add the site")
	d.find("nav", "41 sites")
	d.press(input.ControlLeft, input.KeyZ)
	d.find("nav", "40 sites")
	d.press(input.ControlLeft, input.ShiftLeft, input.KeyZ)
	d.find("nav", "41 sites")
}

// TestKeysAlone goes through the stages and reorders hubs without the mouse.
func TestKeysAlone(t *testing.T) {
	t.Parallel()
	d := sitDown(t, launch(t, "demo", folder(t)))
	d.goTo("/e/brindlewater/d/first/shape")
	hub := d.find("ol button", "quillbeck")
	d.must(hub.Focus())
	d.press(input.AltLeft, input.ArrowUp)
	d.find("ol li:first-child button", "quillbeck")
	d.find("[data-testid=last-edit]", "Shape ops")
	d.must(d.find("h1", "Shape").Focus())
	d.press(input.Digit2)
	d.find("h1", "Addresses")
	d.press(input.Digit1)
	d.find("h1", "Survey")
	row := d.find("[data-row]", "Harrowmere")
	d.must(row.Focus())
	d.press(input.ArrowDown)
	d.press(input.Enter)
	d.find("form", "Subnets")
	d.press(input.Escape)
	d.gone("form", "Subnets")
}

// open opens a site in the ledger and waits until its form has the focus, and
// so no longer moves.
func (d *desk) open(site string) {
	d.t.Helper()
	d.click("[data-row]", site)
	_, err := d.page.Timeout(15 * time.Second).Element(`form [name="name"]:focus`)
	d.must(err)
	d.must(d.page.WaitStable(200 * time.Millisecond))
}

// TestRenamedLinkKeepsWhatTheFormDoesNotShow renames a link in the ledger: what
// the form has no field for stays with it.
func TestRenamedLinkKeepsWhatTheFormDoesNotShow(t *testing.T) {
	t.Parallel()
	a := launch(t, "demo", folder(t))
	p := a.signedIn(t, demoOwner, demoPassword)
	const first = "/api/estates/brindlewater/drafts/first"
	mossgill := func() map[string]any {
		for _, s := range p.get(first + "/document?format=json")["sites"].([]any) {
			if site := s.(map[string]any); site["key"] == "mossgill" {
				return site
			}
		}
		return nil
	}
	before := mossgill()
	before["links"].([]any)[1].(map[string]any)["families"] = []string{"v4"}
	p.must("PUT", first+"/sites/mossgill", before, nil)
	d := sitDown(t, a)
	d.goTo(inDraft + "survey?site=mossgill")
	d.write(d.find(`[name="links[1].key"]`, ""), "lte")
	d.click("form button", "Save")
	d.find("[data-testid=last-edit]", "Mossgill")
	d.gone("form", "Subnets")
	if l := mossgill()["links"].([]any)[1].(map[string]any); l["key"] != "lte" || l["families"] == nil {
		t.Errorf("the link became %v", l)
	}
}
