// Package diagnose says why a packet does not arrive: from what the design says of its path and
// what the gateways on it report, step by step, to a cause with its evidence, how sure it is,
// and its repair. It says what it could not see, too.
package diagnose

import (
	"cmp"
	"net/netip"
	"slices"

	"wideknot/core/gateway"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A Gateway is what is known of one.
type Gateway struct {
	Joined  bool
	Up      bool            // a server holds its line
	Wants   *gateway.Config // at the release in force
	Runs    *gateway.Config // what it runs where that is something else; nil where it is not known
	Release int             // in force
	Keeps   int             // release that it runs; 0 where it is not known
	ByHand  bool            // what it runs is what somebody set there
	Well    bool            // it reported that all its tunnels live; State may then be nil
	Fresh   bool            // it called just now, or is being brought somewhere
	Rising  bool            // it has just joined, as most others: all its tunnels are on their way up
	Failed  string          // why it does not take what it is to be, in its own words; empty where it does
	Clock   int             // by how many ms its clock is ahead
	State   *gateway.State  // nil where it reported none
	Offers  *gateway.Offers
	Looked  *gateway.Looked // nil where it was not asked to look
	Echoes  map[Ask]gateway.Echoed
	Carries map[string]bool // interfaces that some way uses; nil where that is not known
}

// An Ask is an echo from one address to another; what comes of one that matters is asked for
// again, later.
type Ask struct {
	From, To netip.Addr
	Again    bool
}

// Known is the design in force and what its gateways say, by site.
type Known struct {
	Routes   *route.Map
	Gateways map[string]*Gateway
}

// Of returns what is known of a site's gateway; nothing is, where that is not there.
func (k *Known) Of(site string) *Gateway {
	if g := k.Gateways[site]; g != nil {
		return g
	}
	return &Gateway{}
}

// A Verdict says how a packet fares.
type Verdict string

// The verdicts.
const (
	Arrives Verdict = "arrives" // as the design says
	Standby Verdict = "standby" // it arrives, but not by the first choice
	Poor    Verdict = "poor"    // it arrives, with losses or too small
	Fails   Verdict = "fails"
	Refused Verdict = "refused" // the design does not let it pass
	Unseen  Verdict = "unseen"  // what is seen does not say
)

// How sure a cause is.
type Sureness string

// The degrees.
const (
	Sure     Sureness = "sure"
	Likely   Sureness = "likely"
	Possible Sureness = "possible"
)

func (s Sureness) rank() int { return slices.Index([]Sureness{Sure, Likely, Possible}, s) }

// Surer reports whether one is surer than another.
func (s Sureness) Surer(than Sureness) bool { return s.rank() < than.rank() }

// A Cause is why.
type Cause struct {
	Code     Code     `json:"code"`
	Sure     Sureness `json:"sure" enum:"sure,likely,possible"`
	Words    string   `json:"words"`
	Site     string   `json:"site,omitempty"` // where it is
	Link     string   `json:"link,omitempty"`
	Tunnel   string   `json:"tunnel,omitempty"` // interface at Site
	Overlay  string   `json:"overlay,omitempty"`
	Rule     int      `json:"rule,omitempty" doc:"of the overlay's policy, from 1"`
	Evidence []string `json:"evidence"`
	Repair   Cure     `json:"repair"`
}

// A Cure is how it is repaired.
type Cure struct {
	Words string `json:"words"`
	// Where is the stage of the design in which it is done; empty for work on a device.
	Where string `json:"where,omitempty" enum:"survey,shape,release,watch"`
	Site  string `json:"site,omitempty"`
}

// A PathStep is one of the way there, or of the answer's.
type PathStep struct {
	Back    bool      `json:"back" doc:"of the answer's way"`
	Kind    string    `json:"kind" enum:"lan,gateway,tunnel"`
	Site    string    `json:"site"`
	Far     string    `json:"far,omitempty" doc:"site at the other end of a tunnel"`
	Overlay string    `json:"overlay,omitempty"`
	Tunnel  string    `json:"tunnel,omitempty" doc:"its name, as in the paths"`
	Words   string    `json:"words"`
	Verdict Verdict   `json:"verdict" enum:"arrives,standby,poor,fails,refused,unseen"`
	Ends    []EndSeen `json:"ends,omitempty" doc:"of a tunnel, here and there"`
	Said    string    `json:"said,omitempty" doc:"what was seen"`
}

// An EndSeen is a tunnel's end as its gateway sees it.
type EndSeen struct {
	Site       string       `json:"site"`
	Link       string       `json:"link"`
	Interface  string       `json:"interface"`
	Seen       bool         `json:"seen" doc:"its gateway reported of it"`
	Up         bool         `json:"up"`
	Since      gateway.Time `json:"since,omitempty"`
	HandshakeS int          `json:"handshake_s" doc:"0 for none"`
	Endpoint   string       `json:"endpoint,omitempty"`
	LatencyUs  int          `json:"latency_us"`
	LossOut    int          `json:"loss_out_ppm"`
	LossBack   int          `json:"loss_back_ppm"`
}

// A Diagnosis is the answer.
type Diagnosis struct {
	Packet   route.Packet `json:"-"`
	FromSite string       `json:"from_site,omitempty"`
	ToSite   string       `json:"to_site,omitempty"`
	Verdict  Verdict      `json:"verdict" enum:"arrives,standby,poor,fails,refused,unseen"`
	Failing  int          `json:"failing" doc:"index of the first step that fails, -1 for none"`
	Steps    []PathStep   `json:"steps"`
	Causes   []Cause      `json:"causes" doc:"surest first"`
	Unseen   []string     `json:"unseen" doc:"what could not be seen"`
	Carried  []string     `json:"carried" doc:"by what it goes meanwhile, where that is not the first choice"`
	Wants    []Want       `json:"-"`
}

// A Want is what a gateway is to be asked for knowing more.
type Want struct {
	Site   string
	Look   *gateway.Look
	Echoes []gateway.Echo
	Again  bool // the echoes are asked for again
}

// diagnoser is a diagnosis on its way.
type diagnoser struct {
	*Known
	plan        *tunnel.Plan
	packet      route.Packet
	design, now route.Trace
	from, to    int // sites, -1 for none
	fromSeen    netip.Addr
	toOwn       netip.Addr
	out         Diagnosis
	states      map[string]map[string]*gateway.TunnelState // by site and interface
	wants       map[string]*Want
	failed      bool // the gateways' own echo does not come through
	poor        bool // a tunnel that carries loses packets, or is being looked at for it
}

// Diagnose says why a packet does not arrive, as far as is known. What it Wants is to be asked,
// and to be known when it is called again.
func Diagnose(k *Known, p route.Packet) *Diagnosis {
	d := &diagnoser{Known: k, plan: k.Routes.Plan, packet: p, from: -1, to: -1, wants: map[string]*Want{}}
	d.out = Diagnosis{Packet: p, Failing: -1, Steps: []PathStep{}, Causes: []Cause{}, Unseen: []string{}, Carried: []string{}}
	d.design = k.Routes.Follow(p)
	if d.byDesign() {
		d.now = k.Routes.FollowIn(route.Failing{Dead: d.dead}, p)
		d.seeGateways()
		d.seeTunnels()
		d.seeQuality()
		d.seeHosts()
	}
	d.conclude()
	return &d.out
}

// Sites lists those that a packet and its answer pass, by the design and at present.
func Sites(k *Known, p route.Packet) (out []string) {
	d := &diagnoser{Known: k, plan: k.Routes.Plan}
	d.design = k.Routes.Follow(p)
	d.now = k.Routes.FollowIn(route.Failing{Dead: d.dead}, p)
	for _, site := range d.onPath() {
		out = append(out, d.key(site))
	}
	for _, site := range []int{d.design.Forward.FromSite, d.design.Forward.ToSite} {
		if key := d.key(site); key != "" && !slices.Contains(out, key) {
			out = append(out, key)
		}
	}
	return out
}

// key is a site's.
func (d *diagnoser) key(site int) string {
	if site < 0 {
		return ""
	}
	return d.plan.Site(site).Key
}

// cause adds one, once; where it is surer than before, that counts.
func (d *diagnoser) cause(c Cause) {
	for i := range d.out.Causes {
		if have := &d.out.Causes[i]; have.Code == c.Code && have.Site == c.Site && have.Link == c.Link && have.Tunnel == c.Tunnel {
			if c.Sure.Surer(have.Sure) {
				have.Sure = c.Sure
			}
			return
		}
	}
	if c.Evidence == nil {
		c.Evidence = []string{}
	}
	d.out.Causes = append(d.out.Causes, c)
}

func (d *diagnoser) unseen(words string) {
	if !slices.Contains(d.out.Unseen, words) {
		d.out.Unseen = append(d.out.Unseen, words)
	}
}

func (d *diagnoser) want(site string) *Want {
	if d.wants[site] == nil {
		d.wants[site] = &Want{Site: site}
	}
	return d.wants[site]
}

// conclude orders what was found and says how the packet fares.
func (d *diagnoser) conclude() {
	for site, host := range map[int]netip.Addr{d.from: d.packet.From, d.to: d.toOwn} {
		if site >= 0 && host.IsValid() && d.wants[d.key(site)] != nil && d.wants[d.key(site)].Look != nil {
			look := d.wants[d.key(site)].Look
			look.Hosts = append(look.Hosts, host)
		}
	}
	for _, w := range d.wants {
		d.out.Wants = append(d.out.Wants, *w)
	}
	slices.SortFunc(d.out.Wants, func(a, b Want) int { return cmp.Compare(a.Site, b.Site) })
	if d.out.Verdict == "" {
		d.judge()
	}
	slices.SortStableFunc(d.out.Causes, func(a, b Cause) int { return cmp.Compare(a.Sure.rank(), b.Sure.rank()) })
	d.out.Failing = slices.IndexFunc(d.out.Steps, func(s PathStep) bool { return s.Verdict == Fails || s.Verdict == Refused })
}

// judge says how a packet fares that the design lets through.
func (d *diagnoser) judge() {
	has := func(v Verdict) bool {
		return slices.ContainsFunc(d.out.Steps, func(s PathStep) bool { return s.Verdict == v })
	}
	between := !d.now.Arrives() || d.failed // it fails between the gateways
	if !between {
		// What gateways run otherwise is harmless here: the tunnels that are dead have their own causes.
		d.out.Causes = slices.DeleteFunc(d.out.Causes, func(c Cause) bool { return (c.Code == OlderRelease || c.Code == ByHand) && c.Sure == Possible })
	}
	switch {
	case between || d.hostFails():
		d.lesser()
		d.out.Verdict = Fails
	case has(Poor):
		d.out.Verdict = Poor
	case has(Fails):
		d.out.Verdict = Standby
		for i := range d.now.Forward.Steps {
			d.out.Carried = append(d.out.Carried, d.tunnelStep(&d.now.Forward.Steps[i], false).Words)
		}
	case has(Unseen):
		d.out.Verdict = Unseen
	default:
		d.out.Verdict = Arrives
	}
}

// lesser makes causes of losses possible ones only, where nothing arrives and another is known.
func (d *diagnoser) lesser() {
	losing := func(c Cause) bool {
		return c.Code == Lossy || c.Code == LossyOneWay || c.Code == LinkFull || c.Code == LargeLost
	}
	if !slices.ContainsFunc(d.out.Causes, func(c Cause) bool { return !losing(c) }) {
		return
	}
	for i := range d.out.Causes {
		if c := &d.out.Causes[i]; losing(*c) {
			c.Sure = Possible
		}
	}
}

// hostFails reports whether a step on a LAN does.
func (d *diagnoser) hostFails() bool {
	return slices.ContainsFunc(d.out.Steps, func(s PathStep) bool { return s.Kind == "lan" && s.Verdict == Fails })
}
