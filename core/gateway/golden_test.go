package gateway

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
	"wideknot/golden"
)

// All that is made for the gateways of some small estates, as they are told it: what
// changes here changes what a gateway does.
func TestConfigurationsAreGolden(t *testing.T) {
	for _, c := range []struct {
		seed                   uint64
		telling, limits, ipsec bool
	}{{seed: 4}, {seed: 7, telling: true}, {seed: 10, limits: true, ipsec: true}, {seed: 17, limits: true}, {seed: 26, telling: true, limits: true}, {seed: 27, telling: true}} {
		e := sample.Mixed(c.seed)
		if c.telling {
			telling(e)
		}
		if c.limits {
			limiting(e)
		}
		if c.ipsec {
			e.Overlays[0].Transport, e.Overlays[0].PresharedKeys = estate.IPsec, false
		}
		m := mapOf(e)
		all := map[string]json.RawMessage{}
		for i := range m.Plan.Estate.Sites {
			c := Of(m, i)
			spread, _ := c.Spread()
			for name, c := range map[string]*Config{m.Plan.Site(i).Key: c, m.Plan.Site(i).Key + " as it is applied": spread} {
				text, err := Write(c)
				if err != nil {
					t.Fatal(err)
				}
				if c != spread || len(c.Held.Overlays) > 0 {
					all[name] = text
				}
			}
		}
		golden.JSON(t, filepath.Join("testdata", "configurations", fmt.Sprintf("%d.json", c.seed)), all)
	}
}

// What is said of a change of each field, one at a time.
func TestDifferencesAreGolden(t *testing.T) {
	was, is := full(), full()
	var text strings.Builder
	eachLeaf(reflect.ValueOf(is).Elem(), "", func(path string, spoil, restore func()) {
		spoil()
		defer restore()
		fmt.Fprintln(&text, path)
		for _, o := range Difference(was, is) {
			fmt.Fprintf(&text, "\t%v %s\n", o.Act, o.Words)
		}
	})
	golden.Text(t, filepath.Join("testdata", "differences.txt"), []byte(text.String()))
}
