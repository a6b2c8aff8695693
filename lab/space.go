package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"

	"golang.org/x/sys/unix"
)

// A space is a network namespace without a name: it goes when nobody holds it
// any more, whatever becomes of this process.
type space struct {
	name string
	fd   int
}

// newSpace makes an empty namespace whose loopback is up.
func newSpace(name string) (*space, error) {
	s := &space{name: name, fd: -1}
	err := onThread(func() error {
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			return fmt.Errorf("making a network namespace: %w", err)
		}
		var err error
		s.fd, err = unix.Open("/proc/thread-self/ns/net", unix.O_RDONLY|unix.O_CLOEXEC, 0)
		return err
	})
	if err != nil {
		return nil, err
	}
	if err := s.ip("link set lo up"); err != nil {
		return nil, err
	}
	return s, s.set(map[string]string{
		"net/ipv4/ip_forward": "0", "net/ipv6/conf/default/accept_dad": "0", "net/ipv6/conf/all/accept_dad": "0",
		// Many packets are too big here within one second, and each is to be told so.
		"net/ipv4/icmp_ratelimit": "0", "net/ipv6/icmp/ratelimit": "0",
	})
}

func (s *space) close() { unix.Close(s.fd) }

// onThread runs f on a thread of its own, which ends with it.
func onThread(f func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocks it, so that no other goroutine gets the thread
		done <- f()
	}()
	return <-done
}

// do runs f inside the namespace: sockets that it opens and programs that it
// starts stay there.
func (s *space) do(f func() error) error {
	return onThread(func() error {
		if err := unix.Setns(s.fd, unix.CLONE_NEWNET); err != nil {
			return fmt.Errorf("entering %s: %w", s.name, err)
		}
		return f()
	})
}

// run runs a program inside the namespace with a text as its input.
func (s *space) run(input string, command ...string) error {
	return s.do(func() error {
		c := exec.Command(command[0], command[1:]...)
		c.Stdin = strings.NewReader(input)
		if out, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %s: %w\n%s", s.name, strings.Join(command, " "), err, out)
		}
		return nil
	})
}

// ip runs lines of ip in one batch.
func (s *space) ip(lines ...string) error {
	if len(lines) == 0 {
		return nil
	}
	return s.run(strings.Join(lines, "\n")+"\n", "ip", "-batch", "-")
}

// set writes kernel settings, by their paths under /proc/sys.
func (s *space) set(settings map[string]string) error {
	return s.do(func() error {
		for path, value := range settings {
			if err := os.WriteFile(filepath.Join("/proc/sys", path), []byte(value), 0o644); err != nil {
				return fmt.Errorf("%s: %w", s.name, err)
			}
		}
		return nil
	})
}

// forwards makes the namespace a router.
func (s *space) forwards() error {
	return s.set(map[string]string{"net/ipv4/ip_forward": "1", "net/ipv6/conf/all/forwarding": "1"})
}

// cable joins two namespaces by a pair of devices with the given MTU.
func cable(a *space, deviceA string, b *space, deviceB string, mtu int) error {
	peer := fmt.Sprintf("/proc/%d/fd/%d", os.Getpid(), b.fd)
	err := a.ip(
		fmt.Sprintf("link add name %s mtu %d type veth peer name %s mtu %d netns %s", deviceA, mtu, deviceB, mtu, peer),
		fmt.Sprintf("link set dev %s up", deviceA),
	)
	if err != nil {
		return err
	}
	return b.ip(fmt.Sprintf("link set dev %s up", deviceB))
}
