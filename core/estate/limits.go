package estate

import (
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"sync"
)

// Every list of the document has a cap, in the "max" tag of its field (one number
// for each level of nesting), far above what an estate needs: what is read
// becomes work, and work has a bound. The decoder refuses a longer list before it
// reads its items; limits finds those that came another way.
const maxTag = "max"

// MaxTunnels bounds the candidate tunnels of an overlay: pairs of links of
// adjacent sites. A full mesh of 1,000 sites with one link each has 499,500.
const MaxTunnels = 1_000_000

// MaxProblems bounds how many problems, and how many notes, one reading lists;
// the last one counts the rest.
const MaxProblems = 200

// A limited is a field of a struct that is, or holds, a list with a cap.
type limited struct {
	index int
	name  string
	most  []int // by level of nesting; nil for a struct, or a pointer to one
}

var limitsOf sync.Map // reflect.Type of a struct → []limited

func limitedFields(t reflect.Type) []limited {
	if known, ok := limitsOf.Load(t); ok {
		return known.([]limited)
	}
	var out []limited
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch kind := f.Type.Kind(); {
		case kind == reflect.Slice || kind == reflect.Map:
			out = append(out, limited{i, name, mostOf(f)})
		case kind == reflect.Struct && f.Type.PkgPath() == t.PkgPath(),
			kind == reflect.Pointer && f.Type.Elem().Kind() == reflect.Struct:
			out = append(out, limited{i, name, nil})
		}
	}
	limitsOf.Store(t, out)
	return out
}

// mostOf returns the caps of a list.
func mostOf(f reflect.StructField) []int {
	var most []int
	for _, word := range strings.Fields(f.Tag.Get(maxTag)) {
		n, err := strconv.Atoi(word)
		if err != nil || n <= 0 {
			panic("the cap of the list " + f.Name + " is no number") // a test goes through all of them
		}
		most = append(most, n)
	}
	return most
}

// limits refuses what has more items than its cap, without going into it.
func (v *validator) limits(path string, of reflect.Value, most []int) {
	if exceeds(of, most) { // which is rare, and only then are paths needed
		v.findLimits(path, of, most)
	}
}

func exceeds(of reflect.Value, most []int) bool {
	switch of.Kind() {
	case reflect.Pointer:
		return !of.IsNil() && exceeds(of.Elem(), nil)
	case reflect.Struct:
		for _, f := range limitedFields(of.Type()) {
			if exceeds(of.Field(f.index), f.most) {
				return true
			}
		}
	case reflect.Slice:
		if of.Len() > most[0] || !holdsLists(of.Type().Elem()) {
			return of.Len() > most[0]
		}
		for i := range of.Len() {
			if exceeds(of.Index(i), most[1:]) {
				return true
			}
		}
	case reflect.Map:
		if of.Len() > most[0] || !holdsLists(of.Type().Elem()) {
			return of.Len() > most[0]
		}
		if lots, ok := of.Interface().(map[string]TunnelLot); ok { // many, and a loop over them is quicker
			for _, lot := range lots {
				if len(lot.Transit) > mostTransit {
					return true
				}
			}
			return false
		}
		for items := of.MapRange(); items.Next(); {
			if exceeds(items.Value(), most[1:]) {
				return true
			}
		}
	}
	return false
}

var mostTransit = limitedFields(reflect.TypeFor[TunnelLot]())[0].most[0]

func (v *validator) findLimits(path string, of reflect.Value, most []int) {
	switch of.Kind() {
	case reflect.Pointer:
		if !of.IsNil() {
			v.findLimits(path, of.Elem(), nil)
		}
	case reflect.Struct:
		for _, f := range limitedFields(of.Type()) {
			v.findLimits(path+"."+f.name, of.Field(f.index), f.most)
		}
	case reflect.Slice, reflect.Map:
		if of.Len() > most[0] {
			v.fail(path, "%s", tooMany(of.Len(), most[0]))
			return
		}
		if !holdsLists(of.Type().Elem()) {
			return
		}
		if of.Kind() == reflect.Slice {
			for i := range of.Len() {
				v.findLimits(path+"["+strconv.Itoa(i)+"]", of.Index(i), most[1:])
			}
			return
		}
		for items := of.MapRange(); items.Next(); {
			v.findLimits(keyPath(path, items.Key().String()), items.Value(), most[1:])
		}
	}
}

func holdsLists(t reflect.Type) bool {
	return t.Kind() == reflect.Slice || t.Kind() == reflect.Map ||
		t.Kind() == reflect.Struct && t.PkgPath() == reflect.TypeFor[Estate]().PkgPath() && len(limitedFields(t)) > 0
}

func tooMany(n, most int) string {
	return fmt.Sprintf("%d items are too many: the most here is %d", n, most)
}

// candidates counts the pairs of links between the adjacent sites of an
// overlay, by the keys of its members; links counts a site's.
func (o *Overlay) candidates(links func(site string) int) int {
	total, squares := 0, 0
	add := func(site string) {
		n := links(site)
		total, squares = total+n, squares+n*n
	}
	pairs := func() int { return (total*total - squares) / 2 }
	if o.Shape == FullMesh {
		for _, site := range o.Members() {
			add(site)
		}
		return pairs()
	}
	for _, hub := range o.Hubs {
		add(hub)
	}
	n, ofHubs := pairs(), total
	for i := range o.Spokes {
		own := ofHubs
		if len(o.Spokes[i].Hubs) > 0 {
			own = 0
			for _, hub := range o.Spokes[i].Hubs {
				own += links(hub)
			}
		}
		n += links(o.Spokes[i].Site) * own
	}
	for _, pair := range o.Direct {
		if len(pair) == 2 {
			n += links(pair[0]) * links(pair[1])
		}
	}
	return n
}
