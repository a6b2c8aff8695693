package diff

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
)

// What nobody disputes comes from both, what both changed from whom the choice
// names.
func TestReconcile(t *testing.T) {
	base := &estate.Estate{Format: estate.Format, About: estate.About{Name: "Vale"}}
	for _, key := range []string{"a", "b", "c", "d"} {
		base.Sites = append(base.Sites, estate.Site{Key: key, Name: key})
	}
	base.Overlays = []estate.Overlay{{Key: "o", Shape: estate.HubAndSpoke, Hubs: []string{"a"}, Spokes: []estate.Spoke{{Site: "b"}, {Site: "c"}}}}
	named := func(e *estate.Estate, key, name string) *estate.Estate {
		out := e.Clone()
		if s := out.Site(key); s != nil {
			s.Name = name
			return out
		}
		out.Sites = append(out.Sites, estate.Site{Key: key, Name: name})
		return out
	}
	without := func(e *estate.Estate, key string) *estate.Estate {
		out := e.Clone()
		out.Sites = slices.DeleteFunc(out.Sites, func(s estate.Site) bool { return s.Key == key })
		return out.WithoutStrangers()
	}
	for _, c := range []struct {
		name         string
		mine, theirs *estate.Estate
		choices      map[string]Choice
		conflicts    string // part mine | theirs
		sites        string // key=name
		spokes       string
	}{
		{"nothing", base, base, nil, "", "a=a b=b c=c d=d", "b c"},
		{"each another", named(base, "a", "A"), named(base, "b", "B"), nil, "", "a=A b=B c=c d=d", "b c"},
		{"both alike", named(base, "a", "A"), named(base, "a", "A"), nil, "", "a=A b=b c=c d=d", "b c"},
		{"both, open", named(base, "a", "M"), named(base, "a", "T"), nil, "site a: name: a became M | name: a became T", "a=T b=b c=c d=d", "b c"},
		{"both, mine", named(base, "a", "M"), named(base, "a", "T"), map[string]Choice{"site a": Mine}, "site a: name: a became M | name: a became T", "a=M b=b c=c d=d", "b c"},
		{"both, theirs", named(base, "a", "M"), named(base, "a", "T"), map[string]Choice{"site a": Theirs}, "site a: name: a became M | name: a became T", "a=T b=b c=c d=d", "b c"},
		{"new in both", named(base, "e", "M"), named(base, "e", "T"), map[string]Choice{"site e": Mine}, "site e: added | added", "a=a b=b c=c d=d e=M", "b c"},
		{"new in each", named(base, "e", "M"), named(base, "f", "T"), nil, "", "a=a b=b c=c d=d f=T e=M", "b c"},
		{"I deleted it", without(base, "d"), base, nil, "", "a=a b=b c=c", "b c"},
		{"they deleted it", base, without(base, "c"), nil, "", "a=a b=b d=d", "b"},
		{"they deleted what I changed", named(base, "d", "M"), without(base, "d"), map[string]Choice{"site d": Mine}, "site d: name: d became M | deleted", "a=a b=b c=c d=M", "b c"},
		{"I deleted what they changed", without(base, "d"), named(base, "d", "T"), map[string]Choice{"site d": Mine}, "site d: deleted | name: d became T", "a=a b=b c=c", "b c"},
	} {
		got, conflicts := Reconcile(base, c.mine, c.theirs, c.choices)
		var said, sites, spokes []string
		for _, x := range conflicts {
			said = append(said, fmt.Sprintf("%s: %s | %s", x.Part, strings.Join(x.Mine, ", "), strings.Join(x.Theirs, ", ")))
		}
		for _, s := range got.Sites {
			sites = append(sites, s.Key+"="+s.Name)
		}
		for _, s := range got.Overlays[0].Spokes {
			spokes = append(spokes, s.Site)
		}
		if strings.Join(said, "; ") != c.conflicts || strings.Join(sites, " ") != c.sites || strings.Join(spokes, " ") != c.spokes {
			t.Errorf("%s: %q, %v, spokes %v", c.name, said, sites, spokes)
		}
	}
}

// With one side unchanged the other wins whole, and with all choices made the
// result does not depend on which side one calls mine.
func TestReconcileIsFair(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	base := sampled(t, sample.Options{Sites: 12, Subnets: 2, Seed: 5})
	for range 80 {
		mine, _ := disturbed(r, base)
		theirs, _ := disturbed(r, base)
		if got, conflicts := Reconcile(base, mine, base, nil); len(conflicts) > 0 || !sameParts(got, mine) {
			t.Fatal("they changed nothing, and mine is not the result")
		}
		if got, conflicts := Reconcile(base, base, theirs, nil); len(conflicts) > 0 || !sameParts(got, theirs) {
			t.Fatal("I changed nothing, and theirs is not the result")
		}
		_, conflicts := Reconcile(base, mine, theirs, nil)
		there, back := map[string]Choice{}, map[string]Choice{}
		for _, c := range conflicts {
			if there[c.Part], back[c.Part] = Mine, Theirs; r.IntN(2) == 0 {
				there[c.Part], back[c.Part] = Theirs, Mine
			}
		}
		a, _ := Reconcile(base, mine, theirs, there)
		b, _ := Reconcile(base, theirs, mine, back)
		if !sameParts(a, b) {
			t.Fatal("the result depends on who is called mine")
		}
	}
}

// sameParts compares sites and overlays whatever their order.
func sameParts(a, b *estate.Estate) bool {
	parts := func(e *estate.Estate) map[string]any {
		e = e.WithoutStrangers()
		out := map[string]any{"": e.About}
		for _, s := range e.Sites {
			out["site "+s.Key] = fmt.Sprintf("%+v", s)
		}
		for _, o := range e.Overlays {
			out["overlay "+o.Key] = fmt.Sprintf("%v %v %v %v %v", o.Hubs, o.Spokes, o.Direct, o.Pins, o.Shape)
		}
		return out
	}
	return reflect.DeepEqual(parts(a), parts(b))
}
