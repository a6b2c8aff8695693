package diagnose

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/outage"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// seen reads what gateways said while a fault was planted, as internal/fleet recorded it
// (RECORD=../../core/diagnose/testdata/seen go test -run TestCausesAreNamed ./internal/fleet).
func seen(t *testing.T, path string) (*Known, route.Packet) {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	var recorded struct {
		Estate   json.RawMessage
		Packet   route.Packet
		Gateways map[string]*struct {
			Gateway
			Echoes []struct {
				Asked Ask
				gateway.Echoed
			}
		}
	}
	if err := json.Unmarshal(text, &recorded); err != nil {
		t.Fatal(err)
	}
	e, _, err := estate.Read(bytes.NewReader(recorded.Estate))
	if err != nil {
		t.Fatal(err)
	}
	k := &Known{Routes: route.Build(tunnel.Derive(e)), Gateways: map[string]*Gateway{}}
	for i := range e.Sites {
		r := recorded.Gateways[e.Sites[i].Key]
		r.Wants, r.Gateway.Echoes = gateway.Of(k.Routes, i), map[Ask]gateway.Echoed{}
		for _, one := range r.Echoes {
			r.Gateway.Echoes[one.Asked] = one.Echoed
		}
		k.Gateways[e.Sites[i].Key] = &r.Gateway
	}
	return k, recorded.Packet
}

// What is said of each fault that was planted in stand-ins, to the word: of the packet there, of
// one the other way, of the situation as a whole, and on the loom. UPDATE=1 writes it anew.
func TestWhatWasSeenIsNamed(t *testing.T) {
	paths, err := filepath.Glob("testdata/seen/*.json")
	if err != nil || len(paths) < 20 {
		t.Fatalf("%d faults are recorded, %v", len(paths), err)
	}
	for _, path := range paths {
		name := strings.TrimSuffix(path, ".json")
		t.Run(filepath.Base(name), func(t *testing.T) {
			k, there := seen(t, path)
			back := there
			back.From, back.To = there.To, there.From
			said := map[string]any{"there": Diagnose(k, there), "back": Diagnose(k, back), "sites": Sites(k, there), "now": Look(k, outage.New(k.Routes))}
			for i := range k.Routes.Plan.Overlays {
				o := &k.Routes.Plan.Overlays[i]
				said["loom of "+o.Spec.Key] = Weave(k, o, "")
			}
			is, err := json.MarshalIndent(said, "", " ")
			if err != nil {
				t.Fatal(err)
			}
			golden := name + ".said"
			if os.Getenv("UPDATE") != "" {
				if err := os.WriteFile(golden, append(is, '\n'), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			want, err := os.ReadFile(golden)
			if err != nil {
				t.Fatal(err)
			}
			if !bytes.Equal(append(is, '\n'), want) {
				t.Errorf("it says:\n%s", is)
			}
		})
	}
}
