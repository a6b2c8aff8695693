package estate

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"

	"go.yaml.in/yaml/v3"
)

// nullless returns the estate with an empty list in place of each that is nil and
// is always written: the schema knows no null.
func nullless(e *Estate) *Estate {
	out := *e
	out.Sites, out.Overlays = listed(e.Sites), slices.Clone(listed(e.Overlays))
	for i := range out.Overlays {
		o := &out.Overlays[i]
		if o.Breakout != nil {
			o.Breakout = &Breakout{Hubs: listed(o.Breakout.Hubs), Sites: listed(o.Breakout.Sites), Except: o.Breakout.Except}
		}
		o.TunnelOrder = slices.Clone(o.TunnelOrder)
		for j, t := range o.TunnelOrder {
			o.TunnelOrder[j] = PairOrder{Between: listed(t.Between), First: listed(t.First)}
		}
		o.Direct = slices.Clone(o.Direct)
		for j, pair := range o.Direct {
			o.Direct[j] = listed(pair)
		}
	}
	return &out
}

func listed[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// WriteJSON returns the document as indented JSON.
func WriteJSON(e *Estate) ([]byte, error) {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(nullless(e)); err != nil {
		return nil, fmt.Errorf("writing the estate as JSON: %w", err)
	}
	return out.Bytes(), nil
}

// WriteYAML returns the document as YAML, one link or subnet a line. Reading
// it gives the same estate again.
func WriteYAML(e *Estate) ([]byte, error) {
	text, err := WriteJSON(e)
	if err != nil {
		return nil, err
	}
	// JSON is YAML: parsed as such, only the style of its nodes has to change.
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, fmt.Errorf("writing the estate as YAML: %w", err)
	}
	restyle(&root, 0)
	var out bytes.Buffer
	encoder := yaml.NewEncoder(&out)
	encoder.SetIndent(2)
	if err := encoder.Encode(&root); err != nil {
		return nil, fmt.Errorf("writing the estate as YAML: %w", err)
	}
	return out.Bytes(), nil
}

// flat is the depth from which blocks are written on one line: the document,
// its sections, the items of a section and their keys stand on lines of their
// own.
const flat = 5

func restyle(n *yaml.Node, depth int) {
	n.Style = 0
	scalars := true
	for _, child := range n.Content {
		scalars = scalars && child.Kind == yaml.ScalarNode
		restyle(child, depth+1)
	}
	if n.Kind != yaml.ScalarNode && (depth >= flat || depth > 2 && scalars && n.Kind == yaml.SequenceNode || len(n.Content) == 0) {
		n.Style = yaml.FlowStyle
	}
}
