package e2e

import (
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

func ask(t *testing.T, url string) map[string]any {
	t.Helper()
	r, err := http.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	if err != nil {
		t.Fatal(err)
	}
	var out map[string]any
	if err := json.Unmarshal(text, &out); err != nil {
		t.Fatalf("%v: %.200s", err, text)
	}
	return out
}

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

// TestStopsAndStartsAgain stops the program with Ctrl-C and by kill -9, and
// finds everything again each time, and nothing left running.
func TestStopsAndStartsAgain(t *testing.T) {
	dir := folder(t)
	a := launch(t, "demo", dir)
	if got := ask(t, a.url+"/api/estates/brindlewater")["sites"]; got != 40.0 {
		t.Fatalf("%v sites", got)
	}
	request, _ := http.NewRequest("DELETE", a.url+"/api/estates/brindlewater/sites/van-1", nil)
	if r, err := http.DefaultClient.Do(request); err != nil || r.StatusCode != 200 {
		t.Fatal(r, err)
	}
	a.command.Process.Signal(syscall.SIGKILL)
	a.command.Wait()
	a = launch(t, "demo", dir)
	if got := ask(t, a.url+"/api/estates/brindlewater")["sites"]; got != 39.0 {
		t.Errorf("after kill -9: %v sites, want the 39 there were", got)
	}
	a.command.Process.Signal(syscall.SIGINT)
	if err := a.command.Wait(); err != nil {
		t.Errorf("Ctrl-C ended it with %v", err)
	}
	waitForEnd(t, dir)
	a = launch(t, "demo", dir)
	if got := ask(t, a.url+"/api/estates/brindlewater")["undo"]; got != "Delete Field Laboratory 1" {
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
		"0.0.0.0:8080":        "only loopback",
		"8080":                "is not ADDRESS:PORT",
	} {
		out, err := exec.Command(binary, "serve", "--listen", address, "--var", folder(t)).CombinedOutput()
		if err == nil || !strings.Contains(string(out), want) {
			t.Errorf("--listen %s: %v, %s", address, err, out)
		}
	}
}
