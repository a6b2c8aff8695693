package e2e

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"

	"wideknot/e2e/browser"
)

// An app is the real program in a process of its own, as users start it.
type app struct {
	url     string
	demo    bool
	link    string // secret of the one-time link for the administrator, if one was printed
	folder  string
	command *exec.Cmd
}

const binary = "../bin/wideknot"

// launch starts a subcommand on a free port and waits for it to say where it
// is.
func launch(t testing.TB, subcommand, folder string, more ...string) *app {
	t.Helper()
	if _, err := os.Stat(binary); err != nil {
		t.Fatalf("%v; make build makes it", err)
	}
	fill(t, subcommand, folder, more)
	if subcommand == "demo" && !slices.Contains(more, "--stand-ins-listen") { // they take more of the machine than the rest
		more = append(more, "--stand-ins=false")
	}
	command := exec.Command(binary, append([]string{subcommand, "--listen", "127.0.0.1:0", "--var", folder}, more...)...)
	command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	command.Stderr = os.Stderr
	out, err := command.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	a := &app{demo: subcommand == "demo", folder: folder, command: command}
	t.Cleanup(func() {
		command.Process.Signal(syscall.SIGINT)
		command.Wait()
	})
	lines := make(chan string)
	go func() {
		defer close(lines)
		for scanner := bufio.NewScanner(out); scanner.Scan(); {
			lines <- scanner.Text()
		}
	}()
	for line := range lines {
		if m := regexp.MustCompile(`Wide Knot is at (\S+)`).FindStringSubmatch(line); m != nil {
			a.url = m[1]
			break
		}
	}
	if a.url == "" {
		t.Fatal("the program did not say where it is")
	}
	select {
	case line := <-lines:
		if m := regexp.MustCompile(`/welcome#(\w+)`).FindStringSubmatch(line); m != nil {
			a.link = m[1]
		}
	case <-time.After(300 * time.Millisecond):
	}
	go func() {
		for range lines { // so that the program never waits for us to read
		}
	}()
	return a
}

// folder makes a short-lived folder with a path short enough for sockets.
func folder(t testing.TB) string {
	t.Helper()
	name, err := os.MkdirTemp(quickFolder(), "wk-e2e-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(name) })
	return name
}

// A desk is someone at the screen. Its steps fail the test when the screen
// does not show in time what they look for.
type desk struct {
	t    *testing.T
	page *rod.Page
	base string
}

// sitDown opens a browser, signed in as the administrator: the demo's owner, or
// whoever uses the one-time link.
func sitDown(t *testing.T, a *app) *desk {
	t.Helper()
	if a.demo {
		return sitDownAs(t, a, demoOwner, demoPassword)
	}
	a.admin(t)
	return sitDownAs(t, a, adminEmail, adminPassword)
}

// One Chromium serves all tests; stopChromium ends it.
var (
	stopChromium = func() {}
	chromium     = sync.OnceValues(func() (*rod.Browser, error) {
		b, stop, err := browser.Start()
		if err == nil {
			stopChromium = stop
		}
		return b, err
	})
)

// newContext is a browser that shares nothing with others, cookies included.
func newContext() (*rod.Browser, error) {
	b, err := chromium()
	if err != nil {
		return nil, err
	}
	return b.Incognito()
}

// sitDownAs opens a browser; with an empty address nobody is signed in.
func sitDownAs(t *testing.T, a *app, email, password string) *desk {
	t.Helper()
	own, err := newContext()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = own.Close() })
	page, err := browser.Open(own, a.url)
	if err != nil {
		t.Fatal(err)
	}
	d := &desk{t, page.Timeout(90 * time.Second), a.url}
	if email != "" {
		d.must(browser.SignIn(page, email, password))
		d.must(page.Navigate(a.url))
	}
	t.Cleanup(func() {
		if t.Failed() {
			if picture, err := page.Timeout(5*time.Second).Screenshot(false, nil); err == nil {
				path := filepath.Join(os.TempDir(), strings.ReplaceAll(t.Name(), "/", "-")+".png")
				os.WriteFile(path, picture, 0o644)
				t.Logf("the screen at that moment: %s", path)
			}
		}
	})
	return d
}

