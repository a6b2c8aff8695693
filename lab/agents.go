package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/render/linux"
	"wideknot/core/route"
	"wideknot/core/tunnel"
	"wideknot/internal/gateway/socket"
)

// A keeper is the agent that runs at a gateway, as its own process.
type keeper struct {
	command *exec.Cmd
	client  *http.Client
	said    strings.Builder
	read    uint64 // sequence number of the last event that was looked at
}

// program builds the product's program once.
var program = sync.OnceValues(func() (string, error) {
	folder, err := os.UserCacheDir()
	if err != nil {
		return "", err
	}
	path := filepath.Join(folder, "wideknot-lab", "wideknot")
	if out, err := exec.Command("go", "build", "-o", path, "wideknot/cmd/wideknot").CombinedOutput(); err != nil {
		return "", fmt.Errorf("building the program: %w\n%s", err, out)
	}
	return path, nil
})

// Probing by agents in the lab, in milliseconds: quick, so that many failures fit into
// a minute.
var quick = estate.Probe{Target: estate.FarEnd, IntervalMs: 200, TimeoutMs: 500, Misses: 3, Successes: 3}

// Slack is what may come on top of the time that a profile needs.
const slack = 150 * time.Millisecond

// probed lets every overlay be probed quickly and every gateway switch by itself, as
// agents do, and hubs tell which sites they reach.
func probed(e *estate.Estate, tell bool) {
	for i := range e.Overlays {
		probe := quick
		e.Overlays[i].Probe, e.Overlays[i].HubsTell = &probe, tell
	}
	for i := range e.Sites {
		e.Sites[i].Gateway.Switches = true
	}
}

// limited holds a zone to limits in every overlay, and lets the survey say of some links
// that they are beyond them.
func limited(e *estate.Estate, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 79))
	zones := e.Zones()
	if len(zones) == 0 {
		return
	}
	for i := range e.Sites {
		for j := range e.Sites[i].Links {
			if r.IntN(4) == 0 {
				e.Sites[i].Links[j].LatencyMs = 700
			}
		}
	}
	for i := range e.Overlays[:min(len(e.Overlays), estate.MaxLimited)] {
		e.Overlays[i].Probe.TimeoutMs = 2000 // a slow tunnel is not to be taken for a dead one where the machine is busy
		e.Overlays[i].Probe.Limits = &estate.Limits{LatencyMs: 600, LossPercent: 10, WindowS: 4, Zones: zones[r.IntN(len(zones)):][:1]}
	}
}

// keep gives a gateway its agent, and waits until it is what it is to be.
func (w *world) keep(i int, keys linux.Keys) error {
	site := w.routes.Plan.Site(i).Key
	folder := filepath.Join(w.folder, site+".d")
	c := gateway.Of(w.routes, i)
	text, err := gateway.Write(c)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(folder, "config.json"), text, 0o600); err != nil {
		return err
	}
	if err := writeKeys(filepath.Join(folder, "keys"), c, keys); err != nil {
		return err
	}
	return w.restart(i)
}

// restart runs the agent of a gateway with the configuration that it is given by the world.
func (w *world) restart(i int) error {
	return w.start(i, digestOf(w, i), "--config", filepath.Join(w.folder, w.routes.Plan.Site(i).Key+".d", "config.json"))
}

func writeKeys(folder string, c *gateway.Config, keys linux.Keys) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	private, _ := keys.Private(c.Site)
	err := os.WriteFile(filepath.Join(folder, "private.key"), []byte(private), 0o600)
	for i := range c.Tunnels {
		if t := &c.Tunnels[i]; t.WireGuard != nil && t.WireGuard.Preshared {
			key, _ := keys.Shared(t.Overlay, t.Ident(c.Site))
			err = errors.Join(err, os.WriteFile(filepath.Join(folder, t.Interface+".psk"), []byte(key), 0o600))
		}
	}
	return err
}

