package estate

import (
	"bytes"

	"go.yaml.in/yaml/v3"
)

// ReadPart reads one part of a document, such as a Site, from JSON or YAML and
// names every value that cannot be read. It does not validate.
func ReadPart[T any](text []byte, into *T) []Problem {
	if problem := tooMuch(text); problem != nil {
		return []Problem{*problem}
	}
	var root yaml.Node
	if err := yaml.Unmarshal(bytes.TrimPrefix(text, []byte("\ufeff")), &root); err != nil {
		return []Problem{syntaxProblem(err)}
	}
	if root.Kind == 0 {
		return []Problem{{Message: "nothing was given"}}
	}
	d := decoder{}
	d.decode(root.Content[0], "", into)
	problems := d.problems.all()
	for i := range problems {
		problems[i].Line, problems[i].Column = 0, 0
	}
	return problems
}
