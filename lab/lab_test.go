package main

import (
	"fmt"
	"net/netip"
	"os"
	"strings"
	"testing"
)

// Some estates of the many on which predictions were tried; make lab tries others.
func TestPredictionsHoldOnThisKernel(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("SKIPPED, NOT PASSED: this test makes network namespaces and needs root")
	}
	if _, err := os.Stat("/dev/net/tun"); err != nil {
		t.Skip("SKIPPED, NOT PASSED: there is no /dev/net/tun here")
	}
	counts := make([]Counts, 20)
	t.Run("seeds", func(t *testing.T) {
		for seed := range counts {
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				var differences []string
				var err error
				if counts[seed], differences, err = Try(uint64(seed), 4); err != nil {
					t.Fatal(err)
				}
				for _, d := range differences {
					t.Error(d)
				}
			})
		}
	})
	var total Counts
	for _, c := range counts {
		total.add(c)
	}
	t.Logf("%+v", total)
	if total.Ways < 2000 || total.MTUs < 300 || total.Failures < 40 {
		t.Errorf("only %+v was compared", total)
	}
}

func TestSettingsOfAFile(t *testing.T) {
	resolve := func(host string) (netip.Addr, bool) {
		a, err := netip.ParseAddr(host)
		return a, err == nil
	}
	key := strings.Repeat("A", 43) + "="
	got, err := settingsOf("# a tunnel\n[Interface]\nPrivateKey = "+key+"\nListenPort = 51820\nFwMark = 8400\n\n[Peer]\nPublicKey = "+key+"\nAllowedIPs = 10.0.0.0/8, fd00::/8\nEndpoint = [2001:db8::1]:51821\nPersistentKeepalive = 25\n", resolve)
	zero := strings.Repeat("0", 64)
	want := "private_key=" + zero + "\nlisten_port=51820\nfwmark=8400\npublic_key=" + zero + "\nallowed_ip=10.0.0.0/8\nallowed_ip=fd00::/8\nendpoint=[2001:db8::1]:51821\npersistent_keepalive_interval=25\n"
	if err != nil || got != want {
		t.Errorf("%q, %v", got, err)
	}
	for _, bad := range []string{"PrivateKey = short", "PostUp = true", "Endpoint = nobody.example.net:1", "a line"} {
		if _, err := settingsOf(bad, resolve); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

func TestProbesAreKnownWhereverTheyPass(t *testing.T) {
	packet := append(make([]byte, 28), payload(77, 'Q', 100)...)
	if number, kind, ok := read(packet); !ok || number != 77 || kind != 'Q' || len(packet) != 128 {
		t.Errorf("%d %c %v", number, kind, ok)
	}
	if _, _, ok := read(packet[:40]); ok {
		t.Error("half a probe is one")
	}
}
