package rollouts

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"wideknot/core/gateway"
	"wideknot/core/rollout"
	"wideknot/core/words"
	"wideknot/internal/server/store"
)

// How echoes prove a round.
const (
	mostWhole    = 100 // gateways up to which every pair is asked
	mostBetween  = 400 // pairs that are asked after a round that is not the last
	echoSeconds  = 30  // until gateways must have answered
	echoAttempts = 4   // two ends that call each other at once may end with a session that carries one way alone, until one has heard nothing for 15 s
)

// Marks of a pair of gateways in the grid.
const (
	notAsked  = '.'
	asIs      = 'a' // answered as expected, with its whole size, by the hubs that were expected
	asNone    = 'n' // not answered, as expected
	lostEcho  = 'x' // not answered
	small     = 's' // only a small packet was
	otherWay  = 'w' // by other hubs
	surprised = 'o' // answered, and was not to be
	silent    = '?' // the gateway did not say
)

// Echoes is what gateways heard when they asked each other from LAN to LAN.
type Echoes struct {
	Try      int      `json:"try"`
	Of       int      `json:"of" doc:"pairs of gateways that could be asked, in each direction"`
	Asked    int      `json:"asked" doc:"of those: after each round but the last only what it could change, and 400 of it at most"`
	As       int      `json:"as_expected"`
	Silent   int      `json:"silent" doc:"pairs of which the gateway said nothing"`
	Sampled  bool     `json:"sampled" doc:"there are more than 100 gateways: each asks two others, its next one by name and the one half way round"`
	Away     int      `json:"away" doc:"gateways that are away: nothing is asked of them, nor whether they answer"`
	Homeless int      `json:"homeless" doc:"gateways without an address of their own in what their site shares: they are not asked"`
	Doubled  int      `json:"doubled" doc:"gateways whose address another site's gateway has, too: who answers would not be known, so they are not asked"`
	Sites    []string `json:"sites" doc:"in the order of the grid; none where there are more than 100"`
	Grid     []string `json:"grid" doc:"a row for each that asks, a character for each that is asked: . not asked, a as expected, n no answer, as expected, x no answer, s a small packet only, w by other sites, o an answer although none was to come, ? the gateway did not say"`
}

// A question is one gateway asking another one.
type question struct {
	from, to       string
	source, target netip.Addr
	is             rollout.Echo
	certain        bool // hubs and silence are told from the design alone: nothing on the way was dead before
}

// homes finds an address of each gateway in what its site shares, in a state, and how many
// gateways others know by each address.
func (t *turn) homes(state []rollout.Stage, out *Echoes) (own map[string]netip.Addr, known map[netip.Addr]int, err error) {
	rows, err := t.tx.Offering(t.row.EstateID, "")
	if err != nil {
		return nil, nil, err
	}
	up := t.up()
	own, known = map[string]netip.Addr{}, map[netip.Addr]int{}
	for i := range rows {
		site := rows[i].Site
		if t.plan.Bases[site] == 0 || rows[i].BarredAt != nil {
			continue
		}
		if !up[site] {
			out.Away++
			continue
		}
		offers, err := gateway.ParseOffers([]byte(*rows[i].Offers))
		if err != nil {
			continue // what cannot be read offers nothing
		}
		if a := offers.Own(t.network.Shares(state, site)); a.IsValid() {
			own[site] = a
			known[t.network.Target(state, site, a)]++
			out.Sites = append(out.Sites, site)
		} else {
			out.Homeless++
		}
	}
	slices.Sort(out.Sites)
	for _, n := range known {
		if n > 1 {
			out.Doubled += n
		}
	}
	return own, known, nil
}

