package estate

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"

	"go.yaml.in/yaml/v3"
)

// WithAllocations returns the text of a document with another record of what was
// given out. All else stays as it is, comments and the order of keys included. The
// text must be one that Read takes, as JSON or as YAML whose sections stand on lines
// of their own.
func WithAllocations(text []byte, a Allocations) ([]byte, error) {
	before, _, err := Read(bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, Problems{syntaxProblem(err)}
	}
	write := inBlocks
	if root.Content[0].Style&yaml.FlowStyle != 0 {
		write = inJSON
	}
	out, err := write(text, root.Content[0], a)
	if err != nil {
		return nil, err
	}
	// Whatever the text was like: what is returned says what it should.
	after, _, err := Read(bytes.NewReader(out))
	if err != nil {
		return nil, fmt.Errorf("recording the allocations: %w", err)
	}
	before.Allocations = after.Allocations
	if !reflect.DeepEqual(before, after) || !sameRecord(after.Allocations, a) {
		return nil, errors.New("the allocations cannot be recorded in a document of this form; write its sections on lines of their own")
	}
	return out, nil
}

func sameRecord(a, b Allocations) bool {
	one, errOne := json.Marshal(a)
	other, errOther := json.Marshal(b)
	return errOne == nil && errOther == nil && bytes.Equal(one, other)
}

// inBlocks replaces the lines of the section, or appends them.
func inBlocks(text []byte, document *yaml.Node, a Allocations) ([]byte, error) {
	json, err := json.Marshal(struct {
		Allocations Allocations `json:"allocations"`
	}{a})
	if err != nil {
		return nil, fmt.Errorf("writing the allocations: %w", err)
	}
	var section yaml.Node
	if err := yaml.Unmarshal(json, &section); err != nil {
		return nil, fmt.Errorf("writing the allocations: %w", err)
	}
	restyle(&section, 0)
	var written bytes.Buffer
	encoder := yaml.NewEncoder(&written)
	encoder.SetIndent(2)
	if err := encoder.Encode(&section); err != nil {
		return nil, fmt.Errorf("writing the allocations: %w", err)
	}
	lines := strings.SplitAfter(string(text), "\n")
	from, to := len(lines), len(lines)
	for i := 0; i < len(document.Content); i += 2 {
		if document.Content[i].Value != "allocations" {
			continue
		}
		from = document.Content[i].Line - 1
		if i+2 < len(document.Content) {
			to = document.Content[i+2].Line - 1
			for to > from+1 && apart(lines[to-1]) { // a comment over the next section
				to--
			}
		}
	}
	var out strings.Builder
	for _, line := range lines[:from] {
		out.WriteString(line)
	}
	if s := out.String(); s != "" && !strings.HasSuffix(s, "\n") {
		out.WriteString("\n")
	}
	out.Write(written.Bytes())
	for _, line := range lines[to:] {
		out.WriteString(line)
	}
	return []byte(out.String()), nil
}

// apart reports whether a line holds nothing but a comment, or nothing.
func apart(line string) bool {
	line = strings.TrimSpace(line)
	return line == "" || line[0] == '#'
}

// inJSON replaces the value of the key, or adds both before the last bracket.
func inJSON(text []byte, _ *yaml.Node, a Allocations) ([]byte, error) {
	value, err := json.MarshalIndent(a, "  ", "  ")
	if err != nil {
		return nil, fmt.Errorf("writing the allocations: %w", err)
	}
	d := json.NewDecoder(bytes.NewReader(text))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, errors.New("this document is neither JSON nor YAML whose sections stand on lines of their own")
	}
	end := d.InputOffset() // of the last value
	first := true
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return nil, fmt.Errorf("reading the document as JSON: %w", err)
		}
		from := d.InputOffset()
		var skipped json.RawMessage
		if err := d.Decode(&skipped); err != nil {
			return nil, fmt.Errorf("reading the document as JSON: %w", err)
		}
		first, end = false, d.InputOffset()
		if key == "allocations" {
			return bytes.Join([][]byte{text[:from], []byte(": "), value, text[end:]}, nil), nil
		}
	}
	comma := ","
	if first {
		comma = ""
	}
	return bytes.Join([][]byte{text[:end], []byte(comma + "\n  \"allocations\": "), value, text[end:]}, nil), nil
}
