package estate

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// MaxDocument is the largest document Read takes, in bytes, and maxValues the most
// values in it: each takes some hundred bytes while it is read.
const (
	MaxDocument = 32 << 20
	maxValues   = 3_000_000
)

// Read reads an estate document in YAML or JSON and validates it. A document
// with anything wrong in it is returned with the error, which is then of type
// Problems, so that a caller may show what could be read. The notes name what
// was normalised.
func Read(r io.Reader) (e *Estate, notes []Problem, err error) {
	text, err := io.ReadAll(io.LimitReader(r, MaxDocument+1))
	if err != nil {
		return nil, nil, fmt.Errorf("reading the document: %w", err)
	}
	if len(text) > MaxDocument {
		return nil, nil, Problems{{Message: fmt.Sprintf("the document is larger than %d MB", MaxDocument>>20)}}
	}
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	if problem := tooMuch(text); problem != nil {
		return nil, nil, Problems{*problem}
	}
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, nil, Problems{syntaxProblem(err)}
	}
	if root.Kind == 0 {
		return nil, nil, Problems{{Line: 1, Column: 1, Message: "the document is empty; it must start with \"wideknot: 1\""}}
	}
	d := decoder{}
	e = &Estate{}
	d.decode(root.Content[0], "", e)
	problems, unread := d.problems, d.problems.list
	for _, p := range Validate(e) {
		if p.Path != "" && !p.follows(unread) && problems.takes() {
			p.Line, p.Column = position(root.Content[0], p.Path)
			problems.add(p)
		}
	}
	if len(problems.list) > 0 {
		return e, d.notes.all(), Problems(problems.all())
	}
	return e, d.notes.all(), nil
}

var lineInMessage = regexp.MustCompile(`^yaml: (?:line (\d+): )?`)

func syntaxProblem(err error) Problem {
	message := err.Error()
	p := Problem{Line: 1, Column: 1}
	if m := lineInMessage.FindStringSubmatch(message); m != nil {
		if m[1] != "" {
			p.Line, _ = strconv.Atoi(m[1])
		}
		message = message[len(m[0]):]
	}
	p.Message = "not well-formed YAML or JSON: " + message
	return p
}

// maxDepth is far beyond what a document needs and far below what a parser
// minds.
const maxDepth = 100

// tooMuch looks for bracket nesting beyond maxDepth, and for more than maxValues
// values, before the text reaches the parser, for which megabytes of either would
// be slow and large. Brackets in quotes and comments do not count.
func tooMuch(text []byte) *Problem {
	depth, line, column, values := 0, 1, 0, 0
	quote := byte(0)
	comment := false
	for i, c := range text {
		column++
		if c == ',' || c == '\n' || c == ':' { // what can stand between two values
			if values++; values > maxValues {
				return &Problem{Line: line, Column: column, Message: fmt.Sprintf("more than %d values", maxValues)}
			}
		}
		switch {
		case c == '\n':
			line, column, comment = line+1, 0, false
		case comment:
		case quote != 0:
			if c == quote && (quote != '"' || text[i-1] != '\\') {
				quote = 0
			}
		case (c == '"' || c == '\'') && (i == 0 || strings.IndexByte(" \n[{,:", text[i-1]) >= 0):
			quote = c
		case c == '#' && (i == 0 || text[i-1] == ' ' || text[i-1] == '\n'):
			comment = true
		case c == '[' || c == '{':
			if depth++; depth > maxDepth {
				return &Problem{Line: line, Column: column, Message: fmt.Sprintf("nested deeper than %d levels", maxDepth)}
			}
		case c == ']' || c == '}':
			depth--
		}
	}
	return nil
}

// position finds the line and column of the value a path names, or of the
// narrowest value around it that the text has.
func position(root *yaml.Node, path string) (line, column int) {
	at := root
	for path != "" {
		var name string
		next := at
		if path[0] == '[' {
			end := strings.IndexByte(path, ']')
			name, path = path[1:end], path[end+1:]
			if i, err := strconv.Atoi(name); err == nil && at.Kind == yaml.SequenceNode && i < len(at.Content) {
				next = at.Content[i]
			} else if at.Kind == yaml.MappingNode {
				next = valueOf(at, name)
			}
		} else {
			path = strings.TrimPrefix(path, ".")
			end := strings.IndexAny(path, ".[")
			if end < 0 {
				end = len(path)
			}
			name, path = path[:end], path[end:]
			if at.Kind == yaml.MappingNode {
				next = valueOf(at, name)
			}
		}
		if next == nil || next == at {
			break
		}
		at = next
	}
	return at.Line, at.Column
}

func valueOf(mapping *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		if mapping.Content[i].Value == key {
			return mapping.Content[i+1]
		}
	}
	return nil
}
