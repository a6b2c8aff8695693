package main

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wideknot/core/diagnose"
	"wideknot/core/gateway"
	"wideknot/internal/server/desk"
)

// set tells the device of a gateway's tunnel something, as somebody with a shell there does.
func (o *operated) set(i int, name, lines string) {
	o.t.Helper()
	c, err := net.Dial("unix", filepath.Join(o.folder, o.routes.Plan.Site(i).Key+".d", "sockets", name+".sock"))
	o.must(err)
	defer c.Close()
	_, err = fmt.Fprintf(c, "set=1\n%s\n", lines)
	o.must(err)
	o.must(c.SetReadDeadline(time.Now().Add(2 * time.Second)))
	answer := make([]byte, 100)
	n, err := c.Read(answer)
	if err != nil && err != io.EOF || !strings.Contains(string(answer[:n]), "errno=0") {
		o.t.Fatalf("%s: %q, %v", name, answer[:n], err)
	}
}

// tunnel is that from one site to another.
func (o *operated) tunnel(from, to int) *gateway.Tunnel {
	o.t.Helper()
	c := gateway.Of(o.routes, from)
	peer := o.routes.Plan.Site(to).Key
	return &c.Tunnels[slices.IndexFunc(c.Tunnels, func(t gateway.Tunnel) bool { return t.Peer == peer })]
}

func hexOf(key string) string {
	raw, _ := base64.StdEncoding.DecodeString(key) // it is the plan's
	return hex.EncodeToString(raw)
}

// alive waits until all gateways are there and all tunnels alive.
func (o *operated) alive(within time.Duration) {
	o.t.Helper()
	for until := time.Now().Add(within); ; time.Sleep(100 * time.Millisecond) {
		list, err := o.desk.Gateways(context.Background(), o.key)
		o.must(err)
		if !slices.ContainsFunc(list, func(g desk.GatewayRow) bool { return !g.Up || g.Dead > 0 || g.Tunnels == 0 || g.DownLink > 0 }) {
			return
		}
		if time.Now().After(until) {
			o.t.Fatalf("not all is alive within %v: %+v", within, list)
		}
	}
}

