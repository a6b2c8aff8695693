// Command pace measures the pages in a browser on a synthetic estate: how soon
// they are usable, how soon an edit shows its consequences, how evenly they
// scroll, what they load.
package main

import (
	"flag"
	"fmt"
	"log"
	"slices"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"

	"wideknot/e2e/browser"
	"wideknot/e2e/sampled"
)

func main() {
	binary := flag.String("binary", "bin/wideknot", "the program")
	sites := flag.Int("sites", 1000, "spokes of the estate")
	links := flag.Int("links", 3, "WAN links of each")
	flag.Parse()
	if err := run(*binary, *sites, *links); err != nil {
		log.Fatal(err)
	}
}

// watching notes layout shifts from the start of a page.
const watching = `
	window.shift = 0;
	new PerformanceObserver((list) => {
		for (const e of list.getEntries()) if (!e.hadRecentInput) window.shift += e.value;
	}).observe({ type: "layout-shift", buffered: true });
`

func run(binary string, sites, links int) error {
	server, err := sampled.Start(binary, sites, links)
	if err != nil {
		return err
	}
	defer server.Stop()
	b, stop, err := browser.Start()
	if err != nil {
		return err
	}
	defer stop()
	page, err := browser.Open(b, server.URL)
	if err != nil {
		return err
	}
	page = page.Timeout(5 * time.Minute)
	if err := browser.SignIn(page, sampled.Email, sampled.Password); err != nil {
		return err
	}
	if _, err := page.EvalOnNewDocument(watching); err != nil {
		return err
	}
	base := server.URL + sampled.Page
	for _, v := range []struct{ name, path, ready, scroller string }{
		{"Survey", "/survey", "[data-row]", "main .overflow-auto"},
		{"Addresses", "/addresses", "[aria-label=Ruler] button", "[aria-label=Ruler]"},
		{"Shape", "/shape", "[data-cell]", "[aria-label=Loom] .overflow-auto"},
		{"Paths", "/paths", "main a", ""},
		{"Outages", "/outages", "button[data-failure]", ""},
		{"Plan", "/outages?view=plan", "[data-pattern]", ""},
		{"Compared", "/outages?view=changes", "p[role=status] strong", ""},
	} {
		if err := view(page, base+v.path, v.name, v.ready, v.scroller); err != nil {
			return fmt.Errorf("%s: %w", v.name, err)
		}
	}
	if err := loaded(page, base+"/survey"); err != nil {
		return err
	}
	return edits(page, base+"/survey")
}

// view measures how soon a page can be used, and how it scrolls.
func view(page *rod.Page, url, name, ready, scroller string) error {
	var waits []time.Duration
	shift := 0.0
	for range 5 {
		start := time.Now()
		if err := page.Navigate(url); err != nil {
			return err
		}
		if _, err := page.Element(ready); err != nil {
			return err
		}
		waits = append(waits, time.Since(start))
		time.Sleep(300 * time.Millisecond) // for what the first look still lacks
		if _, err := page.Eval(`() => { window.before = window.shift }`); err != nil {
			return err
		}
		time.Sleep(1500 * time.Millisecond)
		got, err := page.Eval(`() => window.shift - window.before`)
		if err != nil {
			return err
		}
		shift = max(shift, got.Value.Num())
	}
	slices.Sort(waits)
	fmt.Printf("%-10s usable after %4d ms (median of 5, worst %d), layout shift after load %.3f", name, waits[2].Milliseconds(), waits[4].Milliseconds(), shift)
	if scroller != "" {
		got, err := page.Eval(scrolling, scroller)
		if err != nil {
			return err
		}
		frames := got.Value.Arr()
		var times []float64
		for _, f := range frames {
			times = append(times, f.Num())
		}
		slices.Sort(times)
		at := func(q float64) float64 { return times[int(q*float64(len(times)-1))] }
		fmt.Printf("; scrolling %d frames: p50 %.0f ms, p95 %.0f ms, worst %.0f ms", len(times), at(.5), at(.95), at(1))
	}
	fmt.Println()
	return nil
}

// scrolling moves a list for three seconds at a brisk pace and returns how
// long each frame took.
const scrolling = `async (selector) => {
	const box = [...document.querySelectorAll(selector)].find((e) => e.scrollHeight > e.clientHeight + 50);
	if (!box) throw new Error("nothing scrolls at " + selector);
	const frames = [];
	let last = performance.now();
	const end = last + 3000;
	let by = 60;
	await new Promise((done) => {
		const step = (now) => {
			frames.push(now - last);
			last = now;
			if (box.scrollTop + box.clientHeight >= box.scrollHeight - 2) by = -60;
			if (box.scrollTop <= 0) by = 60;
			box.scrollTop += by;
			if (now < end) requestAnimationFrame(step); else done();
		};
		requestAnimationFrame(step);
	});
	return frames.slice(1);
}`

// loaded adds up what scripts the first load of a page takes over the wire.
func loaded(page *rod.Page, url string) error {
	if err := page.Navigate(url); err != nil {
		return err
	}
	if _, err := page.Element("[data-row]"); err != nil {
		return err
	}
	got, err := page.Eval(`async () => {
		let bytes = 0;
		for (const e of performance.getEntriesByType("resource").filter((e) => e.name.endsWith(".js"))) {
			const text = await (await fetch(e.name)).blob();
			bytes += (await new Response(text.stream().pipeThrough(new CompressionStream("gzip"))).blob()).size;
		}
		return bytes;
	}`)
	if err != nil {
		return err
	}
	fmt.Printf("scripts of the first load, gzip: %d kB\n", got.Value.Int()/1000)
	return nil
}

// edits measures from pressing the keys that save a site to the consequences
// at the bottom of the page.
func edits(page *rod.Page, url string) error {
	var waits []time.Duration
	for i := range 8 {
		if err := page.Navigate(url); err != nil {
			return err
		}
		rows, err := page.Element(fmt.Sprintf("[data-row='%d']", 5+i))
		if err != nil {
			return err
		}
		if err := rows.Click("left", 1); err != nil {
			return err
		}
		rank, err := page.Element("form [name='links[0].rank']")
		if err != nil {
			return err
		}
		time.Sleep(500 * time.Millisecond)
		if err := rank.SelectAllText(); err != nil {
			return err
		}
		if err := rank.Input("9"); err != nil {
			return err
		}
		before, err := page.Eval(`() => document.querySelector("footer").textContent`)
		if err != nil {
			return err
		}
		start := time.Now()
		if err := page.KeyActions().Press(input.ControlLeft).Type(input.Enter).Do(); err != nil {
			return err
		}
		if err := page.Wait(rod.Eval(`(before) => {
			const bar = document.querySelector("[data-testid=consequences]")?.textContent ?? "";
			return bar !== "" && !before.includes(bar);
		}`, before.Value.Str())); err != nil {
			return err
		}
		waits = append(waits, time.Since(start))
	}
	slices.Sort(waits)
	fmt.Printf("an edit in place to its consequences on the page: median %d ms, worst of 8 %d ms\n", waits[4].Milliseconds(), waits[7].Milliseconds())
	return nil
}
