// Package browser starts Debian's Chromium for the tests of the interface and
// for the pictures in the docs.
package browser

import (
	"fmt"
	"os"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/proto"
)

// Width and Height are the window of someone at a desk.
const (
	Width  = 1280
	Height = 800
)

// Start opens a headless browser with a profile of its own. The caller calls
// the function it returns when done.
func Start() (*rod.Browser, func(), error) {
	profile, err := os.MkdirTemp("", "wideknot-browser-")
	if err != nil {
		return nil, nil, err
	}
	l := launcher.New().Bin("/usr/bin/chromium").Leakless(false).Headless(true).NoSandbox(true).UserDataDir(profile).
		Set("disable-gpu").Set("disable-quic").Set("no-first-run").
		Set("disable-background-timer-throttling").Set("disable-backgrounding-occluded-windows").Set("disable-renderer-backgrounding").
		Set("disable-background-networking").Set("disable-component-update").Set("disable-sync").
		Set("window-size", fmt.Sprintf("%d,%d", Width, Height))
	address, err := l.Launch()
	if err != nil {
		os.RemoveAll(profile)
		return nil, nil, fmt.Errorf("starting chromium (make tools installs it): %w", err)
	}
	b := rod.New().ControlURL(address)
	if err := b.Connect(); err != nil {
		l.Kill()
		return nil, nil, fmt.Errorf("connecting to chromium: %w", err)
	}
	return b, func() {
		_ = b.Close() // it is killed next in any case
		l.Kill()
		l.Cleanup()
	}, nil
}

// Open opens a page at the size of Width and Height.
func Open(b *rod.Browser, url string) (*rod.Page, error) {
	page, err := b.Page(proto.TargetCreateTarget{URL: ""})
	if err != nil {
		return nil, err
	}
	if err := page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: Width, Height: Height, DeviceScaleFactor: 1}); err != nil {
		return nil, err
	}
	// Of several pages each is to behave as the one in front.
	if err := (proto.EmulationSetFocusEmulationEnabled{Enabled: true}).Call(page); err != nil {
		return nil, err
	}
	return page, page.Navigate(url)
}

// SignIn signs a page of the server in, without the form.
func SignIn(page *rod.Page, email, password string) error {
	if err := page.WaitLoad(); err != nil {
		return err
	}
	got, err := page.Eval(`async (email, password) => {
		const answer = await fetch("/api/session", {
			method: "POST",
			headers: { "Content-Type": "application/json" },
			body: JSON.stringify({ email, password }),
		});
		return answer.status;
	}`, email, password)
	if err != nil {
		return err
	}
	if status := got.Value.Int(); status != 204 {
		return fmt.Errorf("signing in as %s: status %d", email, status)
	}
	return nil
}
