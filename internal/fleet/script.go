package fleet

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"time"

	"go.yaml.in/yaml/v3"

	"wideknot/core/estate"
	"wideknot/internal/gateway/memory"
)

// A Change is something that happens in the world. Which links it is of is said by site, by
// site and link, by provider, or by shared fate.
type Change struct {
	At       Duration `json:"at,omitempty" yaml:"at"` // from the beginning of the script
	Do       string   `json:"do" yaml:"do" enum:"cut,restore,like,address,restart,forward,nat,clock,neighbour,name,host,lan,device,load"`
	Site     string   `json:"site,omitempty" yaml:"site"`
	Link     string   `json:"link,omitempty" yaml:"link"`
	Provider string   `json:"provider,omitempty" yaml:"provider"`
	Fate     string   `json:"fate,omitempty" yaml:"fate"`

	LatencyMs *float64     `json:"latency_ms,omitempty" yaml:"latency_ms"` // of like: one way
	JitterMs  *float64     `json:"jitter_ms,omitempty" yaml:"jitter_ms"`
	LossPct   *float64     `json:"loss_percent,omitempty" yaml:"loss_percent"`
	MTU       *int         `json:"mtu,omitempty" yaml:"mtu"`
	UpMbps    *float64     `json:"up_mbps,omitempty" yaml:"up_mbps"`
	DownMbps  *float64     `json:"down_mbps,omitempty" yaml:"down_mbps"`
	NoUDP     *bool        `json:"no_udp,omitempty" yaml:"no_udp"`
	NAT       *Behaviour   `json:"nat,omitempty" yaml:"nat"`                         // of nat
	LossUpPct *float64     `json:"loss_up_percent,omitempty" yaml:"loss_up_percent"` // of like: of what leaves alone
	On        *bool        `json:"on,omitempty" yaml:"on"`                           // of forward, neighbour, name, host and lan
	Shift     int          `json:"shift,omitempty" yaml:"shift"`                     // of forward: to a port so much higher
	Host      netip.Addr   `json:"host,omitzero" yaml:"host"`                        // of host: whose; of load: that sends
	Astray    bool         `json:"astray,omitempty" yaml:"astray"`                   // of host: it has another gateway
	Stateful  bool         `json:"stateful,omitempty" yaml:"stateful"`               // of neighbour: it drops what it did not see begin
	Interface string       `json:"interface,omitempty" yaml:"interface"`             // of device
	Peer      string       `json:"peer,omitempty" yaml:"peer"`                       // of device: another key of its far end
	Shared    string       `json:"shared,omitempty" yaml:"shared"`                   // of device: another pre-shared key
	Without   netip.Prefix `json:"without,omitzero" yaml:"without"`                  // of device: that its far end may send from no longer
	To        netip.Addr   `json:"to,omitzero" yaml:"to"`                            // of load
	Mbps      float64      `json:"mbps,omitempty" yaml:"mbps"`                       // of load
	Seconds   float64      `json:"seconds,omitempty" yaml:"seconds"`                 // of clock: by how much it is fast; of load: how long
}

// Duration is a time such as 90s or 2m30s.
type Duration time.Duration

// UnmarshalText reads one.
func (d *Duration) UnmarshalText(text []byte) error {
	t, err := time.ParseDuration(string(text))
	if err != nil || t < 0 {
		return fmt.Errorf("%q is no time such as 90s", text)
	}
	*d = Duration(t)
	return nil
}

// MarshalText writes one.
func (d Duration) MarshalText() ([]byte, error) { return []byte(time.Duration(d).String()), nil }

// A Script is changes in the order of their times.
type Script struct {
	Changes []Change `yaml:"changes"`
}

// What a script may have.
const (
	mostScript  = 1 << 20
	mostChanges = 10000
)

// ReadScript reads a script in YAML.
func ReadScript(r io.Reader) (*Script, error) {
	decoder := yaml.NewDecoder(io.LimitReader(r, mostScript))
	decoder.KnownFields(true)
	var s Script
	if err := decoder.Decode(&s); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("the script cannot be read: %w", err)
	}
	if len(s.Changes) > mostChanges {
		return nil, fmt.Errorf("a script has up to %d changes", mostChanges)
	}
	for i := range s.Changes {
		if err := s.Changes[i].check(); err != nil {
			return nil, fmt.Errorf("change %d of the script: %w", i+1, err)
		}
	}
	slices.SortStableFunc(s.Changes, func(a, b Change) int { return int(a.At - b.At) })
	return &s, nil
}

