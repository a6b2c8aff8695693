package main

import (
	"encoding/json"
	"strings"
	"testing"

	"wideknot/core/outage"
)

const brindlewater = "../../examples/brindlewater.yaml"

// Outage says by its exit code whether something cuts a site whose gateway is
// alive, names parts that there are not, and writes what it says as JSON.
func TestOutage(t *testing.T) {
	for _, c := range []struct {
		arguments string
		code      int
		says      string
	}{
		{"outage " + brindlewater, 1, "fate:mast-34: 39 pairs cut, 0 squeezed, 0 move; cuts eelgate"},
		{"outage --kind gateway " + brindlewater, 0, "40 failures, of which 0 touch nobody"},
		{"outage --kind provider --pairs " + brindlewater, 1, "provider:Skylark Mobile"},
		{"outage --fail link:alderfold/copper " + brindlewater, 0, "alderfold: alderfold/cell harrowmere/fibre-a (ops, by harrowmere) takes over"},
		{"outage --fail link:eelgate/radio --fail link:eelgate/cell " + brindlewater, 1, "cuts eelgate"},
		{"outage --fail link:alderfold/fibre " + brindlewater, 2, "the estate has no link:alderfold/fibre"},
		{"outage --fail alderfold " + brindlewater, 2, "write link:SITE/LINK, gateway:SITE"},
		{"outage --kind mast " + brindlewater, 2, "there is no kind \"mast\""},
		{"outage nowhere.yaml", 2, "nowhere.yaml"},
	} {
		code, out, errors := call(t, strings.Fields(c.arguments)...)
		if code != c.code || !strings.Contains(out+errors, c.says) {
			t.Errorf("%s: exit %d, not %d: %.600s%s", c.arguments, code, c.code, out, errors)
		}
	}
	var list []outage.OutcomeSheet
	if _, out, _ := call(t, "outage", "--format", "json", "--kind", "fate", brindlewater); json.Unmarshal([]byte(out), &list) != nil || len(list) == 0 || len(list[0].Lost) != 1 || len(list[0].Sites) == 0 {
		t.Errorf("%+v", list)
	}
	var one outage.DetailSheet
	if _, out, _ := call(t, "outage", "--format", "json", "--fail", "gateway:harrowmere", brindlewater); json.Unmarshal([]byte(out), &one) != nil || len(one.Takeovers) == 0 || len(one.Lines) == 0 {
		t.Errorf("%+v", one.OutcomeSheet)
	}
}