// questions lists what gateways are to ask once the present round is done.
func (t *turn) questions() ([]question, *Echoes, error) {
	state := t.network.Before(&t.plan.Plan, t.row.Round+1)
	out := &Echoes{Sites: []string{}, Grid: []string{}}
	own, known, err := t.homes(state, out)
	if err != nil {
		return nil, nil, err
	}
	out.Sampled = len(out.Sites) > mostWhole
	t.network.Without(t.plan.Dead)
	defer t.network.Without(nil)
	last, here := t.row.Round == len(t.plan.Rounds)-1, t.plan.Rounds[t.row.Round].Sites
	var list []question
	for a, from := range out.Sites {
		shares := t.network.Shares(state, from)
		for _, b := range asks(a, len(out.Sites)) {
			to := out.Sites[b]
			q := question{from: from, to: to, source: own[from], target: t.network.Target(state, to, own[to])}
			if q.source.Is4() != q.target.Is4() || known[q.target] > 1 || slices.ContainsFunc(shares, func(p netip.Prefix) bool { return p.Contains(q.target) }) {
				continue
			}
			out.Of++
			q.is = t.network.Echo(state, from, to, own[from], own[to])
			if !last && !slices.ContainsFunc(q.is.Passed, func(site string) bool { return slices.Contains(here, site) }) {
				continue
			}
			q.certain = !t.network.Steered(state, from) && !slices.ContainsFunc(q.is.Passed, t.plan.deadAt)
			list = append(list, q)
		}
	}
	if out.Sampled {
		out.Sites = []string{}
	}
	return list, out, nil
}

// asked keeps those of some questions that were asked: what can be asked changes with who is
// there.
func asked(list []question, rows []store.Ask) []question {
	was := map[string]bool{}
	for i := range rows {
		var echoes []gateway.Echo
		_ = json.Unmarshal([]byte(rows[i].Input), &echoes) // ours
		for _, e := range echoes {
			was[rows[i].Site+" "+e.From.String()+" "+e.To.String()] = true
		}
	}
	return slices.DeleteFunc(list, func(q question) bool { return !was[q.from+" "+q.source.String()+" "+q.target.String()] })
}

// thinned keeps so many of a list at most, spread evenly.
func thinned(list []question, most int) []question {
	if len(list) <= most {
		return list
	}
	out := make([]question, most)
	for i := range out {
		out[i] = list[i*len(list)/most]
	}
	return out
}

// up says which gateways have a line.
func (t *turn) up() map[string]bool {
	out := make(map[string]bool, len(t.live))
	for i := range t.live {
		out[t.live[i].Site] = t.live[i].Up
	}
	return out
}

// asks lists whom one of some gateways asks: all others, or two where there are many.
func asks(one, of int) (out []int) {
	if of <= mostWhole {
		for b := range of {
			if b != one {
				out = append(out, b)
			}
		}
		return out
	}
	return []int{(one + 1) % of, (one + of/2) % of}
}

// deadAt reports whether a tunnel of a site was dead before.
func (p *Stored) deadAt(site string) bool {
	return slices.ContainsFunc(p.Dead, func(end string) bool { return strings.HasPrefix(end, site+"/") })
}

func (t *turn) about(try int) string {
	return fmt.Sprintf("rollout %d round %d try %d", t.row.Number, t.row.Round, try)
}

// beginEchoes lets gateways ask each other for the first time.
func (t *turn) beginEchoes() error {
	list, _, err := t.questions()
	if err != nil {
		return err
	}
	if t.row.Round < len(t.plan.Rounds)-1 {
		list = thinned(list, mostBetween)
	}
	if err := t.dropEchoes(echoAttempts); err != nil { // of when it was asked before a person decided
		return err
	}
	return t.askEchoes(1, list)
}

// dropEchoes forgets what was asked and answered in some tries.
func (t *turn) dropEchoes(tries int) error {
	for try := range tries {
		if err := t.tx.DropAsks(t.row.EstateID, t.about(try+1)); err != nil {
			return err
		}
	}
	return nil
}

// askEchoes lets gateways ask each other.
func (t *turn) askEchoes(try int, list []question) error {
	by := map[string][]gateway.Echo{}
	for i := range list {
		q := &list[i]
		by[q.from] = append(by[q.from], gateway.Echo{From: q.source, To: q.target, Size: q.is.MTU, Hops: q.is.Arrives})
	}
	rows := make([]store.Ask, 0, len(by))
	for site, echoes := range by {
		rows = append(rows, store.Ask{EstateID: t.row.EstateID, Site: site, About: t.about(try), Operation: store.AskEcho, Input: text(echoes)})
	}
	if err := t.tx.AddAsks(rows, echoSeconds); err != nil {
		return err
	}
	var proof Proof
	if err := json.Unmarshal([]byte(t.row.Proof), &proof); err != nil {
		return err
	}
	proof.Echoes = &Echoes{Try: try, Sites: []string{}, Grid: []string{}}
	t.row.Proof = text(proof)
	t.set("proof")
	t.phase(Asking)
	return nil
}