// start runs the agent of a gateway in its namespace, with sockets and names that are
// this gateway's alone, and waits until it runs what has a digest.
func (w *world) start(i int, digest string, arguments ...string) error {
	path, err := program()
	if err != nil {
		return err
	}
	folder := filepath.Join(w.folder, w.routes.Plan.Site(i).Key+".d")
	k := &keeper{client: socket.Client(filepath.Join(folder, "gateway.sock"))}
	k.client.Timeout = 10 * time.Second
	err = w.gateways[i].do(func() error {
		k.command = exec.Command("unshare", "-m", "sh", "-c", `
			mkdir -p /run/wireguard && mount --bind "$2/sockets" /run/wireguard && mount --bind "$2/hosts" /etc/hosts || exit
			at="$2" program="$1"; shift 2
			exec "$program" gateway run --state "$at/state" --keys "$at/keys" --runtime "$at" "$@"`, "sh", path, folder)
		k.command.Args = append(k.command.Args, arguments...)
		k.command.Stderr = &k.said
		k.command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		return k.command.Start()
	})
	if err != nil {
		return err
	}
	w.mu.Lock()
	w.keepers[i] = k
	w.mu.Unlock()
	for range 1000 {
		var standing struct{ Digest string }
		if k.get("/standing", &standing) == nil && standing.Digest == digest {
			return nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return fmt.Errorf("the agent of %s does not become what it is to be:\n%s", w.routes.Plan.Site(i).Key, k.said.String())
}

// digestOf is what a gateway's agent is to run.
func digestOf(w *world, site int) string { return gateway.Of(w.routes, site).Digest() }

// end stops an agent; what it made stays.
func (k *keeper) end(signal syscall.Signal) {
	_ = syscall.Kill(-k.command.Process.Pid, signal)
	_ = k.command.Wait()
}

// get asks an agent something.
func (k *keeper) get(path string, into any) error {
	answer, err := k.client.Get("http://gateway" + path)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return errors.New(answer.Status)
	}
	return json.NewDecoder(answer.Body).Decode(into)
}

// forgive lets an agent forget that tunnels flapped.
func (k *keeper) forgive() error {
	answer, err := k.client.Post("http://gateway/forgive", "", nil)
	if err != nil {
		return err
	}
	return answer.Body.Close()
}

// forgive lets all agents do so.
func (w *world) forgive() error {
	for _, k := range w.keepers {
		if err := k.forgive(); err != nil {
			return err
		}
	}
	return nil
}

// state reads what an agent reports.
func (k *keeper) state() (*gateway.State, error) {
	var document struct {
		State *gateway.State `json:"wideknot-gateway:state"`
	}
	if err := k.get("/state", &document); err != nil {
		return nil, err
	}
	return document.State, nil
}

// settle waits until every agent has seen which tunnels are dead, and which beyond their
// limits, and returns how long that took. Agents have the time that their profile gives
// them, and a little.
func (w *world) settle(failing route.Failing) (time.Duration, error) {
	began := time.Now()
	const most = 40 * time.Second // a handshake may have to be tried again
	var since time.Time           // when all began to be as it should
	forgiven := began
	for {
		wrong, log := "", ""
		for i, k := range w.keepers {
			site := w.routes.Plan.Site(i)
			s, err := k.state()
			if err != nil {
				return 0, fmt.Errorf("%s: %w\n%s", site.Key, err, k.said.String())
			}
			up, beyond := map[string]bool{}, map[string]bool{}
			seen := map[string]gateway.TunnelState{}
			for j := range s.Tunnels {
				seen[s.Tunnels[j].Interface] = s.Tunnels[j]
				// One whose probes nobody answered yet is only taken for alive.
				up[s.Tunnels[j].Interface] = s.Tunnels[j].Up && s.Tunnels[j].Answered > 0
				beyond[s.Tunnels[j].Interface] = s.Tunnels[j].Beyond
			}
			for _, p := range w.routes.Plan.Peers(i) {
				gone := p.Tunnel.Mute || says(failing.Dead, p.Tunnel)
				if up[p.Interface] == gone {
					wrong, log = fmt.Sprintf("%s at %s: up is %v", p.Interface, site.Key, up[p.Interface]), k.said.String()
				}
				if is := w.exceeds(p.Overlay.Spec.Limits(), p.Tunnel, failing); !gone && beyond[p.Interface] != is {
					wrong, log = fmt.Sprintf("%s at %s: beyond its limits is %v, %+v", p.Interface, site.Key, beyond[p.Interface], seen[p.Interface]), k.said.String()
				}
			}
		}
		switch {
		case wrong != "":
			since = time.Time{}
			// What a late handshake or a busy machine made come and go is not waited for.
			if time.Since(forgiven) > 3*time.Second {
				forgiven = time.Now()
				if err := w.forgive(); err != nil {
					return 0, err
				}
			}
			if time.Since(began) > most {
				return 0, fmt.Errorf("agents do not see what is dead: %s\n%s", wrong, log)
			}
		case since.IsZero():
			since = time.Now()
		case time.Since(since) > slack: // what the far ends say has come too
			return since.Sub(began), nil
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// says asks about a tunnel.
func says(which route.Dead, t *tunnel.Tunnel) bool { return which != nil && which(t) }

// exceeds reports whether a tunnel is beyond limits, by the survey or by what fails.
func (w *world) exceeds(l *estate.Limits, t *tunnel.Tunnel, failing route.Failing) bool {
	if l == nil {
		return false
	}
	return len(l.Exceeded(w.routes.Plan.Quality(t))) > 0 || says(failing.Slow, t) || says(failing.Lossy, t)
}

// deaths returns how long after a moment the last agent saw one of the tunnels die that
// are dead.
func (w *world) deaths(dead route.Dead, began time.Time) (slowest time.Duration, err error) {
	for i, k := range w.keepers {
		var events []struct {
			Sequence    uint64
			At          time.Time
			Kind, About string
		}
		if err := k.get(fmt.Sprintf("/events?after=%d", k.read), &events); err != nil {
			return 0, err
		}
		gone := map[string]bool{}
		for _, p := range w.routes.Plan.Peers(i) {
			gone[p.Interface] = says(dead, p.Tunnel) && !p.Tunnel.Mute
		}
		for _, e := range events {
			k.read = e.Sequence
			if e.Kind == "tunnel-dead" && gone[e.About] && e.At.After(began) {
				slowest = max(slowest, e.At.Sub(began))
			}
		}
	}
	return slowest, nil
}