func (c *Change) check() error {
	switch c.Do {
	case "cut", "restore", "like", "address", "restart", "forward", "nat":
	case "clock", "neighbour", "name", "host", "lan", "device", "load":
		if c.Site == "" {
			return fmt.Errorf("%s is of one site", c.Do)
		}
		if c.Do == "load" && (c.Mbps <= 0 || c.Mbps > mostLoad || c.Seconds <= 0 || c.Seconds > mostLoadFor) {
			return fmt.Errorf("a load is of up to %d Mbit/s, for up to %d s", mostLoad, mostLoadFor)
		}
		return nil
	default:
		return fmt.Errorf("there is no change %q; there are cut, restore, like, address, restart, forward, nat, clock, neighbour, name, host, lan, device and load", c.Do)
	}
	if c.Site == "" && c.Provider == "" && c.Fate == "" {
		return errors.New("it says of no link: name a site, a provider or a fate")
	}
	for name, v := range map[string]*float64{"loss_up_percent": c.LossUpPct, "latency_ms": c.LatencyMs, "jitter_ms": c.JitterMs, "loss_percent": c.LossPct, "up_mbps": c.UpMbps, "down_mbps": c.DownMbps} {
		if v != nil && (*v < 0 || *v > 1e6 || *v != *v) {
			return fmt.Errorf("%s is %v", name, *v)
		}
	}
	return nil
}

// of lists the links that a change is of, under the lock.
func (w *World) of(c *Change) (out []*Link) {
	for _, key := range w.order {
		for _, l := range w.sites[key].Links {
			if (c.Site == "" || c.Site == key) && (c.Link == "" || c.Link == l.Key) && (c.Provider == "" || c.Provider == l.spec.Provider) &&
				(c.Fate == "" || slices.Contains(l.spec.SharedFate, c.Fate)) {
				out = append(out, l)
			}
		}
	}
	return out
}

// Do lets something happen now. The error says what it cannot happen to.
func (w *World) Do(c Change) error {
	if err := c.check(); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if c.Site != "" && w.sites[c.Site] == nil {
		return fmt.Errorf("there is no site %s", c.Site)
	}
	switch c.Do {
	case "clock":
		w.sites[c.Site].offset = time.Duration(c.Seconds * float64(time.Second))
		return nil
	case "neighbour":
		r := w.sites[c.Site].router
		if r == nil {
			return fmt.Errorf("the gateway of %s is on the way itself: there is no router beside it", c.Site)
		}
		r.lacking, r.strict = c.On != nil && !*c.On, c.Stateful
		return nil
	case "name", "host", "lan", "device", "load":
		return w.onSite(w.sites[c.Site], &c)
	}
	links := w.of(&c)
	if len(links) == 0 {
		return errors.New("no link is meant by that")
	}
	for _, l := range links {
		if err := w.change(l, &c); err != nil {
			return fmt.Errorf("%s %s: %w", l.Site, l.Key, err)
		}
	}
	w.offlineCuts()
	w.log.Info("the world changed", "do", c.Do, "links", len(links))
	return nil
}

// change changes one link, under the lock.
func (w *World) change(l *Link, c *Change) error {
	switch c.Do {
	case "cut":
		l.Cut = true
	case "restore":
		l.Cut = false
	case "like":
		set(&l.LatencyMs, c.LatencyMs)
		set(&l.JitterMs, c.JitterMs)
		set(&l.LossPct, c.LossPct)
		set(&l.LossUpPct, c.LossUpPct)
		set(&l.MTU, c.MTU)
		set(&l.UpMbps, c.UpMbps)
		set(&l.DownMbps, c.DownMbps)
		set(&l.NoUDP, c.NoUDP)
	case "address":
		if l.spec.Reach != estate.Dynamic && l.spec.Reach != estate.Static {
			return errors.New("its address does not change")
		}
		for _, a := range l.inside {
			delete(w.outside, place{l.spec.UnderlayOf(), a})
		}
		l.inside = []netip.Addr{w.give()}
		w.outside[place{l.spec.UnderlayOf(), l.inside[0]}] = l
		site := w.sites[l.Site]
		if n, ok := site.Machine.Nic(l.nic); ok {
			n.Addresses = []netip.Prefix{netip.PrefixFrom(l.inside[0], 24)}
			if len(l.spec.NextHop) == 0 {
				n.NextHops = []netip.Addr{n.Addresses[0].Masked().Addr().Next()}
			}
			go site.Machine.SetNic(n)
		}
	case "restart":
		if l.behind == nil {
			return errors.New("no router is before it")
		}
		l.forget()
	case "forward":
		if l.spec.Reach != estate.Forwarded {
			return errors.New("nothing is forwarded to it")
		}
		l.unforward, l.shift = c.On != nil && !*c.On, c.Shift
		l.forget()
	case "nat":
		if l.behind == nil || c.NAT == nil {
			return errors.New("it is not behind NAT, or nothing is said of how that behaves")
		}
		l.nat = *c.NAT
		l.before = nil
		if l.nat.Double {
			l.before = newNAT(w.shared())
		}
		l.forget()
	}
	return nil
}

