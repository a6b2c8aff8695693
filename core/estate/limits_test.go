package estate

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"reflect"
	"strings"
	"testing"
)

// lists goes through the document's type and calls visit for every list in it.
func lists(t reflect.Type, path string, most []int, visit func(path string, most []int)) {
	switch t.Kind() {
	case reflect.Pointer:
		lists(t.Elem(), path, nil, visit)
	case reflect.Slice, reflect.Map:
		visit(path, most)
		lists(t.Elem(), path+"[]", most[min(1, len(most)):], visit)
	case reflect.Struct:
		if t.PkgPath() != reflect.TypeFor[Estate]().PkgPath() {
			return
		}
		for i := range t.NumField() {
			name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
			lists(t.Field(i).Type, path+"."+name, mostOf(t.Field(i)), visit)
		}
	}
}

func TestEveryListHasACap(t *testing.T) {
	n := 0
	lists(reflect.TypeFor[Estate](), "", nil, func(path string, most []int) {
		n++
		if len(most) == 0 || most[0] <= 0 {
			t.Errorf("%s has no cap", path)
		}
	})
	if n < 35 {
		t.Errorf("only %d lists were found", n)
	}
}

// crowded returns documents in which one list each has n items, by the path of
// the list. Their names are unique and well formed where that is easy, so that
// every check has to look at all of them.
func crowded(items func(most int) int) map[string][]byte {
	out := map[string][]byte{}
	lists(reflect.TypeFor[Estate](), "", nil, func(path string, most []int) {
		if most[0] > 100_000 {
			return // a document of so many is refused for its number of values
		}
		document := map[string]any{
			"wideknot": 1, "estate": map[string]any{"name": "Crowded"},
			"sites":    []any{map[string]any{"key": "a"}, map[string]any{"key": "b"}},
			"overlays": []any{map[string]any{"key": "ops", "shape": "hub-and-spoke", "hubs": []any{"a"}, "spokes": []any{map[string]any{"site": "b"}}}},
		}
		put(document, strings.Split(strings.TrimPrefix(path, "."), "."), items(most[0]))
		text, _ := json.Marshal(document) // maps of plain values
		out[path] = text
	})
	return out
}

// put makes the list at the end of a path, and what is on the way to it.
func put(in map[string]any, path []string, items int) {
	name, inside := strings.CutSuffix(path[0], "[]")
	name, twice := strings.CutSuffix(name, "[]")
	keyed := name == "keys" || name == "tunnels" || len(path) > 0 && name == "sites" && in["keys"] == nil && isAllocations(in)
	switch {
	case len(path) == 1 && !inside && keyed:
		many := map[string]any{}
		for i := range items {
			many[fmt.Sprintf("k%d", i)] = map[string]any{}
			if name == "keys" {
				many[fmt.Sprintf("k%d", i)] = "xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg="
			}
		}
		in[name] = many
	case len(path) == 1 && inside && keyed: // a map in a map
		many := map[string]any{}
		for i := range items {
			if name == "tunnels" {
				many[fmt.Sprintf("a%d/x b%d/x", i, i)] = map[string]any{"slots": []int{1, 1}, "ports": []int{1, 1}}
			} else {
				many[fmt.Sprintf("a%d", i)] = map[string]any{"addresses": []any{}}
			}
		}
		in[name] = map[string]any{"ops": many}
	case len(path) == 1 && inside: // a list in a list
		in[name] = []any{itemsOf(name, items)}
	case len(path) == 1:
		in[name] = itemsOf(name, items)
	case keyed && twice:
		item := map[string]any{}
		in[name] = map[string]any{"ops": map[string]any{"a/x b/x": item}}
		put(item, path[1:], items)
	case inside && in[name] != nil:
		put(in[name].([]any)[0].(map[string]any), path[1:], items)
	case inside:
		item := map[string]any{"key": "first"}
		if name == "tunnel_order" || name == "reserved" || name == "rules" || name == "subnets" || name == "spokes" {
			delete(item, "key")
		}
		in[name] = []any{item}
		put(item, path[1:], items)
	default:
		item, there := in[name].(map[string]any)
		if !there {
			item = map[string]any{}
			if name == "allocations" {
				item[""] = nil // marks it for isAllocations
			}
			in[name] = item
		}
		put(item, path[1:], items)
		delete(item, "")
	}
}

func isAllocations(in map[string]any) bool { _, ok := in[""]; return ok }

