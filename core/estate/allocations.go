package estate

import (
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"strconv"
	"strings"
)

// Allocations is what derivation has handed out and must keep: addresses,
// ports, interface numbers and public keys survive every later edit.
type Allocations struct {
	Keys    map[string]string               `json:"keys,omitempty" max:"50000"`           // site → X25519 public key
	Sites   map[string]map[string]SiteSeat  `json:"sites,omitempty" max:"1024 50000"`     // overlay → site → its addresses
	Tunnels map[string]map[string]TunnelLot `json:"tunnels,omitempty" max:"1024 1000000"` // overlay → TunnelIdent → what it got
}

// A SiteSeat is the one tunnel address per pool that a site has in an overlay
// numbered per site.
type SiteSeat struct {
	Addresses []netip.Addr `json:"addresses" max:"8"`
}

// A TunnelLot is what one tunnel was given. Slots and Ports belong to the two
// ends in the order of the tunnel's ident; the slot is the number at the end
// of the interface name.
type TunnelLot struct {
	Transit []netip.Prefix `json:"transit,omitempty" max:"8"`
	Slots   [2]int         `json:"slots"`
	Ports   [2]int         `json:"ports"`
}

// Adopt returns the allocations with those of another record added, except
// where the two would give one number twice: what a holds stays. It is for two
// records that grew apart from a common one.
func (a Allocations) Adopt(other Allocations) Allocations {
	out := Allocations{Keys: maps.Clone(a.Keys)}
	for site, key := range other.Keys {
		if _, known := out.Keys[site]; !known {
			if out.Keys == nil {
				out.Keys = map[string]string{}
			}
			out.Keys[site] = key
		}
	}
	taken := map[string]bool{} // "port SITE N", "slot SITE N", addresses as they are written
	for _, lots := range a.Tunnels {
		for ident, lot := range lots {
			for _, number := range numbersOf(ident, lot) {
				taken[number] = true
			}
		}
	}
	for _, seats := range a.Sites {
		for _, seat := range seats {
			for _, address := range seat.Addresses {
				taken[address.String()] = true
			}
		}
	}
	out.Tunnels = adopt(a.Tunnels, other.Tunnels, func(ident string, lot TunnelLot) bool { return claim(taken, numbersOf(ident, lot)) })
	out.Sites = adopt(a.Sites, other.Sites, func(_ string, seat SiteSeat) bool { return claim(taken, written(seat.Addresses)) })
	return out
}

func numbersOf(ident string, lot TunnelLot) []string {
	out := []string{}
	for i, end := range strings.Fields(ident) {
		site, _, _ := strings.Cut(end, "/")
		if i < 2 {
			out = append(out, "port "+site+" "+strconv.Itoa(lot.Ports[i]), "slot "+site+" "+strconv.Itoa(lot.Slots[i]))
		}
	}
	for _, block := range lot.Transit {
		out = append(out, block.String())
	}
	return out
}

func written(addresses []netip.Addr) []string {
	out := make([]string, len(addresses))
	for i, a := range addresses {
		out[i] = a.String()
	}
	return out
}

// claim takes all the numbers, or none when one is taken.
func claim(taken map[string]bool, numbers []string) bool {
	for _, n := range numbers {
		if taken[n] {
			return false
		}
	}
	for _, n := range numbers {
		taken[n] = true
	}
	return true
}

func adopt[V any](held, other map[string]map[string]V, fits func(name string, v V) bool) map[string]map[string]V {
	if len(held)+len(other) == 0 {
		return nil
	}
	out := make(map[string]map[string]V, len(held))
	for overlay, lots := range held {
		out[overlay] = maps.Clone(lots)
	}
	for _, overlay := range slices.Sorted(maps.Keys(other)) {
		for _, name := range slices.Sorted(maps.Keys(other[overlay])) {
			v := other[overlay][name]
			if _, known := out[overlay][name]; known || !fits(name, v) {
				continue
			}
			if out[overlay] == nil {
				out[overlay] = map[string]V{}
			}
			out[overlay][name] = v
		}
	}
	return out
}

// Equal reports whether two records hold the same.
func (a Allocations) Equal(b Allocations) bool {
	return maps.Equal(a.Keys, b.Keys) &&
		equal(a.Sites, b.Sites, func(x, y SiteSeat) bool { return slices.Equal(x.Addresses, y.Addresses) }) &&
		equal(a.Tunnels, b.Tunnels, func(x, y TunnelLot) bool {
			return x.Slots == y.Slots && x.Ports == y.Ports && slices.Equal(x.Transit, y.Transit)
		})
}

func equal[V any](a, b map[string]map[string]V, same func(x, y V) bool) bool {
	if reflect.ValueOf(a).Pointer() == reflect.ValueOf(b).Pointer() {
		return true // one map
	}
	return maps.EqualFunc(a, b, func(x, y map[string]V) bool { return maps.EqualFunc(x, y, same) })
}

// maxSlot is the largest number at the end of an interface name.
const maxSlot = 65535

// isIdent reports whether a text has the form of TunnelIdent.
func isIdent(text string) bool {
	a, b, ok := strings.Cut(text, " ")
	return ok && isEnd(a) && isEnd(b)
}

func isEnd(text string) bool {
	site, link, ok := strings.Cut(text, "/")
	return ok && isKey(site) && isKey(link)
}

// isKey is keyForm, quick enough for every end of every tunnel.
func isKey(text string) bool {
	if len(text) == 0 || len(text) > 40 || text[0] == '-' {
		return false
	}
	for i := range len(text) {
		if c := text[i]; c != '-' && (c < '0' || c > '9') && (c < 'a' || c > 'z') {
			return false
		}
	}
	return true
}

// sound reports whether a lot holds numbers that can have been given out.
func (l *TunnelLot) sound() bool {
	in := func(n, most int) bool { return n >= 0 && n <= most }
	return in(l.Ports[0], 65535) && in(l.Ports[1], 65535) && in(l.Slots[0], maxSlot) && in(l.Slots[1], maxSlot) &&
		!slices.ContainsFunc(l.Transit, func(p netip.Prefix) bool { return !p.IsValid() })
}

// allocations checks what a record may hold: it is the tool's own, but a document
// is anybody's.
func (v *validator) allocations(path string, a *Allocations) {
	for _, site := range slices.Sorted(maps.Keys(a.Keys)) {
		v.publicKey(keyPath(path+".keys", site), a.Keys[site])
	}
	for _, overlay := range slices.Sorted(maps.Keys(a.Sites)) {
		for _, site := range slices.Sorted(maps.Keys(a.Sites[overlay])) {
			v.addresses(keyPath(keyPath(path+".sites", overlay), site)+".addresses", a.Sites[overlay][site].Addresses)
		}
	}
	var bad []string
	for overlay, lots := range a.Tunnels {
		for ident, lot := range lots {
			if !lot.sound() || !isIdent(ident) {
				bad = append(bad, keyPath(keyPath(path+".tunnels", overlay), ident))
			}
		}
	}
	slices.Sort(bad)
	for _, at := range bad {
		v.fail(at, "a tunnel is written as SITE/LINK SITE/LINK, has ports of 1 to 65535, slots of 1 to %d and its transit prefixes", maxSlot)
	}
}
