package judge

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"wideknot/core/estate"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	text, err := json.Marshal(estate.Schema())
	if err != nil {
		t.Fatal(err)
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("estate.json", document); err != nil {
		t.Fatal(err)
	}
	compiled, err := compiler.Compile("estate.json")
	if err != nil {
		t.Fatal(err)
	}
	return compiled
}

func judged(t *testing.T, s *jsonschema.Schema, text []byte) error {
	t.Helper()
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	return s.Validate(document)
}

func TestSchemaAcceptsWhatIsWritten(t *testing.T) {
	s := schema(t)
	names, _ := filepath.Glob("../../../examples/*.yaml")
	var estates []*estate.Estate
	for _, name := range names {
		estates = append(estates, example(t, strings.TrimSuffix(filepath.Base(name), ".yaml")).Plan.Estate)
	}
	mesh, err := sample.Estate(sample.Options{Sites: 20, Shape: estate.FullMesh})
	if err != nil {
		t.Fatal(err)
	}
	bare := &estate.Estate{Format: estate.Format, About: estate.About{Name: "Bare"}}
	for seed := range uint64(200) {
		estates = append(estates, sample.Mixed(seed))
	}
	headless := sample.Mixed(1)
	headless.Overlays[0].Breakout = &estate.Breakout{}
	headless.Overlays[0].TunnelOrder = []estate.PairOrder{{Between: []string{"harrow", "tarn"}}}
	for _, e := range append(estates, mesh, bare, headless) {
		e.Allocations = tunnel.Derive(e).Allocations()
		text, err := estate.WriteJSON(e)
		if err != nil {
			t.Fatal(err)
		}
		if err := judged(t, s, text); err != nil {
			t.Errorf("%s: %v", e.About.Name, err)
		}
	}
}

func TestSchemaRefusesWhatReadingRefuses(t *testing.T) {
	s := schema(t)
	for _, text := range []string{
		`{}`, `{"wideknot": 2, "estate": {"name": "x"}}`, `{"wideknot": 1, "estate": {"nam": "x"}}`,
		`{"wideknot": 1, "estate": {"name": "x"}, "sites": [{"key": "A b", "name": "x"}]}`,
		`{"wideknot": 1, "estate": {"name": "x"}, "sites": [{"key": "a", "name": "x", "links": [{"key": "l", "reach": "maybe"}]}]}`,
		`{"wideknot": 1, "estate": {"name": "x"}, "sites": [{"key": "a", "name": "x", "subnets": [{"prefix": "10.0.0.0"}]}]}`,
	} {
		if judged(t, s, []byte(text)) == nil {
			t.Errorf("the schema accepts %s", text)
		}
		if _, _, err := estate.Read(strings.NewReader(text)); err == nil {
			t.Errorf("reading accepts %s", text)
		}
	}
}

func TestPublishedSchemaIsCurrent(t *testing.T) {
	want, err := json.MarshalIndent(estate.Schema(), "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile("../../../docs/estate.schema.json")
	if err != nil || !bytes.Equal(bytes.TrimSpace(got), want) {
		t.Errorf("docs/estate.schema.json is out of date (%v); run make api", err)
	}
}
