package agent

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"wideknot/core/gateway"
)

// An outsider holds a tunnel down and lets it go, and asks what one bears, as the module says.
func TestCurlHoldsAndLoads(t *testing.T) {
	o, r, _ := served(t)
	c, _ := twoReleases()
	if err := r.Try(t.Context(), c, 1, "", 0); err != nil {
		t.Fatal(err)
	}
	name := c.Tunnels[0].Interface
	const hold, bench = "/restconf/operations/wideknot-gateway:hold", "/restconf/operations/wideknot-gateway:bench"
	held := func() bool {
		s, err := r.State(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return s.Tunnels[0].Held
	}
	asks := `{"interface":["` + name + `"],"seconds":60}`
	o.lint("rpc", `{"wideknot-gateway:hold":`+asks+`}`)
	o.want("204", "POST", hold, `{"wideknot-gateway:input":`+asks+`}`)
	if !held() {
		t.Error("it is not held down")
	}
	_, text := o.want("200", "GET", statePath, "")
	o.lint("get", text)
	o.want("204", "POST", hold, `{"wideknot-gateway:input":{"interface":["`+name+`"]}}`)
	if err := r.do(t.Context(), func() error {
		r.prober.each(func(w *watched) {
			if w.held(time.Now()) {
				t.Errorf("%s is held down still", w.tunnel.Interface)
			}
		})
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	o.lint("rpc", `{"wideknot-gateway:hold":{"interface":["`+name+`"],"as":"lossy","seconds":60}}`)
	if status, _, text := o.ask("POST", hold, `{"wideknot-gateway:input":{"interface":["`+name+`"],"as":"lossy","seconds":60}}`); status != "500" || !strings.Contains(text, "held to no limits") {
		t.Errorf("of a tunnel without limits: %s %s", status, text)
	}
	for _, bad := range []string{`{}`, `{"wideknot-gateway:input":{"interface":["a/b"]}}`, `{"wideknot-gateway:input":{"interface":["` + name + `"],"as":"late","seconds":5}}`, `{"wideknot-gateway:input":{"interface":["` + name + `"],"seconds":3601}}`} {
		if status, _, text := o.ask("POST", hold, bad); status != "400" {
			t.Errorf("%s: %s %s", bad, status, text)
		}
	}
	if status, _, text := o.ask("POST", hold, `{"wideknot-gateway:input":{"interface":["nowhere-9"],"seconds":5}}`); status != "500" {
		t.Errorf("a tunnel that is not there: %s %s", status, text)
	}
	o.lint("rpc", `{"wideknot-gateway:bench":{"interface":"`+name+`","kbps":1000}}`)
	answer, err := json.Marshal(gateway.Benched{Size: 1400, Steps: []gateway.BenchStep{{Kbps: 250, ThereKbps: 240, Milliseconds: 1500, Sent: 33, There: 32, Back: 31, LatencyUs: 9000, MaxLatencyUs: 12_000, JitterUs: 70}, {Kbps: 500}}})
	if err != nil {
		t.Fatal(err)
	}
	o.lint("reply", `{"wideknot-gateway:bench":`+string(answer)+`}`)
	for _, bad := range []string{`{}`, `{"wideknot-gateway:input":{"interface":"` + name + `","kbps":1}}`, `{"wideknot-gateway:input":{"interface":"a/b","kbps":1000}}`} {
		if status, _, text := o.ask("POST", bench, bad); status != "400" {
			t.Errorf("%s: %s %s", bad, status, text)
		}
	}
	if status, _, text := o.ask("POST", bench, `{"wideknot-gateway:input":{"interface":"nowhere-9","kbps":1000}}`); status != "500" {
		t.Errorf("a tunnel that is not there: %s %s", status, text)
	}
}
