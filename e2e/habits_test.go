package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
)

// TestEditsOutliveThePage changes something and leaves the page at once, again
// and again: every edit arrives.
func TestEditsOutliveThePage(t *testing.T) {
	t.Parallel()
	a := launch(t, "demo", folder(t))
	d := sitDown(t, a)
	shape := inDraft + "shape?overlay=works-mesh&view=settings"
	owner := a.signedIn(t, demoOwner, demoPassword)
	steps := func() float64 {
		return owner.get("/api/estates/brindlewater/drafts/first")["revision"].(float64)
	}
	arrived := func(revision float64) bool {
		for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
			if steps() == revision {
				return true
			}
		}
		return false
	}
	for i, choice := range []string{"two for each tunnel", "one for each site", "two for each tunnel", "one for each site"} {
		d.goTo(shape)
		before := steps()
		box := d.labelled("Tunnel addresses")
		d.must(box.Select([]string{choice}, true, "text"))
		d.goTo("/")
		if !arrived(before + 1) {
			t.Fatalf("edit %d did not arrive: revision %v after %v", i+1, steps(), before)
		}
	}
}

// TestFocusStaysInThePreview fixes one bad cell after the other without a hand on
// the mouse.
func TestFocusStaysInThePreview(t *testing.T) {
	t.Parallel()
	a := launch(t, "serve", folder(t))
	a.admin(t).must("POST", "/api/estates", map[string]string{"name": "Vale"}, nil)
	d := sitDownAs(t, a, adminEmail, adminPassword)
	d.goTo("/e/vale/d/first/survey/import")
	d.write(d.labelled("Sheet of sites"), "key,name,demand_mbps\na,A,x\nb,B,y\nc,C,z\n")
	d.click("button", "Preview")
	d.must(d.labelled("sites, row 2, demand_mbps").Focus())
	for row := 2; row <= 4; row++ {
		label := fmt.Sprintf("sites, row %d, demand_mbps", row)
		d.waitFocus(label)
		d.must(d.labelled(label).SelectAllText())
		d.press(input.Digit7)
		d.press(input.Enter)
	}
	d.click("button", "Import 3 rows")
	d.find("[data-row]", "C")

	// What is no sheet is not taken, and says what it is.
	d.goTo("/e/vale/d/first/survey/import")
	d.write(d.labelled("Sheet of sites"), "Our sites\nkey,name\na,A\n")
	d.click("button", "Preview")
	d.find("td", "row 2 looks like it")
	d.find("p", "A sheet cannot be read")
}

func (d *desk) waitFocus(label string) {
	d.t.Helper()
	if err := d.page.Timeout(15 * time.Second).Wait(rod.Eval(`label => document.activeElement?.getAttribute("aria-label") === label`, label)); err != nil {
		d.t.Fatalf("the focus is not in %q: %v", label, err)
	}
}

// TestSitesOfAnyNameAreOpened opens sites whose keys are words of the pages' own
// addresses, and an address at which there is nothing.
func TestSitesOfAnyNameAreOpened(t *testing.T) {
	t.Parallel()
	a := launch(t, "serve", folder(t))
	admin := a.admin(t)
	admin.must("POST", "/api/estates", map[string]string{"name": "Vale"}, nil)
	for _, key := range []string{"follow", "tunnel", "import", "new"} {
		admin.must("PUT", "/api/estates/vale/drafts/first/sites/"+key, map[string]string{"key": key, "name": "Site called " + key}, nil)
	}
	d := sitDownAs(t, a, adminEmail, adminPassword)
	for _, key := range []string{"follow", "tunnel", "import", "new"} {
		d.goTo("/e/vale/d/first/paths/" + key)
		d.find("h1", "Site called "+key)
	}
	d.goTo("/nowhere/at/all")
	d.find("h1", "Nothing is here")
	d.click("a", "To your estates")
	d.find("a", "Vale")
}

// TestTheEntranceSaysKnownThingsOnly follows a link that would put words into our
// mouth.
func TestTheEntranceSaysKnownThingsOnly(t *testing.T) {
	t.Parallel()
	d := sitDownAs(t, launch(t, "demo", folder(t)), "", "")
	d.goTo("/?problem=Call+this+number+now")
	d.find("h1", "Wide Knot")
	d.gone("p", "Call this number")
	d.goTo("/?problem=journey")
	d.find("[role=alert]", "was not begun in this browser")
}

// TestAnEstateIsDeletedByItsName types the name of an estate to be rid of it, and
// looks up in another's audit what an edit changed.
func TestAnEstateIsDeletedByItsName(t *testing.T) {
	t.Parallel()
	a := launch(t, "demo", folder(t))
	a.signedIn(t, demoOwner, demoPassword).must("POST", "/api/estates", map[string]string{"name": "Mistake"}, nil)
	d := sitDown(t, a)
	d.goTo("/e/mistake")
	d.click("summary", "Delete this estate")
	d.write(d.labelled("Type its name, Mistake, to delete it"), "Mistak")
	if off, err := d.find("button", "Delete the estate").Disabled(); err != nil || !off {
		t.Errorf("half a name is enough: %v", err)
	}
	d.write(d.labelled("Type its name, Mistake, to delete it"), "Mistake")
	d.click("button", "Delete the estate")
	d.find("a", "Brindlewater")
	d.gone("a", "Mistake")
	if status, _, _ := a.signedIn(t, demoOwner, demoPassword).do("GET", "/api/estates/mistake", nil); status != http.StatusNotFound {
		t.Errorf("it answers %d", status)
	}

	d.goTo("/e/brindlewater/audit?text=winter-round")
	row := d.find("tr", "Shape ops")
	what, err := row.Element("summary")
	d.must(err)
	d.must(what.Click(proto.InputMouseButtonLeft, 1))
	d.find("pre", "spokes")
}

// TestTheRulerWritesIPv6AsTheServer looks at addresses whose longest run of zeros is
// not its first.
func TestTheRulerWritesIPv6AsTheServer(t *testing.T) {
	t.Parallel()
	a := launch(t, "serve", folder(t))
	admin := a.admin(t)
	admin.must("POST", "/api/estates", map[string]string{"name": "Vale"}, nil)
	admin.must("PUT", "/api/estates/vale/drafts/first/about", map[string]any{"name": "Vale", "regions": []any{map[string]any{"key": "v", "blocks": []string{"fd00:0:0:1::/64"}}}}, nil)
	admin.must("PUT", "/api/estates/vale/drafts/first/sites/a", map[string]any{"key": "a", "name": "A", "region": "v", "subnets": []any{map[string]any{"prefix": "fd00:0:0:1:8000::/66"}}}, nil)
	d := sitDownAs(t, a, adminEmail, adminPassword)
	d.goTo("/e/vale/d/first/addresses")
	d.find("body", "fd00:0:0:1:8000::/68")
	text, err := d.find("main", "").HTML()
	d.must(err)
	if strings.Contains(text, "fd00::1:") {
		t.Error("the page leaves out another run of zeros than the server")
	}
}
