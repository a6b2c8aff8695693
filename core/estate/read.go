package estate

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// MaxDocument is the largest document Read takes, in bytes.
const MaxDocument = 64 << 20

// A Problem is one thing wrong in a document, a sheet or an edit. Path names
// the value, such as sites[3].links[0].mtu; Line and Column count from 1 and
// are 0 when the estate did not come from a text.
type Problem struct {
	Path    string `json:"path"`
	Line    int    `json:"line,omitempty"`
	Column  int    `json:"column,omitempty"`
	Message string `json:"message"`
}

func (p Problem) String() string {
	where := p.Path
	if p.Line > 0 {
		where = fmt.Sprintf("line %d, column %d", p.Line, p.Column)
		if p.Path != "" {
			where += " (" + p.Path + ")"
		}
	}
	if where == "" {
		return p.Message
	}
	return where + ": " + p.Message
}

// Problems is a list of them as one error, in the order of the text.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.String()
	}
	return strings.Join(lines, "\n")
}

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
	if problem := tooDeep(text); problem != nil {
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
	problems := d.problems
	if len(problems) == 0 {
		for _, p := range Validate(e) {
			p.Line, p.Column = position(root.Content[0], p.Path)
			problems = append(problems, p)
		}
	}
	if len(problems) > 0 {
		slices.SortStableFunc(problems, func(a, b Problem) int {
			if a.Line != b.Line {
				return a.Line - b.Line
			}
			return a.Column - b.Column
		})
		return e, d.notes, Problems(problems)
	}
	return e, d.notes, nil
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

// tooDeep looks for bracket nesting beyond maxDepth before the text reaches
// the parser, for which megabytes of it would be slow. Brackets in quotes and
// comments do not count.
func tooDeep(text []byte) *Problem {
	depth, line, column := 0, 1, 0
	quote := byte(0)
	comment := false
	for i, c := range text {
		column++
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
