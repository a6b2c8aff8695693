package estate

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"wideknot/core/addr"
)

// A decoder fills an Estate from a parsed text and goes on after each mistake,
// so that one reading names them all, up to MaxProblems.
type decoder struct {
	problems problemList
	notes    problemList
}

func (d *decoder) fail(n *yaml.Node, path, format string, args ...any) {
	if d.problems.takes() {
		d.problems.add(Problem{Path: path, Line: n.Line, Column: n.Column, Message: fmt.Sprintf(format, args...)})
	}
}

func (d *decoder) decode(n *yaml.Node, path string, into any) {
	d.value(n, path, reflect.ValueOf(into).Elem(), nil)
}

// value reads a node into v; most are the caps of lists, by level.
func (d *decoder) value(n *yaml.Node, path string, v reflect.Value, most []int) {
	if n.Kind == yaml.AliasNode {
		d.fail(n, path, "anchors and aliases are not used in estate documents; write the value out")
		return
	}
	if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
		return // left out
	}
	switch at := v.Addr().Interface().(type) {
	case *netip.Prefix:
		d.prefix(n, path, at)
		return
	case *netip.Addr:
		d.address(n, path, at)
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		fresh := reflect.New(v.Type().Elem())
		d.value(n, path, fresh.Elem(), nil)
		v.Set(fresh)
	case reflect.Struct:
		d.structure(n, path, v)
	case reflect.Map:
		d.mapping(n, path, v, most)
	case reflect.Slice, reflect.Array:
		d.sequence(n, path, v, most)
	default:
		d.scalar(n, path, v)
	}
}

func (d *decoder) scalar(n *yaml.Node, path string, v reflect.Value) {
	if n.Kind != yaml.ScalarNode {
		d.fail(n, path, "expected %s, found %s", kindName(v.Kind()), nodeName(n))
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString(n.Value)
	case reflect.Bool:
		b, err := strconv.ParseBool(n.Value)
		if err != nil || n.Tag != "!!bool" {
			d.fail(n, path, "expected true or false, found %q", brief(n.Value))
			return
		}
		v.SetBool(b)
	case reflect.Int:
		i, err := strconv.Atoi(n.Value)
		if err != nil || n.Tag != "!!int" {
			d.fail(n, path, "expected a whole number, found %q", brief(n.Value))
			return
		}
		v.SetInt(int64(i))
	case reflect.Float64:
		f, err := strconv.ParseFloat(n.Value, 64)
		if err != nil || n.Tag != "!!int" && n.Tag != "!!float" || f-f != 0 {
			d.fail(n, path, "expected a number, found %q", brief(n.Value))
			return
		}
		v.SetFloat(f)
	}
}

func (d *decoder) structure(n *yaml.Node, path string, v reflect.Value) {
	if n.Kind != yaml.MappingNode {
		d.fail(n, path, "expected %s, found %s", kindName(v.Kind()), nodeName(n))
		return
	}
	fields := fieldsOf(v.Type())
	d.eachKey(n, path, func(key, value *yaml.Node, at string) {
		i := slices.Index(fields, key.Value)
		if i < 0 {
			d.fail(key, at, "unknown key %q; known here: %s", brief(key.Value), strings.Join(fields, ", "))
			return
		}
		d.value(value, at, v.Field(i), mostOf(v.Type().Field(i)))
	})
}

func (d *decoder) mapping(n *yaml.Node, path string, v reflect.Value, most []int) {
	if n.Kind != yaml.MappingNode {
		d.fail(n, path, "expected %s, found %s", kindName(v.Kind()), nodeName(n))
		return
	}
	if len(n.Content) == 0 || d.full(n, path, len(n.Content)/2, most) {
		return
	}
	v.Set(reflect.MakeMapWithSize(v.Type(), len(n.Content)/2))
	d.eachKey(n, path, func(key, value *yaml.Node, at string) {
		element := reflect.New(v.Type().Elem()).Elem()
		d.value(value, at, element, most[1:])
		v.SetMapIndex(reflect.ValueOf(key.Value), element)
	})
}

func (d *decoder) eachKey(n *yaml.Node, path string, visit func(key, value *yaml.Node, path string)) {
	seen := make(map[string]bool, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		at := keyPath(path, key.Value)
		if seen[key.Value] {
			d.fail(key, at, "key %q is listed twice here", brief(key.Value))
			continue
		}
		seen[key.Value] = true
		visit(key, value, at)
	}
}

// keyPath is the path of a key's value.
func keyPath(path, key string) string {
	if strings.ContainsAny(key, ".[/ ") {
		return path + "[" + brief(key) + "]"
	}
	return strings.TrimPrefix(path+"."+brief(key), ".")
}

// brief shortens what somebody wrote, to be quoted in a message.
func brief(text string) string {
	left := 80 // runes
	for i := range text {
		if left--; left < 0 {
			return text[:i] + "…"
		}
	}
	return text
}

// full refuses a list that is longer than its cap.
func (d *decoder) full(n *yaml.Node, path string, items int, most []int) bool {
	if len(most) == 0 || items <= most[0] {
		return false
	}
	d.fail(n, path, "%s", tooMany(items, most[0]))
	return true
}

func (d *decoder) sequence(n *yaml.Node, path string, v reflect.Value, most []int) {
	if n.Kind != yaml.SequenceNode {
		d.fail(n, path, "expected a list, found %s", nodeName(n))
		return
	}
	if v.Kind() == reflect.Array {
		if len(n.Content) != v.Len() {
			d.fail(n, path, "expected a list of %d, found %d", v.Len(), len(n.Content))
			return
		}
	} else if len(n.Content) > 0 {
		if d.full(n, path, len(n.Content), most) {
			return
		}
		v.Set(reflect.MakeSlice(v.Type(), len(n.Content), len(n.Content)))
		most = most[min(1, len(most)):]
	}
	for i, item := range n.Content {
		d.value(item, path+"["+strconv.Itoa(i)+"]", v.Index(i), most)
	}
}

func (d *decoder) prefix(n *yaml.Node, path string, into *netip.Prefix) {
	if n.Kind != yaml.ScalarNode {
		d.fail(n, path, "expected a prefix, found %s", nodeName(n))
		return
	}
	p, note, err := addr.ParsePrefix(n.Value)
	if err != nil {
		d.fail(n, path, "%v", err)
		return
	}
	if note != "" && d.notes.takes() {
		d.notes.add(Problem{Path: path, Line: n.Line, Column: n.Column, Message: note})
	}
	*into = p
}

func (d *decoder) address(n *yaml.Node, path string, into *netip.Addr) {
	if n.Kind != yaml.ScalarNode {
		d.fail(n, path, "expected an IPv4 or IPv6 address, found %s", nodeName(n))
		return
	}
	a, err := addr.ParseAddr(n.Value)
	if err != nil {
		d.fail(n, path, "%v", err)
		return
	}
	*into = a
}

func fieldsOf(t reflect.Type) []string {
	names := make([]string, t.NumField())
	for i := range names {
		names[i], _, _ = strings.Cut(t.Field(i).Tag.Get("json"), ",")
	}
	return names
}

func nodeName(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "a block of keys"
	case yaml.SequenceNode:
		return "a list"
	}
	return strconv.Quote(brief(n.Value))
}

func kindName(k reflect.Kind) string {
	switch k {
	case reflect.Struct, reflect.Map:
		return "a block of keys"
	case reflect.Bool:
		return "true or false"
	case reflect.Int:
		return "a whole number"
	case reflect.Float64:
		return "a number"
	}
	return "a text"
}
