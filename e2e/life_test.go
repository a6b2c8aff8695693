package e2e

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

func databaseRuns(folder string) bool {
	pid, err := os.ReadFile(filepath.Join(folder, "mariadb", "mariadb.pid"))
	if err != nil {
		return false
	}
	arguments, err := os.ReadFile("/proc/" + strings.TrimSpace(string(pid)) + "/cmdline")
	return err == nil && strings.Contains(string(arguments), folder)
}

func waitForEnd(t *testing.T, folder string) {
	t.Helper()
	for range 200 {
		if !databaseRuns(folder) {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	t.Error("the database server was left running")
}

const first = "/api/estates/brindlewater/drafts/first"

// TestStopsAndStartsAgain stops the program with Ctrl-C and by kill -9, and
// finds everything again each time, and nothing left running.
func TestStopsAndStartsAgain(t *testing.T) {
	dir := folder(t)
	a := launch(t, "demo", dir)
	if got := a.signedIn(t, demoOwner, demoPassword).get(first)["sites"]; got != 40.0 {
		t.Fatalf("%v sites", got)
	}
	a.signedIn(t, demoOwner, demoPassword).must("DELETE", first+"/sites/van-1", nil, nil)
	a.command.Process.Signal(syscall.SIGKILL)
	a.command.Wait()
	a = launch(t, "demo", dir)
	if got := a.signedIn(t, demoOwner, demoPassword).get(first)["sites"]; got != 39.0 {
		t.Errorf("after kill -9: %v sites, want the 39 there were", got)
	}
	a.command.Process.Signal(syscall.SIGINT)
	if err := a.command.Wait(); err != nil {
		t.Errorf("Ctrl-C ended it with %v", err)
	}
	waitForEnd(t, dir)
	a = launch(t, "demo", dir)
	if got := a.signedIn(t, demoOwner, demoPassword).get(first)["undo"]; got != "Delete Field Laboratory 1" {
		t.Errorf("after Ctrl-C: the last edit is %v", got)
	}
}

func TestTakenPortIsSaid(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	for address, want := range map[string]string{
		taken.Addr().String(): "is taken by another program",
		"0.0.0.0:8080":        "passwords would be sent in the clear",
		"8080":                "is not ADDRESS:PORT",
	} {
		out, err := exec.Command(binary, "serve", "--listen", address, "--var", folder(t)).CombinedOutput()
		if err == nil || !strings.Contains(string(out), want) {
			t.Errorf("--listen %s: %v, %s", address, err, out)
		}
	}
}
