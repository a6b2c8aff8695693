package estate

import (
	"fmt"
	"net/netip"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"wideknot/core/addr"
)

var (
	deviceForm = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.@-]{0,14}$`)
	hostForm   = regexp.MustCompile(`^([A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?\.)+[A-Za-z0-9-]{2,63}\.?$`)
)

// Validate lists what makes an estate unusable: keys of the wrong form or
// given twice, names that point nowhere, values outside their range. Risks and
// design errors in a usable estate are findings, not problems.
func Validate(e *Estate) []Problem {
	v := validator{}
	v.limits("", reflect.ValueOf(e), nil)
	if len(v.problems.list) > 0 {
		return v.problems.all() // nothing below is asked to go through such lists
	}
	if e.Format != Format {
		v.fail("wideknot", "this is format %d; this version reads format %d (\"wideknot: %d\")", e.Format, Format, Format)
	}
	v.name("estate.name", e.About.Name)
	regions := map[string]bool{}
	for i, r := range e.About.Regions {
		path := fmt.Sprintf("estate.regions[%d]", i)
		v.key(path+".key", r.Key, "region", regions)
		for j, b := range r.Blocks {
			v.prefix(fmt.Sprintf("%s.blocks[%d]", path, j), b)
		}
	}
	underlays := map[string]bool{}
	for i, u := range e.About.Underlays {
		path := fmt.Sprintf("estate.underlays[%d]", i)
		v.key(path+".key", u.Key, "underlay", underlays)
		for j, b := range u.Blocks {
			v.prefix(fmt.Sprintf("%s.blocks[%d]", path, j), b)
		}
	}
	for i, r := range e.About.Reserved {
		path := fmt.Sprintf("estate.reserved[%d]", i)
		v.prefix(path+".prefix", r.Prefix)
		if strings.TrimSpace(r.For) == "" {
			v.fail(path+".for", "say what %s is kept for", r.Prefix)
		}
		v.name(path+".for", r.For)
	}
	shed := map[string]bool{}
	for i, zone := range e.About.Shed {
		if !isKey(zone) || shed[zone] {
			v.fail(fmt.Sprintf("estate.shed[%d]", i), "%q must be a zone, each once", zone)
		}
		shed[zone] = true
	}
	overlays := map[string]bool{}
	for i := range e.Overlays {
		v.key(fmt.Sprintf("overlays[%d].key", i), e.Overlays[i].Key, "overlay", overlays)
	}
	sites := map[string]bool{}
	for i := range e.Sites {
		s := &e.Sites[i]
		path := fmt.Sprintf("sites[%d]", i)
		v.key(path+".key", s.Key, "site", sites)
		v.site(path, s, regions, overlays)
	}
	for i := range e.Overlays {
		v.overlay(fmt.Sprintf("overlays[%d]", i), &e.Overlays[i], sites, e)
	}
	v.limitedOverlays(e)
	v.allocations("allocations", &e.Allocations)
	return v.problems.all()
}

// ValidateSites lists what Validate would of an estate that was valid before the
// sites of these keys were replaced by others of the same keys, and nothing else.
func ValidateSites(e *Estate, replaced map[string]bool) []Problem {
	v := validator{}
	each := func(visit func(path string, s *Site)) {
		for i := range e.Sites {
			if replaced[e.Sites[i].Key] {
				visit(fmt.Sprintf("sites[%d]", i), &e.Sites[i])
			}
		}
	}
	each(func(path string, s *Site) { v.limits(path, reflect.ValueOf(s), nil) })
	if len(v.problems.list) > 0 {
		return v.problems.all()
	}
	regions, overlays := e.names()
	each(func(path string, s *Site) { v.site(path, s, regions, overlays) })
	return v.problems.all()
}

// ValidateSite lists what is wrong with one site of the estate; paths are
// relative to the site.
func ValidateSite(e *Estate, s *Site) []Problem {
	v := validator{}
	if v.limits("", reflect.ValueOf(s), nil); len(v.problems.list) > 0 {
		return v.problems.all()
	}
	v.key("key", s.Key, "site", map[string]bool{})
	regions, overlays := e.names()
	v.site("", s, regions, overlays)
	return v.problems.all()
}

// names returns the keys that sites may point to.
func (e *Estate) names() (regions, overlays map[string]bool) {
	regions, overlays = map[string]bool{}, map[string]bool{}
	for _, r := range e.About.Regions {
		regions[r.Key] = true
	}
	for i := range e.Overlays {
		overlays[e.Overlays[i].Key] = true
	}
	return regions, overlays
}

// ValidateOverlay lists what is wrong with one overlay of the estate; paths
// are relative to the overlay.
func ValidateOverlay(e *Estate, o *Overlay) []Problem {
	v := validator{}
	if v.limits("", reflect.ValueOf(o), nil); len(v.problems.list) > 0 {
		return v.problems.all()
	}
	v.key("key", o.Key, "overlay", map[string]bool{})
	sites := map[string]bool{}
	for i := range e.Sites {
		sites[e.Sites[i].Key] = true
	}
	v.overlay("", o, sites, e)
	v.limitedBeside(e, o)
	return v.problems.all()
}

type validator struct{ problems problemList }

func (v *validator) fail(path, format string, args ...any) {
	if v.problems.takes() {
		v.problems.add(Problem{Path: strings.TrimPrefix(path, "."), Message: fmt.Sprintf(format, args...)})
	}
}

// dangles says that a name points nowhere.
func (v *validator) dangles(path, format string, args ...any) {
	if v.problems.takes() {
		v.problems.add(Problem{Path: strings.TrimPrefix(path, "."), Message: fmt.Sprintf(format, args...), dangling: true})
	}
}

// address refuses what addr.ParseAddr would.
func (v *validator) address(path string, a netip.Addr) {
	if err := addr.CheckAddr(a); err != nil {
		v.fail(path, "%v", err)
	}
}

func (v *validator) addresses(path string, list []netip.Addr) {
	for i, a := range list {
		v.address(fmt.Sprintf("%s[%d]", path, i), a)
	}
}

func (v *validator) prefix(path string, p netip.Prefix) {
	if !p.IsValid() {
		v.fail(path, "a prefix is missing; write it as ADDRESS/LENGTH, such as 10.16.4.0/24")
	}
}

func (v *validator) between(path, what string, n, low, high float64) {
	if n != 0 && (n < low || n > high) {
		v.fail(path, "%s %v is outside %v to %v", what, n, low, high)
	}
}

func choice[T ~string](v *validator, path string, value T, optional bool, known ...T) {
	if value == "" && optional || slices.Contains(known, value) {
		return
	}
	words := make([]string, len(known))
	for i, k := range known {
		words[i] = string(k)
	}
	v.fail(path, "%q is not one of %s", brief(string(value)), strings.Join(words, ", "))
}