// echoing waits for the answers, and compares them with what is expected.
func (t *turn) echoing() error {
	var proof Proof
	if err := json.Unmarshal([]byte(t.row.Proof), &proof); err != nil {
		return err
	}
	if proof.Echoes == nil {
		if t.now.Sub(t.row.Since) < awayAfter && t.returning() {
			return nil
		}
		return t.beginEchoes()
	}
	try := proof.Echoes.Try
	var tries [][]store.Ask
	for n := range try {
		rows, err := t.tx.AsksAbout(t.row.EstateID, t.about(n+1))
		if err != nil {
			return err
		}
		tries = append(tries, rows)
	}
	rows, up := tries[try-1], t.up()
	open := slices.ContainsFunc(rows, func(a store.Ask) bool { return a.AnsweredAt == nil && up[a.Site] })
	if open && t.now.Sub(t.row.Since) < echoSeconds*time.Second {
		return nil
	}
	list, echoes, err := t.questions()
	if err != nil {
		return err
	}
	list = asked(list, tries[0])
	echoes.Try, echoes.Asked = try, len(list)
	differ, again := t.compare(list, tries, echoes)
	if len(again) > 0 && try < echoAttempts { // what was lost may have been lost by chance
		return t.askEchoes(try+1, again)
	}
	if err := t.dropEchoes(try); err != nil {
		return err
	}
	proof.At, proof.Echoes = &t.now, echoes
	proof.differ(differ...)
	t.row.Proof = text(proof)
	t.set("proof")
	if len(differ) > 0 {
		d := differ[0]
		return t.stop("%s not as expected%s; the first: %s of %s is to be %s, and is %s", words.Many(len(differ), "echo is", "echoes are"), common(differ), d.What, d.Site, d.Expected, d.Seen)
	}
	if err := t.note("round %d is proven from LAN to LAN: %d of %d echoes are as expected", t.row.Round+1, echoes.As, echoes.Asked); err != nil {
		return err
	}
	return t.proven()
}

// heard finds what gateways answered in a try.
func heard(rows []store.Ask) map[string]map[[2]netip.Addr]*gateway.Echoed {
	out := map[string]map[[2]netip.Addr]*gateway.Echoed{}
	for i := range rows {
		var list []gateway.Echoed
		if rows[i].Output == nil || json.Unmarshal([]byte(*rows[i].Output), &list) != nil {
			continue
		}
		of := map[[2]netip.Addr]*gateway.Echoed{}
		for k := range list {
			of[[2]netip.Addr{list[k].From, list[k].To}] = &list[k]
		}
		out[rows[i].Site] = of
	}
	return out
}

// compare sets answers beside what is expected, and fills the grid. What was as expected in one
// try is; of what was in none the last answer counts, and it is to be asked again.
func (t *turn) compare(list []question, tries [][]store.Ask, out *Echoes) (differ []Unexpected, again []question) {
	answers := make([]map[string]map[[2]netip.Addr]*gateway.Echoed, len(tries))
	words := map[string]string{}
	for n, rows := range tries {
		answers[n] = heard(rows)
		for i := range rows {
			words[rows[i].Site] = rows[i].Words
		}
	}
	owners := t.network.Addresses(t.network.Before(&t.plan.Plan, t.row.Round+1))
	for i := range list {
		owners[list[i].source] = list[i].from
	}
	grid := newGrid(out.Sites)
	for i := range list {
		q := &list[i]
		mark, seen := q.best(answers, owners)
		name := Unexpected{q.from, "echo to " + q.to, q.expected(), seen, q.from + ">" + q.to, q.to}
		if mark == silent {
			out.Silent++
			name = Unexpected{q.from, "its echoes", "told", strings.TrimSpace("not told " + words[q.from]), q.from + " silent", ""}
		}
		accepted := slices.Contains(t.s.Accepted, name.key)
		if !accepted && (mark == silent || seen != "") {
			again = append(again, *q)
		}
		switch {
		case mark == silent && (accepted || len(differ) > 0 && differ[len(differ)-1].key == name.key):
		case mark == silent, seen != "" && !accepted:
			differ = append(differ, name)
		case accepted && seen != "":
			mark = asNone
			fallthrough
		default:
			out.As++
		}
		grid.put(q.from, q.to, mark)
	}
	out.Grid = grid.rows()
	return differ, again
}

