package kernel

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"wideknot/core/gateway"
)

// A WAN link is asked by its own device, whatever the main table says, with packets that
// nothing cuts up; and so is what lies beyond it by UDP.
func TestLinksAreAsked(t *testing.T) {
	needsRoot(t)
	far := exec.Command("unshare", "-n", "sleep", "60")
	if err := far.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = far.Process.Kill(); _ = far.Wait() })
	pid := fmt.Sprint(far.Process.Pid)
	own, err := os.Readlink("/proc/self/ns/net")
	if err != nil {
		t.Fatal(err)
	}
	for is := own; is == own || is == ""; time.Sleep(10 * time.Millisecond) {
		is, _ = os.Readlink("/proc/" + pid + "/ns/net")
	}
	there := func(args ...string) { run(t, append([]string{"nsenter", "-t", pid, "-n", "ip"}, args...)...) }
	for _, name := range []string{"wan0", "wan1"} {
		run(t, "ip", "link", "add", name, "type", "veth", "peer", "name", "far"+name, "netns", pid)
		t.Cleanup(func() { run(t, "ip", "link", "del", name) })
		run(t, "ip", "link", "set", name, "up")
		there("link", "set", "far"+name, "up", "mtu", "1300") // what is larger does not arrive
	}
	there("link", "set", "lo", "up")
	run(t, "ip", "address", "add", "192.0.2.1/24", "dev", "wan0")
	run(t, "ip", "address", "add", "2001:db8:2::1/64", "dev", "wan0", "nodad")
	there("address", "add", "192.0.2.2/24", "dev", "farwan0")
	there("address", "add", "2001:db8:2::2/64", "dev", "farwan0", "nodad")
	// The main table leads astray, the link's own does not.
	there("address", "add", "198.51.100.2/32", "dev", "lo")
	run(t, "ip", "route", "add", "198.51.100.0/24", "dev", "wan1")
	run(t, "ip", "route", "add", "default", "via", "192.0.2.2", "dev", "wan0", "table", "8400")
	run(t, "ip", "rule", "add", "fwmark", "8400/0xffff", "table", "8400", "priority", "8400")
	t.Cleanup(func() { run(t, "ip", "rule", "del", "priority", "8400") })

	p := open(t)
	link := &gateway.Link{Key: "a", Device: "wan0", Mark: 8400}
	ping := func(to string, size int) error {
		asking, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		return p.Ping(asking, link, netip.MustParseAddr(to), size)
	}
	for _, to := range []string{"192.0.2.2", "2001:db8:2::2", "198.51.100.2"} {
		for size, passes := range map[int]bool{0: true, 1280: true, 1300: true, 1310: false, 1500: false, 1501: false} {
			if err := ping(to, size); (err == nil) != passes {
				t.Errorf("%d bytes to %s: %v", size, to, err)
			}
		}
	}
	if err := ping("192.0.2.3", 0); err == nil {
		t.Error("somebody answers who is not there")
	}
	if err := (&Plane{}).Ping(t.Context(), &gateway.Link{Device: "none0"}, netip.MustParseAddr("192.0.2.2"), 0); err == nil {
		t.Error("an echo leaves by a device that is not there")
	}

	listening := make(chan error)
	go func() {
		runtime.LockOSThread() // the thread ends with it
		space, err := os.Open("/proc/" + pid + "/ns/net")
		if err == nil {
			err = unix.Setns(int(space.Fd()), unix.CLONE_NEWNET)
		}
		var conn *net.UDPConn
		if err == nil {
			conn, err = net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(198, 51, 100, 2), Port: 53})
		}
		listening <- err
		room := make([]byte, 100)
		for err == nil {
			n, from, broken := conn.ReadFromUDPAddrPort(room)
			if err = broken; err == nil {
				_, err = conn.WriteToUDPAddrPort(room[:n], from)
			}
		}
	}()
	if err := <-listening; err != nil {
		t.Fatal(err)
	}
	conn, err := p.Dial(t.Context(), link, netip.MustParseAddrPort("198.51.100.2:53"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(2 * time.Second))
	room := make([]byte, 10)
	if _, err := conn.Write([]byte("hello")); err != nil {
		t.Fatal(err)
	}
	if n, err := conn.Read(room); err != nil || string(room[:n]) != "hello" {
		t.Errorf("%q, %v", room[:n], err)
	}
}
