package main

import (
	"encoding/json"
	"os"
	"path/filepath"
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
		{"outage " + brindlewater, 1, "fate:mast-34: 35 pairs cut, 0 squeezed, 0 move; cuts eelgate"},
		{"outage --kind gateway " + brindlewater, 0, "40 failures, of which 0 touch nobody"},
		{"outage --kind provider --pairs " + brindlewater, 1, "provider:Skylark Mobile"},
		{"outage --fail link:alderfold/copper " + brindlewater, 0, "alderfold: alderfold/cell harrowmere/fibre-a (ops, by harrowmere) takes over"},
		{"outage --fail link:eelgate/radio --fail link:eelgate/cell " + brindlewater, 1, "cuts eelgate"},
		{"outage --fail link:alderfold/fibre " + brindlewater, 2, "the estate has no link:alderfold/fibre"},
		{"outage --fail alderfold " + brindlewater, 2, "write link:SITE/LINK, gateway:SITE"},
		{"outage --kind mast " + brindlewater, 2, "there is no kind \"mast\""},
		{"outage nowhere.yaml", 2, "nowhere.yaml"},
		{"outage --against " + brindlewater + " " + brindlewater, 0, "0 worse, 0 better"},
		{"outage --against nowhere.yaml " + brindlewater, 2, "nowhere.yaml"},
		{"outage --against " + brindlewater + " --pairs " + brindlewater, 2, "against"},
		{"outage --fail link:tarn/fibre ../../examples/load-sharing.yaml", 0, "tarn: overgill/fibre tarn/copper (ops, by overgill) takes over from overgill/fibre tarn/fibre + overgill/fibre tarn/copper, 2 pairs"},
		{"derive --site tarn ../../examples/load-sharing.yaml", 0, "overgill-1 100 × 3, overgill-2 100 × 1, overgill-3 110"},
		{"trace ../../examples/load-sharing.yaml 10.60.2.1 10.60.3.1", 0, "overgill-2  shares the load, 1 to 3"},
	} {
		code, out, errors := call(t, strings.Fields(c.arguments)...)
		if code != c.code || !strings.Contains(out+errors, c.says) {
			t.Errorf("%s: exit %d, not %d: %.600s%s", c.arguments, code, c.code, out, errors)
		}
	}
	// A station whose backup leaves its mast is better off, one that gets none worse.
	text, err := os.ReadFile(brindlewater)
	if err != nil {
		t.Fatal(err)
	}
	changed := filepath.Join(t.TempDir(), "changed.yaml")
	if err := os.WriteFile(changed, []byte(strings.Replace(string(text), "mast-34", "mast-77", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, out, errors := call(t, "outage", "--against", brindlewater, changed); code != 0 || !strings.Contains(out, "fate:mast-34: better at eelgate, cut became") {
		t.Errorf("exit %d: %.600s%s", code, out, errors)
	}
	var changes []outage.ChangeSheet
	if code, out, _ := call(t, "outage", "--format", "json", "--against", changed, brindlewater); code != 1 || json.Unmarshal([]byte(out), &changes) != nil || len(changes) == 0 || changes[0].Better {
		t.Errorf("exit %d: %+v", code, changes)
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