func set[T any](to *T, value *T) {
	if value != nil {
		*to = *value
	}
}

// What a load may be.
const (
	mostLoad    = 20 // Mbit/s
	mostLoadFor = 600
	loadSize    = 1200 // bytes of a packet
)

// onSite changes what is of a site and none of its links, under the lock.
func (w *World) onSite(s *Site, c *Change) error {
	off := c.On != nil && !*c.On
	switch c.Do {
	case "name": // the name service goes on telling the addresses of now
		for name, l := range w.names {
			if l.Site == s.Key && (c.Link == "" || c.Link == l.Key) {
				delete(w.stale, name)
				if off {
					w.stale[name] = slices.Clone(l.inside)
				}
			}
		}
	case "host":
		delete(s.hosts, c.Host)
		if off || c.Astray {
			s.hosts[c.Host] = hostState{off: off, astray: c.Astray}
		}
	case "lan":
		n, ok := s.Machine.Nic(s.lan)
		if !ok {
			return errors.New("it has no LAN")
		}
		n.Down = off
		go s.Machine.SetNic(n)
	case "device":
		return s.Machine.SetByHand(c.Interface, c.Peer, c.Shared, c.Without)
	case "load":
		if s.loaded {
			return errors.New("one of its hosts sends already")
		}
		s.loaded = true
		go w.load(s, *c)
	}
	return nil
}

// load lets a host send datagrams for a while.
func (w *World) load(s *Site, c Change) {
	defer func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		s.loaded = false
	}()
	every := time.Duration(loadSize * 8 / c.Mbps * float64(time.Microsecond))
	began := time.Now()
	for at := began; at.Before(began.Add(time.Duration(c.Seconds * float64(time.Second)))); at = at.Add(every) {
		time.Sleep(time.Until(at))
		w.fromHost(s, memory.UDP(netip.AddrPortFrom(c.Host, discardPort), netip.AddrPortFrom(c.To, discardPort), 64, make([]byte, loadSize-28)))
	}
}

// Play lets a script happen.
func (w *World) Play(ctx context.Context, s *Script) {
	began := time.Now()
	for i := range s.Changes {
		c := s.Changes[i]
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(began.Add(time.Duration(c.At)))):
		}
		if err := w.Do(c); err != nil {
			w.log.Error("a change of the script did not happen", "change", i+1, "reason", err)
		}
	}
}

// A LinkView is a link as it is now, for who looks.
type LinkView struct {
	Site     string       `json:"site"`
	Link     string       `json:"link"`
	Provider string       `json:"provider,omitempty"`
	Underlay string       `json:"underlay"`
	Reach    string       `json:"reach"`
	Fates    []string     `json:"fates,omitempty"`
	Inside   []netip.Addr `json:"inside"`
	Outside  netip.Addr   `json:"outside,omitzero"`
	NAT      *Behaviour   `json:"nat,omitempty"`
	Forwards bool         `json:"forwards"`
	Like
}

// A SiteView is a stand-in as it is now.
type SiteView struct {
	Site    string     `json:"site"`
	Joined  bool       `json:"joined"`
	Clock   float64    `json:"clock"` // by how many seconds it is fast
	Missing bool       `json:"neighbour_lacks_routes"`
	Links   []LinkView `json:"links"`
}

// View tells how the world is now.
func (w *World) View() []SiteView {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := make([]SiteView, 0, len(w.order))
	for _, key := range w.order {
		s := w.sites[key]
		v := SiteView{Site: key, Joined: s.identity != nil, Clock: s.offset.Seconds(), Missing: s.router != nil && s.router.lacking, Links: []LinkView{}}
		for _, l := range s.Links {
			one := LinkView{
				Site: key, Link: l.Key, Provider: l.spec.Provider, Underlay: l.spec.UnderlayOf(), Reach: string(l.spec.Reach), Fates: l.spec.SharedFate,
				Inside: l.inside, Like: l.Like, Forwards: l.spec.Reach == estate.Forwarded && !l.unforward,
			}
			if l.behind != nil {
				one.Outside = l.behind.outside
				behaves := l.nat
				one.NAT = &behaves
			}
			v.Links = append(v.Links, one)
		}
		out = append(out, v)
	}
	return out
}