func (d *desk) must(err error) {
	d.t.Helper()
	if err != nil {
		d.t.Fatal(err)
	}
}

// find waits for an element that holds the text, or for any with an empty one.
func (d *desk) find(selector, text string) *rod.Element {
	d.t.Helper()
	return d.await(15*time.Second, selector, text)
}

// await is find for what takes longer.
func (d *desk) await(within time.Duration, selector, text string) *rod.Element {
	d.t.Helper()
	e, err := d.page.Timeout(within).Element(selector)
	if text != "" {
		e, err = d.page.Timeout(within).ElementR(selector, regexp.QuoteMeta(text))
	}
	if err != nil {
		body, _ := d.page.Timeout(time.Second).Element("body")
		shown := ""
		if body != nil {
			shown, _ = body.Text()
		}
		d.t.Fatalf("no %s with %q: %v\nThe screen shows:\n%s", selector, text, err, shown)
	}
	return e.CancelTimeout().Timeout(30 * time.Second)
}

// click clicks once nothing moves any more: what loads above moves what is below, or is made anew
// and has to be found again.
func (d *desk) click(selector, text string) {
	d.t.Helper()
	var err error
	for range 4 {
		e := d.find(selector, text).CancelTimeout().Timeout(8 * time.Second)
		if err = e.WaitStableRAF(); err == nil {
			err = e.Click(proto.InputMouseButtonLeft, 1)
		}
		if err == nil {
			return
		}
	}
	d.must(err)
}

// labelled finds a control by its label or its aria-label.
func (d *desk) labelled(label string) *rod.Element {
	d.t.Helper()
	e, err := d.page.Timeout(15 * time.Second).ElementByJS(rod.Eval(`label => {
		const named = document.querySelector('[aria-label="' + CSS.escape(label) + '"]');
		if (named) return named;
		const found = [...document.querySelectorAll("label")].find((l) => [l, l.firstChild].some((n) => n?.textContent.trim() === label));
		return found ? (found.control ?? found.querySelector("input,select,textarea")) : null;
	}`, label))
	if err != nil {
		d.t.Fatalf("no control labelled %q: %v", label, err)
	}
	return e.CancelTimeout().Timeout(30 * time.Second)
}

// write replaces what a control holds.
func (d *desk) write(e *rod.Element, text string) {
	d.t.Helper()
	d.must(e.SelectAllText())
	d.must(e.Input(text))
}

func (d *desk) gone(selector, text string) {
	d.t.Helper()
	for range 100 {
		if found, _, err := d.page.HasR(selector, regexp.QuoteMeta(text)); err == nil && !found {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	d.t.Fatalf("%s with %q does not go away", selector, text)
}

func (d *desk) press(keys ...input.Key) {
	d.t.Helper()
	actions := d.page.KeyActions()
	for _, k := range keys[:len(keys)-1] {
		actions = actions.Press(k)
	}
	d.must(actions.Type(keys[len(keys)-1]).Do())
}

func (d *desk) goTo(path string) {
	d.t.Helper()
	d.must(d.page.Navigate(d.base + path))
}

// download clicks and returns the file that comes of it.
func (d *desk) download(selector, text string) []byte {
	d.t.Helper()
	wait := d.page.Browser().Timeout(30 * time.Second).WaitDownload(d.t.TempDir())
	d.click(selector, text)
	info := wait()
	if info == nil {
		d.t.Fatal("nothing was downloaded")
	}
	time.Sleep(200 * time.Millisecond)
	matches, _ := filepath.Glob(filepath.Join(os.TempDir(), fmt.Sprintf("*/*/%s", info.GUID)))
	for _, m := range matches {
		if content, err := os.ReadFile(m); err == nil {
			return content
		}
	}
	d.t.Fatalf("the file %s is not there", info.SuggestedFilename)
	return nil
}
