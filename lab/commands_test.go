package main

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// What an engineer does at a gateway, command by command, with what goes wrong.
func TestCommandsAtAGateway(t *testing.T) {
	w := narrowWorld(t)
	path, err := program()
	if err != nil {
		t.Fatal(err)
	}
	folder := filepath.Join(w.folder, "weir.d")
	ask := func(code int, has string, arguments ...string) string {
		t.Helper()
		command := exec.Command(path, append([]string{"gateway", "--runtime", folder, "--state", filepath.Join(folder, "state"), "--keys", filepath.Join(folder, "keys")}, arguments...)...)
		out, err := command.CombinedOutput()
		got := 0
		var ended *exec.ExitError
		if errors.As(err, &ended) {
			got = ended.ExitCode()
		}
		if got != code || !strings.Contains(string(out), has) {
			t.Errorf("%s: exit %d, want %d with %q:\n%s", strings.Join(arguments, " "), got, code, has, out)
		}
		return string(out)
	}
	good := filepath.Join(folder, "config.json")
	text, err := os.ReadFile(good)
	if err != nil {
		t.Fatal(err)
	}
	file := func(name string, change ...string) string {
		t.Helper()
		changed := strings.NewReplacer(change...).Replace(string(text))
		if changed == string(text) {
			t.Fatalf("%s: nothing is changed by %q", name, change)
		}
		at := filepath.Join(folder, name)
		if err := os.WriteFile(at, []byte(changed), 0o600); err != nil {
			t.Fatal(err)
		}
		return at
	}
	ask(0, "weir: digest ", "status")
	for range 50 { // an echo a second
		s, err := w.keepers[1].state()
		if err != nil {
			t.Fatal(err)
		}
		if s.Links[0].NextHopUp {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	if out := ask(0, "mill-1  up", "status"); !strings.Contains(out, "next hop answers") {
		t.Errorf("the link is not told:\n%s", out)
	}
	ask(0, `"wideknot-gateway:state"`, "status", "--json")
	ask(0, "10.40.1.0/24 goes by mill-1\n  * 1. mill-1: alive", "why", "10.40.1.10")
	ask(0, "is not behind any tunnel", "why", "192.0.2.1")
	ask(2, "neither an address nor a prefix", "why", "the mill")
	ask(0, "is kept", "events")
	ask(0, "", "key")

	other := file("other.json", `"mtu": 1420`, `"mtu": 1300`, `"mtu": 1440`, `"mtu": 1300`)
	ask(0, "can be applied", "check", other)
	ask(0, "applied for 2 s", "apply", other, "--try", "2")
	ask(0, "on trial for", "status")
	ask(4, "is being tried", "apply", good)
	time.Sleep(2700 * time.Millisecond)
	ask(0, "nobody confirmed it in time", "events")
	ask(4, "nothing of that name", "confirm")
	ask(0, "applied for 60 s", "apply", other, "--try", "60")
	ask(0, "kept", "confirm")
	ask(0, "went back", "back")

	for name, spoiled := range map[string]struct{ says, at string }{
		"damaged":    {"invalid character", file("a.json", `"site": "weir"`, `"site": "weir`)},
		"foreign":    {"alone", file("b.json", `wideknot-gateway:gateway"`, `wideknot-gateway:state"`)},
		"newer":      {"unknown field", file("c.json", `"site": "weir"`, `"site": "weir", "teleport": true`)},
		"hostile":    {"no plain word", file("d.json", `"peer": "mill"`, `"peer": "mill;reboot"`)},
		"wants more": {"pre-shared key of mill-1", file("e.json", `"public-key"`, `"pre-shared": true, "public-key"`)},
	} {
		t.Log(name)
		ask(4, spoiled.says, "check", spoiled.at)
		ask(4, spoiled.says, "apply", spoiled.at)
	}
	ask(0, "mill-1  up", "status")

	w.keepers[1].end(syscall.SIGKILL)
	ask(1, "no agent answers", "status")
	if err := w.restart(1); err != nil {
		t.Fatal(err)
	}
	ask(0, "everything that was made here is gone", "remove")
	ask(0, "nothing was applied here yet", "status")
	if left, _ := filepath.Glob(filepath.Join(folder, "state", "*.json")); len(left) > 0 {
		t.Errorf("remove leaves %v", left)
	}
}
