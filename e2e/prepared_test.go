package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// prepared are data folders as a first start leaves them, by subcommand. Tests
// start on copies: making a database takes longer than most of them.
var prepared = map[string]func() (string, error){
	"demo":  sync.OnceValues(func() (string, error) { return prepare("demo") }),
	"serve": sync.OnceValues(func() (string, error) { return prepare("serve") }),
}

var templates sync.Map // folders to remove

func TestMain(m *testing.M) {
	code := m.Run()
	stopChromium()
	templates.Range(func(folder, _ any) bool { os.RemoveAll(folder.(string)); return true })
	os.Exit(code)
}

// quickFolder is in memory where there is room for what the tests of a while keep; empty
// for the usual place.
func quickFolder() string {
	const memory, room = "/dev/shm", 4 << 30
	var about syscall.Statfs_t
	if syscall.Statfs(memory, &about) != nil || about.Bavail*uint64(about.Bsize) < room {
		return ""
	}
	return memory
}

// prepare starts the program on an empty folder, and stops it when it serves.
func prepare(subcommand string) (string, error) {
	folder, err := os.MkdirTemp(quickFolder(), "wk-made-")
	if err != nil {
		return "", err
	}
	templates.Store(folder, true)
	arguments := []string{subcommand, "--listen", "127.0.0.1:0", "--var", folder}
	if subcommand == "demo" {
		arguments = append(arguments, "--stand-ins=false")
	}
	command := exec.Command(binary, arguments...)
	command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	said := &watched{wanted: "Wide Knot is at", seen: make(chan bool, 1)}
	command.Stdout = said
	if err := command.Start(); err != nil {
		return "", err
	}
	select {
	case <-said.seen:
	case <-time.After(time.Minute):
		command.Process.Kill()
		return "", fmt.Errorf("%s does not start", subcommand)
	}
	if err := command.Process.Signal(syscall.SIGINT); err != nil {
		return "", err
	}
	return folder, command.Wait()
}

// watched waits for words in what is written to it.
type watched struct {
	wanted string
	text   strings.Builder
	seen   chan bool
}

func (w *watched) Write(p []byte) (int, error) {
	w.text.Write(p)
	if strings.Contains(w.text.String(), w.wanted) {
		select {
		case w.seen <- true:
		default:
		}
	}
	return len(p), nil
}

// fill makes an empty folder what a first start would, unless the program is to
// use another database.
func fill(t testing.TB, subcommand, folder string, flags []string) {
	t.Helper()
	make, known := prepared[subcommand]
	if found, err := os.ReadDir(folder); !known || err != nil || len(found) > 0 || slices.Contains(flags, "--dsn") || slices.Contains(flags, "--stand-ins-listen") {
		return
	}
	from, err := make()
	if err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("cp", "-a", "--sparse=always", "--reflink=auto", filepath.Join(from, "."), folder).CombinedOutput(); err != nil {
		t.Fatalf("copying %s: %v\n%s", from, err, out)
	}
}