// best judges what was answered to a question in some tries, until it is as expected.
func (q *question) best(tries []map[string]map[[2]netip.Addr]*gateway.Echoed, owners map[netip.Addr]string) (mark byte, seen string) {
	mark = silent
	for _, answers := range tries {
		if a := answers[q.from][[2]netip.Addr{q.source, q.target}]; a != nil {
			if mark, seen = q.judge(a, owners); seen == "" {
				break
			}
		}
	}
	return mark, seen
}

// common says which site is in all of some pairs, where there are several and one is.
func common(differ []Unexpected) string {
	for _, site := range []string{differ[0].Site, differ[0].to} {
		if len(differ) > 1 && !slices.ContainsFunc(differ, func(d Unexpected) bool { return d.Site != site && d.to != site }) {
			return ", all of them from or to " + site
		}
	}
	return ""
}

// judge says how an answer is to what is expected; seen is empty where it is as expected.
func (q *question) judge(a *gateway.Echoed, owners map[netip.Addr]string) (mark byte, seen string) {
	switch {
	case a == nil:
		return silent, ""
	case a.Answered == 0 && !q.is.Arrives:
		return asNone, ""
	case a.Answered == 0:
		return lostEcho, strings.TrimSpace("not answered " + a.Words)
	case !q.is.Arrives && q.certain:
		return surprised, "answered"
	case !q.is.Arrives:
		return asIs, ""
	case a.Answered < q.is.MTU && q.certain:
		seen = fmt.Sprintf("answered with %d bytes, not with %d", a.Answered, q.is.MTU)
		if a.Words != "" {
			seen += ": " + a.Words
		}
		return small, seen
	}
	if by, same := q.along(a.Hops, owners); !same && q.certain {
		return otherWay, "answered " + byHubs(by)
	}
	return asIs, ""
}

// along compares who passed the question on with who was to. Of one that says nothing it is not
// known, nor how many are behind it where it is the last.
func (q *question) along(hops []netip.Addr, owners map[netip.Addr]string) (by []string, same bool) {
	open := len(hops) > 0 && hops[len(hops)-1].IsUnspecified()
	same = len(hops) == len(q.is.Hubs) || open && len(q.is.Hubs) > 0
	for i, hop := range hops {
		name := owners[hop]
		switch {
		case hop.IsUnspecified():
			name = "one that says nothing"
		case name == "":
			name = hop.String()
		}
		by = append(by, name)
		same = same && (hop.IsUnspecified() || i < len(q.is.Hubs) && name == q.is.Hubs[i])
	}
	return by, same
}

// expected says it in words.
func (q *question) expected() string {
	if !q.is.Arrives {
		return "not answered"
	}
	return fmt.Sprintf("answered with %d bytes %s", q.is.MTU, byHubs(q.is.Hubs))
}

func byHubs(sites []string) string {
	if len(sites) == 0 {
		return "straight"
	}
	return "by " + strings.Join(sites, ", ")
}

// A grid is a mark for each pair of sites.
type grid struct {
	at    map[string]int
	marks [][]byte
}

func newGrid(sites []string) *grid {
	g := &grid{at: make(map[string]int, len(sites)), marks: make([][]byte, len(sites))}
	for i, site := range sites {
		g.at[site] = i
		g.marks[i] = []byte(strings.Repeat(string(notAsked), len(sites)))
	}
	return g
}

func (g *grid) put(from, to string, mark byte) {
	i, hasFrom := g.at[from]
	j, hasTo := g.at[to]
	if hasFrom && hasTo {
		g.marks[i][j] = mark
	}
}

func (g *grid) rows() []string {
	out := make([]string, len(g.marks))
	for i := range g.marks {
		out[i] = string(g.marks[i])
	}
	return out
}
