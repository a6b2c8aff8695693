package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"
)

// views are the pages of the application, on the demo estate.
var views = []string{
	"/", "/me", "/accounts", "/e/brindlewater", "/e/brindlewater/people", "/e/brindlewater/audit",
	"/e/brindlewater/compare?from=release-0&to=release-1",
	inDraft + "survey", inDraft + "survey?site=tarnhollow", inDraft + "survey?look=tarnhollow", inDraft + "paths/tarnhollow?look=tunnel:ops:harrowmere/ring%20tarnhollow/ring", inDraft + "survey/import", inDraft + "survey/regions",
	inDraft + "addresses", inDraft + "addresses?prefix=192.168.40.0/24&site=crossfold",
	inDraft + "shape", inDraft + "shape?a=tarnhollow&b=harrowmere", inDraft + "shape?view=members", inDraft + "shape?view=policy", inDraft + "shape?view=settings", inDraft + "shape?overlay=works-mesh",
	inDraft + "paths", inDraft + "paths/tarnhollow", inDraft + "paths/tarnhollow?view=routes", inDraft + "paths/tarnhollow?view=configuration",
	"/e/brindlewater/d/winter-round/paths/osierweir?view=changes", inDraft + "paths/-/follow?from=10.20.24.9&to=10.16.4.1",
	inDraft + "paths/-/tunnel?overlay=ops&tunnel=harrowmere/ring%20tarnhollow/ring",
	inDraft + "outages", inDraft + "outages?fail=link:alderfold/copper&a=alderfold&b=mossgill", inDraft + "outages?view=standing", inDraft + "outages?view=plan", "/e/brindlewater/d/winter-round/outages?view=changes",
	inDraft + "findings", "/e/brindlewater/d/winter-round/release", "/e/brindlewater/d/release-1/survey",
}

// TestAccessibility finds no serious violation on any view, in both themes; three
// people look at once.
func TestAccessibility(t *testing.T) {
	t.Parallel()
	axe := axeScript(t)
	a := launch(t, "demo", folder(t))
	const people = 3
	for n := range people {
		t.Run(fmt.Sprint("part ", n+1), func(t *testing.T) {
			t.Parallel()
			d := sitDown(t, a)
			d.page = d.page.CancelTimeout().Timeout(5 * time.Minute)
			for i := n; i < len(views); i += people {
				d.looksAccessible(axe, views[i])
			}
		})
	}
	t.Run("stranger", func(t *testing.T) {
		t.Parallel()
		stranger := sitDownAs(t, a, "", "")
		stranger.looksAccessible(axe, "/")
		stranger.looksAccessible(axe, "/welcome#nothing")
	})
}

// axeScript is the program that judges pages.
func axeScript(t *testing.T) []byte {
	t.Helper()
	text, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("%v; make build installs it", err)
	}
	return text
}

// looksAccessible opens a page and has axe judge it.
func (d *desk) looksAccessible(axe []byte, path string) {
	d.t.Helper()
	d.goTo(path)
	d.must(d.page.WaitLoad())
	d.find("h1", "")
	time.Sleep(400 * time.Millisecond) // for what loads after the heading
	// As a statement of the debugger's: pages may not evaluate text.
	if _, err := (proto.RuntimeEvaluate{Expression: string(axe)}).Call(d.page); err != nil {
		d.t.Fatal(err)
	}
	// Inside a draft only the stage scrolls, never the page with its strip and bar.
	if over := d.page.MustEval(`() => document.documentElement.scrollHeight - innerHeight`).Int(); strings.Contains(path, "/d/") && over > 0 {
		d.t.Errorf("%s is %d pixels higher than the window", path, over)
	}
	// The themes differ in nothing but colours.
	for _, of := range [][2]string{{"paper", ""}, {"night", "color-contrast"}} {
		theme, rules := of[0], of[1]
		got, err := d.page.Eval(`async (theme, rules) => {
			document.documentElement.dataset.theme = theme;
			await new Promise((done) => setTimeout(done, 250)); // colours fade over
			const only = rules ? { runOnly: [rules] } : {};
			const found = await axe.run(document, { resultTypes: ["violations"], ...only });
			return found.violations.filter((v) => v.impact === "serious" || v.impact === "critical")
				.map((v) => v.id + ": " + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160) + " " + (n.any[0]?.message ?? "")).join(" | ")).join("\n");
		}`, theme, rules)
		if err != nil {
			d.t.Fatalf("%s: %v", path, err)
		}
		if text := got.Value.Str(); text != "" {
			d.t.Errorf("%s in %s:\n%s", path, theme, strings.TrimSpace(text))
		}
	}
}