func itemsOf(name string, n int) []any {
	out := make([]any, n)
	for i := range out {
		four := netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)})
		switch name {
		case "sites", "regions", "underlays", "overlays", "links":
			out[i] = map[string]any{"key": fmt.Sprint("k", i)}
		case "subnets", "reserved":
			out[i] = map[string]any{"prefix": four.String() + "/32"}
		case "spokes":
			out[i] = map[string]any{"site": fmt.Sprint("k", i)}
		case "direct":
			out[i] = []string{"a", fmt.Sprint("k", i)}
		case "tunnel_order":
			out[i] = map[string]any{"between": []string{"a", "b"}, "first": []string{}}
		case "pins":
			out[i] = map[string]any{"site": "a", "via": fmt.Sprint("k", i)}
		case "rules":
			out[i] = map[string]any{"action": "deny", "from": map[string]any{"zone": fmt.Sprint("z", i)}}
		case "used_ports":
			out[i] = 1 + i
		case "blocks", "transit", "except":
			out[i] = four.String() + "/32"
		case "addresses", "next_hop":
			out[i] = four.String()
		default:
			out[i] = fmt.Sprint("k", i)
		}
	}
	return out
}

func TestListsOverTheirCapAreRefused(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	for path, text := range crowded(func(most int) int { return most + 1 }) {
		if len(text) > MaxDocument {
			continue // refused for that
		}
		_, _, err := Read(bytes.NewReader(text))
		var problems Problems
		if !errors.As(err, &problems) || !strings.Contains(err.Error(), "too many") && !strings.Contains(err.Error(), "more than") {
			t.Errorf("%s: %.300v", path, err)
		}
		if len(problems) > MaxProblems+1 {
			t.Errorf("%s: %d problems", path, len(problems))
		}
	}
}

// The same of what does not come from a text.
func TestValidateRefusesListsOverTheirCap(t *testing.T) {
	e := &Estate{Format: Format, About: About{Name: "E", Shed: make([]string, 1000)}}
	if problems := Validate(e); len(problems) != 1 || !strings.Contains(problems[0].String(), "estate.shed: 1000 items are too many: the most here is 256") {
		t.Errorf("%v", problems)
	}
	s := &Site{Key: "a", Links: make([]Link, 100)}
	if problems := ValidateSite(e, s); len(problems) != 1 || problems[0].Path != "links" {
		t.Errorf("%v", problems)
	}
	o := &Overlay{Key: "a", Shape: FullMesh, Direct: [][]string{{"a", "b", "c"}}}
	if problems := ValidateOverlay(e, o); len(problems) != 1 || problems[0].Path != "direct[0]" {
		t.Errorf("%v", problems)
	}
}

func TestTunnelsAreBounded(t *testing.T) {
	mesh := func(sites, links int) *Estate {
		e := &Estate{Format: Format, About: About{Name: "E"}, Overlays: []Overlay{{Key: "mesh", Shape: FullMesh}}}
		for i := range sites {
			s := Site{Key: fmt.Sprint("s", i)}
			for j := range links {
				s.Links = append(s.Links, Link{Key: fmt.Sprint("l", j), Reach: NAT})
			}
			e.Sites = append(e.Sites, s)
			e.Overlays[0].Spokes = append(e.Overlays[0].Spokes, Spoke{Site: s.Key})
		}
		return e
	}
	for _, c := range []struct {
		sites, links int
		good         bool
	}{{1000, 1, true}, {1414, 1, true}, {1415, 1, false}, {707, 2, true}, {708, 2, false}} {
		if problems := Validate(mesh(c.sites, c.links)); (len(problems) == 0) != c.good {
			t.Errorf("a mesh of %d sites with %d links: %v", c.sites, c.links, problems)
		}
	}
}

// Each list at its cap, read and checked: no work grows with its square.
func BenchmarkReadAtTheCap(b *testing.B) {
	for path, text := range crowded(func(most int) int { return most }) {
		if len(text) > MaxDocument {
			continue
		}
		b.Run(strings.TrimPrefix(path, "."), func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				_, _, _ = Read(bytes.NewReader(text)) // names that point nowhere are refused, after all were looked at
			}
		})
	}
}

// The quick form of a key is the form of a key.
func TestIsKeyIsKeyForm(t *testing.T) {
	for _, text := range []string{"", "a", "-a", "a-", "9", "A", "a_b", "é", "a b", strings.Repeat("a", 40), strings.Repeat("a", 41), "a\n"} {
		if isKey(text) != keyForm.MatchString(text) {
			t.Errorf("%q: %v", text, isKey(text))
		}
	}
}
