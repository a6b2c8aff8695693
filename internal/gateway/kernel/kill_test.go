package kernel

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"
)

// applyForEver applies two releases in turn until it is killed.
func applyForEver(seed, folder, socket string) {
	var n uint64
	if _, err := fmt.Sscan(seed, &n); err != nil {
		panic(err)
	}
	a, b := releases(&testing.B{}, n)
	p, err := Open(folder, socket)
	for err == nil {
		if _, err = p.Apply(b, a, secrets(a), all(a)); err == nil {
			_, err = p.Apply(a, b, secrets(b), all(b))
		}
	}
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

// Whenever applying is killed, the next start makes it whole.
func TestKilledWhileApplying(t *testing.T) {
	needsRoot(t)
	const seed = 2
	a, b := releases(t, seed)
	wanDevices(t, a, b)
	p := open(t)
	apply(t, p, nil, b)
	wantB := seen(t)
	apply(t, p, b, a)
	wantA := seen(t)
	random := rand.New(rand.NewPCG(1, 2))
	for kill := range *kills {
		child := exec.Command(os.Args[0], "apply-for-ever", fmt.Sprint(seed), p.state, p.devices.socket)
		var said strings.Builder
		child.Stderr = &said
		if err := child.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(60*time.Millisecond + time.Duration(random.IntN(500))*time.Millisecond)
		_ = child.Process.Kill()
		_ = child.Wait()
		if status, ok := child.ProcessState.Sys().(syscall.WaitStatus); !ok || !status.Signaled() {
			t.Fatalf("it ended by itself: %s", said.String())
		}
		next, err := Open(p.state, p.devices.socket)
		if err != nil {
			t.Fatal(err)
		}
		if kill%2 == 0 {
			apply(t, next, nil, a)
			differ(t, fmt.Sprintf("kill %d, then the old state", kill), wantA, seen(t))
		} else {
			apply(t, next, nil, b)
			differ(t, fmt.Sprintf("kill %d, then the new state", kill), wantB, seen(t))
		}
		_ = next.Close()
		if t.Failed() {
			return
		}
	}
	p.loaded = nil
}
