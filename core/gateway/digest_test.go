package gateway

import (
	"fmt"
	"net/netip"
	"reflect"
	"strings"
	"testing"
)

// Every field that a gateway acts by counts for the digest and shows as a
// difference; what it does not act by does neither.
func TestDigestIsOfAllThatMatters(t *testing.T) {
	c := full()
	digest := c.Digest()
	changed := 0
	eachLeaf(reflect.ValueOf(c).Elem(), "", func(path string, spoil, restore func()) {
		spoil()
		defer restore()
		other := strings.HasPrefix(path, ".Neighbours")
		if (c.Digest() == digest) != other {
			t.Errorf("%s: the digest says nothing of it, or too much", path)
		}
		was := full()
		if (len(Difference(was, c)) == 0) != other && path != ".Site" {
			t.Errorf("%s: no difference, or one too many", path)
		}
		changed++
	})
	if changed < 100 {
		t.Errorf("only %d fields were tried", changed)
	}
}

// Servers and agents of different versions compare digests: how they are made stays as it is, or
// every gateway of every estate differs from what was confirmed when the first half is new.
func TestDigestsStay(t *testing.T) {
	for is, want := range map[string]string{
		full().Digest():                  "5bb5f4c267d35c74f1a3c01cf8665d46be4e2e7d580e64afdf6b37e66840d1b4",
		(&Config{Site: "tarn"}).Digest(): "27523ece2284010c2b217ec52b05292de31f46470ec093c4d1d8ca6b7df13178",
	} {
		if is != want {
			t.Errorf("%s, not %s", is, want)
		}
	}
}

// eachLeaf calls change for each value that is no list and no struct, and for the
// length of each list.
func eachLeaf(v reflect.Value, path string, change func(path string, spoil, restore func())) {
	was := reflect.New(v.Type()).Elem()
	was.Set(v)
	restore := func() { v.Set(was) }
	switch at := v.Addr().Interface().(type) {
	case *netip.Addr:
		change(path, func() { *at = netip.MustParseAddr("192.0.2.99") }, restore)
		return
	case *netip.Prefix:
		change(path, func() { *at = netip.MustParsePrefix("192.0.2.96/27") }, restore)
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			eachLeaf(v.Field(i), path+"."+v.Type().Field(i).Name, change)
		}
	case reflect.Pointer:
		if !v.IsNil() {
			eachLeaf(v.Elem(), path, change)
		}
	case reflect.Slice:
		if v.Len() == 0 {
			return
		}
		change(path+" shorter", func() { v.Set(v.Slice(0, v.Len()-1)) }, restore)
		for i := range v.Len() {
			eachLeaf(v.Index(i), fmt.Sprintf("%s[%d]", path, i), change)
		}
	case reflect.String:
		change(path, func() { v.SetString(v.String() + "x") }, restore)
	case reflect.Int:
		change(path, func() { v.SetInt(v.Int() + 1) }, restore)
	case reflect.Bool:
		change(path, func() { v.SetBool(!v.Bool()) }, restore)
	default:
		panic(path)
	}
}
