// Command shots takes the pictures of the main views for docs/screenshots from
// a running demo, or one picture of any page.
package main

import (
	"flag"
	"log"
	"os"
	"path/filepath"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"wideknot/e2e/browser"
)

var views = []struct{ name, path, script string }{
	{"survey", "/e/brindlewater/d/first/survey", ""},
	{"import", "/e/brindlewater/d/first/survey/import", pasted},
	{"addresses", "/e/brindlewater/d/first/addresses", ""},
	{"shape", "/e/brindlewater/d/first/shape?a=tarnhollow&b=harrowmere", ""},
	{"follow", "/e/brindlewater/d/first/paths/-/follow?from=10.20.24.9&to=10.16.4.1", ""},
	{"both-ends", "/e/brindlewater/d/first/paths/-/tunnel?overlay=ops&tunnel=osierweir/fibre%20quillbeck/fibre-a", ""},
	{"findings", "/e/brindlewater/d/first/findings", ""},
	{"site-tunnels", "/e/brindlewater/d/first/paths/tarnhollow", ""},
	{"outages", "/e/brindlewater/d/first/outages?fail=link:alderfold/copper&a=alderfold&b=mossgill", settle},
	{"release", "/e/brindlewater/d/winter-round/release", ""},
	{"watch", "/e/brindlewater/d/first/watch", settle},
	{"gateway", "/e/brindlewater/d/first/watch/tarnhollow", settle},
	{"why", "/e/brindlewater/d/first/watch/-/why?from=10.16.4.10&to=10.20.45.9", settle},
	{"over-time", "/e/brindlewater/d/first/watch/-/time?site=tarnhollow&interface=harrowmere-2", settle},
	{"drill", "/e/brindlewater/d/first/watch/-/drills?fail=provider:Lumenway", asks + `
	await ask("windows", { begins_at: new Date(Date.now() - 60000).toISOString(), minutes: 30, words: "a drill of Lumenway" });
	const begin = () => [...document.querySelectorAll("button")].find((b) => b.textContent === "Begin the drill" && !b.disabled);
	for (let n = 0; n < 40 && !begin(); n++) {
		await new Promise((done) => setTimeout(done, 1000));
	}
	begin().click();
	await new Promise((done) => setTimeout(done, 46000));`},
	{"live-loom", "/e/brindlewater/d/first/watch/-/loom", asks + `
	await ask("drills", { part: "link:quillbeck/fibre-a", seconds: 40 });
	await new Promise((done) => setTimeout(done, 15000));`},
	// These change the demo, so they are the last: its draft is released, and goes to its gateways.
	{"rollout-plan", "/e/brindlewater/d/winter-round/release?view=plan", asks + `
	await ask("drafts/winter-round/release", { message: "Winter round", reason: "as surveyed" });
	await new Promise((done) => setTimeout(done, 3000));`},
	{"rollout-run", "/e/brindlewater/d/winter-round/release?view=run", asks + `
	await ask("rollouts", { release: 2, soak_s: 5, by_hand: false, away: 0, without_away: false });
	await new Promise((done) => setTimeout(done, 20000));`},
	{"rollout-proof", "/e/brindlewater/d/winter-round/release?view=proof", `
	for (let n = 0; n < 150; n++) {
		const list = await (await fetch("/api/estates/brindlewater/rollouts")).json();
		if (list[0].state === "done") {
			break;
		}
		await new Promise((done) => setTimeout(done, 1000));
	}
	await new Promise((done) => setTimeout(done, 1500));`},
}

// asks lets a script send something to the estate.
const asks = `
	const ask = (path, body) => fetch("/api/estates/brindlewater/" + path, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });`

// settle waits for what is worked out after the page is there.
const settle = `await new Promise((done) => setTimeout(done, 1200));`

// pasted fills the import page with sheets that have mistakes, and previews
// them.
const pasted = `
	const paste = (at, text) => {
		const box = document.querySelectorAll("textarea")[at];
		Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(box, text);
		box.dispatchEvent(new Event("input", { bubbles: true }));
	};
	paste(0, "key;name;region;demand_mbps\nmillgate;Millgate Office;vale;100\nstonebeck;Stonebeck Station;vale;4,5\nwithybrook;Withybrook Works;vale;forty\n");
	paste(1, "site;key;reach;addresses;rank\nmillgate;fibre;static;203.0.113.10;1\nstonebeck;cell;NAT;;1\nwithybrook;fibre;static;;1\nmilgate;cell;nat;;2\n");
	paste(2, "site;prefix;zone\nmillgate;10.40.1.0/24;office\nstonebeck;10.40.2.9/24;control\nmillgate;10.40.2.0/240;control\n");
	await new Promise((done) => setTimeout(done, 200));
	[...document.querySelectorAll("button")].find((b) => b.textContent === "Preview").click();
	await new Promise((done) => setTimeout(done, 600));
`

func main() {
	server := flag.String("url", "http://127.0.0.1:8080", "where the demo runs")
	out := flag.String("out", "docs/screenshots", "folder for the pictures")
	page := flag.String("page", "", "take this page only, as page.png")
	theme := flag.String("theme", "paper", "paper or night")
	as := flag.String("as", "olive.owner@demo.example", "who looks; empty for nobody")
	password := flag.String("password", "for the demo only", "the password for it")
	width := flag.Int("width", browser.Width, "of the window")
	script := flag.String("script", "", "JavaScript to run before the picture is taken")
	flag.Parse()
	b, stop, err := browser.Start()
	if err != nil {
		log.Fatal(err)
	}
	defer stop()
	if *page != "" {
		views = views[:1]
		views[0].name, views[0].path, views[0].script = "page", *page, *script
	}
	if err := os.MkdirAll(*out, 0o755); err != nil {
		log.Fatal(err)
	}
	if *as != "" {
		page, err := browser.Open(b, *server)
		if err != nil {
			log.Fatal(err)
		}
		if err := browser.SignIn(page, *as, *password); err != nil {
			log.Fatal(err)
		}
		if err := page.Close(); err != nil {
			log.Fatal(err)
		}
	}
	for _, v := range views {
		if err := take(b, *server+v.path, *theme, *width, v.script, filepath.Join(*out, v.name+".png")); err != nil {
			log.Fatalf("%s: %v", v.name, err)
		}
	}
}

func take(b *rod.Browser, url, theme string, width int, script, file string) error {
	page, err := browser.Open(b, url)
	if err != nil {
		return err
	}
	defer page.Close()
	if err := page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: width, Height: browser.Height, DeviceScaleFactor: 1}); err != nil {
		return err
	}
	if err := page.WaitLoad(); err != nil {
		return err
	}
	if _, err := page.Eval(`theme => { document.documentElement.dataset.theme = theme }`, theme); err != nil {
		return err
	}
	time.Sleep(900 * time.Millisecond) // a page that listens to events never falls silent
	if script != "" {
		if _, err := page.Eval(`async () => {` + script + `}`); err != nil {
			return err
		}
		time.Sleep(500 * time.Millisecond)
	}
	picture, err := page.Screenshot(false, nil)
	if err != nil {
		return err
	}
	return os.WriteFile(file, picture, 0o644)
}
