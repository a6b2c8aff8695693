package estate

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// A Problem is one thing wrong in a document, a sheet or an edit. Path names
// the value, such as sites[3].links[0].mtu; Line and Column count from 1 and
// are 0 when the estate did not come from a text.
type Problem struct {
	Path    string `json:"path"`
	Line    int    `json:"line,omitempty"`
	Column  int    `json:"column,omitempty"`
	Message string `json:"message"`

	dangling bool // a name that points nowhere, perhaps because what it means could not be read
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

// A problemList keeps the first MaxProblems and counts the rest.
type problemList struct {
	list []Problem
	more int
}

// takes reports whether another problem will be kept, and counts it if not.
func (l *problemList) takes() bool {
	if len(l.list) < MaxProblems {
		return true
	}
	l.more++
	return false
}

func (l *problemList) add(p Problem) { l.list = append(l.list, p) }

// all returns those kept, in the order of the text, and how many more there are.
func (l *problemList) all() []Problem {
	slices.SortStableFunc(l.list, func(a, b Problem) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	if l.more == 0 {
		return l.list
	}
	return append(slices.Clip(l.list), Problem{Message: fmt.Sprintf("and %d more like these", l.more)})
}

// bearer is the path of what may bear a name that others use.
var bearer = regexp.MustCompile(`(^|\.)key$|^(sites|overlays|estate(\.regions)?)(\[\d+\])?$`)

// follows reports whether a problem of validation may come from one of reading:
// it is of the same value, of one inside it or around it, or of a name whose
// bearer was not read.
func (p Problem) follows(unread []Problem) bool {
	return slices.ContainsFunc(unread, func(u Problem) bool {
		return u.Path == "" || within(p.Path, u.Path) || within(u.Path, p.Path) || p.dangling && bearer.MatchString(u.Path)
	})
}

// within reports whether a path names a value in that of another, or the same.
func within(inner, outer string) bool {
	rest, ok := strings.CutPrefix(inner, outer)
	return ok && (rest == "" || rest[0] == '.' || rest[0] == '[')
}