// What is planted at real gateways, in the kernel and the network that they have, is named: in a
// device, on the way between, on a LAN, at a host.
func TestRealGatewaysSayWhy(t *testing.T) {
	t.Parallel() // it waits most of the time
	o := operate(t)
	o.server("a", 0)
	o.confirmed(1, 60*time.Second)
	const mill, tarn, weir = 0, 1, 2
	toTarn, toMill := o.tunnel(mill, tarn), o.tunnel(tarn, mill)
	internet := o.between["internet"]
	peer := func(of *gateway.Tunnel, key string) string { // one as the design has it, but for its key
		text := "public_key=" + hexOf(key) + "\n" + "persistent_keepalive_interval=" + fmt.Sprint(of.WireGuard.Keepalive) + "\nreplace_allowed_ips=true\n"
		for _, p := range of.WireGuard.Allowed {
			text += "allowed_ip=" + p.String() + "\n"
		}
		for _, l := range gateway.Of(o.routes, tarn).Lists {
			for _, p := range l.Prefixes {
				if of.WireGuard.List == l.ID {
					text += "allowed_ip=" + p.String() + "\n"
				}
			}
		}
		if of.WireGuard.Endpoint != "" {
			text += "endpoint=" + of.WireGuard.Endpoint + "\n"
		}
		return text
	}
	const other = "hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo="
	for _, c := range []struct {
		name     string
		do, undo func()
		code     diagnose.Code
		site     string
		sure     diagnose.Sureness
		waits    time.Duration
	}{
		{name: "nothing", do: func() {}, undo: func() {}},
		{
			name: "an allowed prefix is missing",
			do: func() {
				o.set(mill, toTarn.Interface, "public_key="+hexOf(toTarn.WireGuard.PublicKey)+"\nupdate_only=true\nreplace_allowed_ips=true\nallowed_ip="+toMill.Addresses[0].Addr().String()+"/32\n")
			},
			undo: func() {
				text := "public_key=" + hexOf(toTarn.WireGuard.PublicKey) + "\nupdate_only=true\n"
				c := gateway.Of(o.routes, mill)
				for _, p := range c.Allowed(toTarn.WireGuard) {
					text += "allowed_ip=" + p.String() + "\n"
				}
				o.set(mill, toTarn.Interface, text)
			},
			code: diagnose.LacksPrefix, site: "mill", sure: diagnose.Sure,
		},
		{
			name: "another key of the far end",
			do: func() {
				o.set(tarn, toMill.Interface, "public_key="+hexOf(toMill.WireGuard.PublicKey)+"\nremove=true\n"+peer(toMill, other))
			},
			undo: func() {
				o.set(tarn, toMill.Interface, "public_key="+hexOf(other)+"\nremove=true\n"+peer(toMill, toMill.WireGuard.PublicKey))
			},
			code: diagnose.WrongKey, site: "tarn", sure: diagnose.Sure, waits: 4 * time.Second,
		},
		{
			name: "no UDP on the way",
			do: func() {
				o.must(internet.run("table ip block {\n chain f { type filter hook forward priority 0;\n ip saddr 203.0.113.20 udp dport != 0 drop\n ip daddr 203.0.113.20 udp dport != 0 drop\n }\n}\n", "nft", "-f", "-"))
			},
			undo: func() { o.must(internet.run("", "nft", "delete", "table", "ip", "block")) },
			code: diagnose.UDPBlocked, site: "tarn", sure: diagnose.Likely, waits: 4 * time.Second,
		},
		{
			name: "large packets vanish", do: func() { o.must(internet.ip("link set s1l0 mtu 1300")) }, undo: func() { o.must(internet.ip("link set s1l0 mtu 1500")) },
			code: diagnose.LargeLost, sure: diagnose.Likely,
		},
		{
			name: "the host has no gateway", do: func() { o.must(o.hosts[weir].ip("route del default")) }, undo: func() { o.must(o.hosts[weir].ip("route add default via 10.40.3.1 dev eth0")) },
			code: diagnose.HostGateway, site: "weir", sure: diagnose.Likely,
		},
		{
			name: "the LAN's cable is out", do: func() { o.must(o.hosts[weir].ip("link set eth0 down")) },
			undo: func() { o.must(o.hosts[weir].ip("link set eth0 up", "route add default via 10.40.3.1 dev eth0")) },
			code: diagnose.LANDead, site: "weir", sure: diagnose.Sure, waits: time.Second,
		},
		{
			name: "the only circuit is cut", do: func() { o.must(internet.ip("link set s1l0 down")) }, undo: func() { o.must(internet.ip("link set s1l0 up")) },
			code: diagnose.Away, site: "tarn", sure: diagnose.Likely, waits: 25 * time.Second,
		},
	} {
		o.alive(60 * time.Second)
		c.do()
		time.Sleep(c.waits)
		d, err := o.desk.Why(context.Background(), o.key, desk.Why{From: "10.40.2.10", To: "10.40.3.10", Protocol: "icmp", Look: true})
		o.must(err)
		said := ""
		for _, x := range d.Causes {
			said += fmt.Sprintf("\n  %s %s at %s: %s; %q", x.Sure, x.Code, x.Site, x.Words, x.Evidence)
		}
		if c.code == "" {
			if d.Verdict != diagnose.Arrives || len(d.Causes) > 0 {
				t.Errorf("%s: %s%s %q", c.name, d.Verdict, said, d.Unseen)
			}
		} else if len(d.Causes) == 0 || d.Causes[0].Code != c.code || c.site != "" && d.Causes[0].Site != c.site || d.Causes[0].Sure != c.sure {
			t.Errorf("%s: %s%s %q", c.name, d.Verdict, said, d.Unseen)
		}
		t.Logf("%s: %s%s", c.name, d.Verdict, said)
		c.undo()
	}
}
