package gateway

import (
	"strings"
	"testing"
)

// What gateways saw is read, or refused; it never makes anything that does not fit.
func FuzzLooked(f *testing.F) {
	for _, text := range []string{
		`{"wideknot-gateway:output":{"tunnel":[{"interface":"x-1","port":51820,"peer":["hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo="],"lacks":["10.0.0.0/24"],"endpoint":"203.0.113.9:51820","bytes-in":"7"}],` +
			`"arrived":[{"port":51820,"from":"203.0.113.9:4000","message":"initiation","count":3}],"silent":["10.0.0.1"],"milliseconds":6012}}`,
		`{"wideknot-gateway:output":{}}`, `{"wideknot-gateway:output":{"arrived":[{"message":"shout"}]}}`, `{`,
	} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		l, err := ParseLooked(text)
		if err != nil {
			return
		}
		if len(l.Tunnels) > MaxLooks || len(l.Arrivals) > MaxArrivals || len(l.Silent) > MaxArrivals {
			t.Errorf("%+v", l)
		}
		for i := range l.Tunnels {
			if o := &l.Tunnels[i]; len(o.Lacks) > MaxLacks || o.Port < 0 || o.Port > 65535 || len(o.Interface) > 15 || o.Endpoint.Addr().Zone() != "" {
				t.Errorf("%+v", o)
			}
		}
	})
}

func TestMessages(t *testing.T) {
	of := func(kind byte, size int) []byte { return append([]byte{kind}, make([]byte, size-1)...) }
	for _, c := range []struct {
		datagram []byte
		want     Message
	}{
		{of(1, 148), Initiation}, {of(2, 92), Response}, {of(3, 64), Cookie}, {of(4, 32), Data}, {of(4, 1400), Data},
		{of(1, 147), Else}, {of(2, 148), Else}, {of(5, 148), Else}, {of(4, 31), Else}, {nil, Else}, {[]byte(strings.Repeat("\x01", 148)), Else},
	} {
		if got := MessageOf(c.datagram); got != c.want {
			t.Errorf("%d octets that begin with %v: %s, not %s", len(c.datagram), c.datagram[:min(4, len(c.datagram))], got, c.want)
		}
	}
}

func TestALookIsBounded(t *testing.T) {
	many := make([]string, MaxLooks+1)
	for _, l := range []Look{{Interfaces: many}, {For: MaxLookFor + 1}, {For: -1}, {Interfaces: []string{"a", "a"}}, {Interfaces: []string{"a/b"}}, {Interfaces: []string{""}}} {
		if l.Check() == nil {
			t.Errorf("%d interfaces %.20v for %d ms are taken", len(l.Interfaces), l.Interfaces, l.For)
		}
	}
	if err := (&Look{Interfaces: []string{"x-1", "x-2"}, Knock: true, For: MaxLookFor}).Check(); err != nil {
		t.Error(err)
	}
}
