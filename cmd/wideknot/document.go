package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

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
	e, _, err := readText(c, name)
	return e, err
}

// readText is readDocument, with the text as it stands.
func readText(c *cobra.Command, name string) (*estate.Estate, []byte, error) {
	in := c.InOrStdin()
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, nil, unusable(err)
		}
		defer file.Close()
		in = file
	}
	var text bytes.Buffer
	e, notes, err := estate.Read(io.TeeReader(in, &text))
	for _, n := range notes {
		fmt.Fprintf(c.ErrOrStderr(), "%s: %s\n", name, n)
	}
	if err != nil {
		return nil, nil, unusable(fmt.Errorf("%s cannot be used:\n%w", name, err))
	}
	return e, text.Bytes(), nil
}

// record writes the allocations into the document of that name, whose text is given,
// and leaves all else in it as it is; - is standard output.
func record(c *cobra.Command, name string, text []byte, a estate.Allocations) error {
	out, err := estate.WithAllocations(text, a)
	if err != nil {
		return unusable(fmt.Errorf("%s: %w", name, err))
	}
	if bytes.Equal(out, text) && name != "-" {
		return nil
	}
	if name == "-" {
		_, err = c.OutOrStdout().Write(out)
		return err
	}
	return replaceFile(name, out)
}

// replaceFile writes a file anew, whole or not at all, for whom the old one was for.
func replaceFile(name string, text []byte) error {
	mode := os.FileMode(0o600)
	if info, err := os.Stat(name); err == nil {
		mode = info.Mode().Perm()
	}
	file, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+"-*")
	if err != nil {
		return err
	}
	_, err = file.Write(text)
	if err := errors.Join(err, file.Chmod(mode), file.Sync(), file.Close()); err != nil {
		return errors.Join(err, os.Remove(file.Name()))
	}
	return os.Rename(file.Name(), name)
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
