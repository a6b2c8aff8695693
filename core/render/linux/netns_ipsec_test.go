package linux_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/render/linux"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/examples"
)

// daemonSettings let the IKEv2 daemon run in a namespace of its own, with its ESP in
// user space: the kernel here has none.
const daemonSettings = `charon-systemd {
  load = random nonce openssl pem kdf gcm aes sha2 hmac drbg vici kernel-libipsec kernel-netlink socket-default
  install_routes = no
  plugins {
    vici { socket = unix://FOLDER/vici }
    kernel-netlink { fwmark = !0x42 }
    socket-default { fwmark = 0x42 }
    kernel-libipsec { allow_peer_ts = yes }
  }
  journal { default = -1 }
}
swanctl { load = pem openssl random }
`

// daemon starts the IKEv2 daemon in a namespace.
func (l *lab) daemon(name string) (folder string) {
	l.t.Helper()
	folder = l.folder(name, "ike")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		l.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "strongswan.conf"), []byte(strings.ReplaceAll(daemonSettings, "FOLDER", folder)), 0o600); err != nil {
		l.t.Fatal(err)
	}
	command := exec.Command("ip", "netns", "exec", l.ns(name), "charon-systemd")
	command.Env = append(os.Environ(), "STRONGSWAN_CONF="+filepath.Join(folder, "strongswan.conf"))
	if err := command.Start(); err != nil {
		l.t.Fatal(err)
	}
	l.t.Cleanup(func() { command.Process.Kill(); command.Wait() })
	return folder
}

// load hands the daemon a bundle's files and fails where it does not take them all.
func (l *lab) load(name, folder string, files map[string]string) {
	l.t.Helper()
	path := filepath.Join(folder, "all.conf")
	if err := os.WriteFile(path, []byte(files["swanctl.conf"]+files["secrets/swanctl.secrets"]), 0o600); err != nil {
		l.t.Fatal(err)
	}
	connections := strings.Count(files["swanctl.conf"], "version = 2")
	var out string
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		var err error
		if out, err = l.try("ip", "netns", "exec", l.ns(name), "swanctl", "--load-all", "--uri", "unix://"+folder+"/vici", "--file", path); err == nil {
			break
		}
	}
	if n := strings.Count(out, "loaded connection"); n != connections || strings.Count(out, "loaded ike secret") != connections {
		l.t.Fatalf("%s: the daemon took %d of %d connections\n%s\n%s", name, n, connections, out, files["swanctl.conf"])
	}
}

func filesOf(t *testing.T, c *gateway.Config, keys linux.Keys) map[string]string {
	t.Helper()
	files, err := linux.Write(c, linux.About{Name: c.Site}, keys)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, f := range files {
		out[strings.TrimPrefix(f.Path, c.Site+"/")] = string(f.Text)
	}
	return out
}

// Each tunnel of an IPsec overlay comes up between Debian's daemons at its two ends,
// and carries what is routed into it; and the daemon takes each site's whole file.
func TestIPsecTunnelsComeUp(t *testing.T) {
	l := newLab(t)
	for _, tool := range []string{"charon-systemd", "swanctl"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Fatalf("%s is missing; make test-tools installs it", tool)
		}
	}
	e, err := examples.Estate("three-sites", "    transit: [100.96.0.0/24]", "    transport: ipsec\n    transit: [100.96.0.0/24]")
	if err != nil {
		t.Fatal(err)
	}
	_, keys := example(t, "three-sites")
	m := route.Build(tunnel.Derive(e))
	whole := map[string]map[string]string{}
	for i := range e.Sites {
		name := e.Sites[i].Key
		l.add("all-" + name)
		whole[name] = filesOf(t, gateway.Of(m, i), keys)
		l.load("all-"+name, l.daemon("all-"+name), whole[name])
		if strings.Contains(whole[name]["swanctl.conf"], "secret") || whole[name]["secrets/private.key"] != "" {
			t.Errorf("%s: a secret stands where it should not", name)
		}
	}
	tried := 0
	for i := range e.Sites {
		c := gateway.Of(m, i)
		for j := range c.Tunnels {
			if s := c.Tunnels[j].IPsec; s.Initiates && c.Site != e.Overlays[0].Hubs[0] {
				tried++
				l.bringUpIPsec(m, keys, c, j)
			}
		}
	}
	if tried != len(m.Plan.Ends(0)) {
		t.Errorf("%d tunnels were tried", tried)
	}
}

