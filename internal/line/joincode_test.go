package line

import (
	"net"
	"reflect"
	"strings"
	"testing"
	"time"
)

func someCode() *JoinCode {
	return &JoinCode{Secret: [16]byte{1, 2, 3}, Pin: [32]byte{4, 5, 6}, Enrol: []string{"knot.example:4337", "[2001:db8::1]:4337"}, Lines: []string{"knot.example:4336"}}
}

func TestJoinCodes(t *testing.T) {
	code := someCode()
	text := code.String()
	for name, other := range map[string]string{"as it is": text, "in lower case, over lines": strings.ToLower(strings.ReplaceAll(text, "-", "\n ")), "without groups": strings.ReplaceAll(text, "-", "")} {
		if got, err := ParseJoinCode(other); err != nil || !reflect.DeepEqual(got, code) {
			t.Errorf("%s: %v, %+v", name, err, got)
		}
	}
	// Whichever letter is mistaken, it is found.
	plain := strings.ReplaceAll(text, "-", "")
	for i := range plain {
		other := byte('A')
		if plain[i] == other {
			other = 'B'
		}
		if got, err := ParseJoinCode(plain[:i] + string(other) + plain[i+1:]); err == nil && !reflect.DeepEqual(got, code) {
			t.Errorf("a mistake at letter %d is not found", i)
		}
	}
	for _, bad := range []string{"", "A", plain[:20], plain[:len(plain)-3], plain + "AAAAAAAA", "no code, 1890"} {
		if _, err := ParseJoinCode(bad); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

func FuzzJoinCode(f *testing.F) {
	f.Add(someCode().String())
	f.Add("")
	f.Fuzz(func(t *testing.T, text string) {
		code, err := ParseJoinCode(text)
		if err != nil {
			return
		}
		if again, err := ParseJoinCode(code.String()); err != nil || !reflect.DeepEqual(again, code) {
			t.Errorf("%q is read as %+v and written as something else", text, code)
		}
	})
}

func TestServersAreNamed(t *testing.T) {
	for _, bad := range []string{"", "knot", "knot:", ":4336", "knot:4336,", "a b:1", "knot:1,knot:2,knot:3,knot:4,knot:5,knot:6,knot:7,knot:8,knot:9", "k;reboot:1"} {
		if _, err := ParseServers(bad); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

// From one address only some are held; when there are too many in all, the one that has
// waited longest goes; who proved who it is counts no more.
func TestGuard(t *testing.T) {
	g := &Guard{Within: 50 * time.Millisecond}
	from := func(address string) *named {
		here, there := net.Pipe()
		t.Cleanup(func() { _ = there.Close() })
		return &named{here, address, make(chan bool)}
	}
	var proved []func()
	for range mostFromAddress {
		p, ok := g.Enter(from("192.0.2.1"))
		if !ok {
			t.Fatal("too soon")
		}
		proved = append(proved, p)
	}
	if _, ok := g.Enter(from("192.0.2.1")); ok {
		t.Error("one address has more than its part")
	}
	other := from("192.0.2.2")
	if _, ok := g.Enter(other); !ok {
		t.Error("another address is kept out")
	}
	proved[0]()
	proved[0]()
	if _, ok := g.Enter(from("192.0.2.1")); !ok {
		t.Error("who proved who it is still counts")
	}
	select {
	case <-other.closed:
	case <-time.After(time.Second):
		t.Error("who proves nothing stays")
	}
	long := &Guard{Within: time.Hour}
	first := from("198.51.100.1")
	if _, ok := long.Enter(first); !ok {
		t.Fatal("the first")
	}
	for i := 1; i < mostUnproved; i++ {
		if _, ok := long.Enter(from(net.IPv4(10, 0, byte(i>>8), byte(i)).String())); !ok {
			t.Fatal("there is room")
		}
	}
	if _, ok := long.Enter(from("198.51.100.2")); !ok {
		t.Error("a newcomer is kept out")
	}
	select {
	case <-first.closed:
	default:
		t.Error("who waited longest stays")
	}
}

// named is a connection from an address.
type named struct {
	net.Conn
	from   string
	closed chan bool
}

func (c *named) RemoteAddr() net.Addr { return &net.TCPAddr{IP: net.ParseIP(c.from), Port: 1} }
func (c *named) Close() error {
	select {
	case <-c.closed:
	default:
		close(c.closed)
	}
	return c.Conn.Close()
}
