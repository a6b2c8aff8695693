package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// format is the --format of the reading commands.
type format string

func (f *format) add(c *cobra.Command) {
	*f = "text"
	c.Flags().Var(f, "format", "text or json")
}

func (f *format) String() string { return string(*f) }
func (f *format) Type() string   { return "format" }
func (f *format) Set(s string) error {
	if s != "text" && s != "json" {
		return fmt.Errorf("%q is neither text nor json", s)
	}
	*f = format(s)
	return nil
}

// writeJSON prints a value as the documented JSON output.
func writeJSON(w io.Writer, value any) error {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(value)
}

// readDocument reads the estate document of that name; - is standard input.
// What was normalised is told on standard error.
func readDocument(c *cobra.Command, name string) (*estate.Estate, error) {
	in := c.InOrStdin()
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, unusable(err)
		}
		defer file.Close()
		in = file
	}
	e, notes, err := estate.Read(in)
	for _, n := range notes {
		fmt.Fprintf(c.ErrOrStderr(), "%s: %s\n", name, n)
	}
	if err != nil {
		return nil, unusable(fmt.Errorf("%s cannot be used:\n%w", name, err))
	}
	return e, nil
}

// writeDocument writes the estate document to a file, or to standard output
// when none is named.
func writeDocument(c *cobra.Command, f format, file string, e *estate.Estate) error {
	write := estate.WriteYAML
	if f == "json" {
		write = estate.WriteJSON
	}
	text, err := write(e)
	if err != nil {
		return err
	}
	if file != "" {
		return os.WriteFile(file, text, 0o600)
	}
	_, err = c.OutOrStdout().Write(text)
	return err
}

func derive(e *estate.Estate) *route.Map { return route.Build(tunnel.Derive(e)) }