// bringUpIPsec joins the two ends of one tunnel by a cable and pings through it.
func (l *lab) bringUpIPsec(m *route.Map, keys linux.Keys, c *gateway.Config, at int) {
	l.t.Helper()
	near := c.Tunnels[at]
	far := gateway.Of(m, m.Plan.SiteIndex(near.Peer))
	one := func(c *gateway.Config, same func(*gateway.Tunnel) bool) *gateway.Config {
		out := *c
		out.Tunnels = nil
		for i := range c.Tunnels {
			if same(&c.Tunnels[i]) {
				out.Tunnels = []gateway.Tunnel{c.Tunnels[i]}
			}
		}
		return &out
	}
	ends := []*gateway.Config{
		one(c, func(t *gateway.Tunnel) bool { return t.Interface == near.Interface }),
		one(far, func(t *gateway.Tunnel) bool { return t.Ident(far.Site) == near.Ident(c.Site) }),
	}
	names := []string{"a-" + c.Site + near.Interface, "b-" + c.Site + near.Interface}
	l.add(names[0])
	l.add(names[1])
	l.run("ip", "link", "add", "name", "wan0", "netns", l.ns(names[0]), "type", "veth", "peer", "name", "wan0", "netns", l.ns(names[1]))
	inside := []string{"10.40.2.1", "10.40.1.1"}
	for i, name := range names {
		outside := "192.0.2.77"
		if local := ends[i].Tunnels[0].IPsec.Local; local.IsValid() {
			outside = local.String()
		}
		l.in(name, "ip address add "+outside+"/24 dev wan0")
		l.in(name, "ip link set wan0 up")
		l.in(name, "ip route add default dev wan0")
		l.in(name, "ip address add "+inside[i]+"/32 dev lo")
	}
	for i := len(names) - 1; i >= 0; i-- { // who calls comes last
		l.load(names[i], l.daemon(names[i]), filesOf(l.t, ends[i], keys))
	}
	for i, name := range names {
		for range 50 {
			if _, err := l.try("ip", "netns", "exec", l.ns(name), "ip", "link", "show", "dev", "ipsec0"); err == nil {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		l.in(name, "ip route add "+inside[1-i]+"/32 dev ipsec0")
	}
	l.waitForPing(names[0], inside[0], inside[1])
	l.waitForPing(names[1], inside[1], inside[0])
}

// An estate whose overlays are of both kinds has both in its bundles: no route leads
// into a tunnel that is not there.
func TestMixedTransports(t *testing.T) {
	m, keys := example(t, "breakout")
	e := m.Plan.Estate.Clone()
	e.Overlays[1].Transport = estate.IPsec
	m = route.Build(tunnel.Derive(e))
	both := 0
	for i := range e.Sites {
		c := gateway.Of(m, i)
		if err := c.Check(); err != nil {
			t.Fatal(err)
		}
		files := filesOf(t, c, keys)
		for j := range c.Tunnels {
			one := &c.Tunnels[j]
			ipsec := one.IPsec != nil
			if strings.Contains(files["tunnels"], one.Interface+" ") == false || (files["wg/"+one.Interface+".conf"] == "") != ipsec || strings.Contains(files["swanctl.conf"], "\t"+one.Interface+" {") != ipsec {
				t.Errorf("%s: %s is not written as what it is", c.Site, one.Interface)
			}
		}
		if c.Carries(estate.IPsec) && c.Carries(estate.WireGuard) {
			both++
		}
	}
	if both == 0 {
		t.Error("no site has both")
	}
}
