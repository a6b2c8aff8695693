package main

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wideknot/core/diff"
	"wideknot/core/gateway"
	"wideknot/core/render"
	"wideknot/core/render/bundle"
	"wideknot/core/route"
)

func diffCommand() *cobra.Command {
	var f format
	var files, exitCode bool
	c := &cobra.Command{
		Use:   "diff OLD NEW",
		Short: "Compare two estate documents by what they come to",
		Args:  cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			old, err := readDocument(c, args[0])
			if err != nil {
				return err
			}
			new, err := readDocument(c, args[1])
			if err != nil {
				return err
			}
			was := derive(old)
			if len(new.Allocations.Tunnels) == 0 {
				new.Allocations = was.Plan.Allocations() // so that only what the edit does shows
			}
			is := derive(new)
			d := diff.Compare(was, is)
			changed := renderedAnew(was, is)
			var texts []diff.FileDiff
			if files {
				for _, site := range d.Touched {
					before, errBefore := bundleOf(was, site)
					after, errAfter := bundleOf(is, site)
					if err := errors.Join(errBefore, errAfter); err != nil {
						return err
					}
					texts = append(texts, diff.Files(before, after)...)
				}
			}
			if f == "json" {
				return errors.Join(writeJSON(c.OutOrStdout(), struct {
					*diff.Diff
					Bundles []string        `json:"bundles"`
					Files   []diff.FileDiff `json:"files,omitempty"`
				}{d, changed, texts}), differs(exitCode, changed))
			}
			printDiff(c.OutOrStdout(), d)
			fmt.Fprintf(c.OutOrStdout(), "rendering changes %d bundles%s\n", len(changed), listed(changed))
			for _, t := range texts {
				fmt.Fprintf(c.OutOrStdout(), "--- %s\n+++ %s\n%s", t.Path, t.Path, t.Text)
			}
			return differs(exitCode, changed)
		},
	}
	f.add(c)
	c.Flags().BoolVar(&exitCode, "exit-code", false, "exit with 1 where rendering changes a bundle")
	c.Flags().BoolVar(&files, "files", false, "show the text of the sites' files that differs")
	return c
}

// differs is the exit of a comparison.
func differs(asked bool, changed []string) error {
	if asked && len(changed) > 0 {
		return exit{code: 1}
	}
	return nil
}

// renderedAnew lists the sites whose gateways are to be something else than before,
// by the digests of their configurations.
func renderedAnew(was, is *route.Map) []string {
	digests := map[string]string{}
	for i := range was.Plan.Estate.Sites {
		if len(was.Plan.Ends(i)) > 0 {
			digests[was.Plan.Site(i).Key] = gateway.Of(was, i).Digest()
		}
	}
	out := []string{}
	for i := range is.Plan.Estate.Sites {
		key := is.Plan.Site(i).Key
		digest := ""
		if len(is.Plan.Ends(i)) > 0 {
			digest = gateway.Of(is, i).Digest()
		}
		if digest != digests[key] {
			out = append(out, key)
		}
		delete(digests, key)
	}
	out = append(out, slices.Collect(maps.Keys(digests))...)
	slices.Sort(out)
	return out
}

// listed writes the first of some names behind a colon.
func listed(names []string) string {
	const most = 8
	switch {
	case len(names) == 0:
		return ""
	case len(names) > most:
		return fmt.Sprintf(": %s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return ": " + strings.Join(names, ", ")
}

func bundleOf(m *route.Map, site string) ([]render.File, error) {
	if i := m.Plan.SiteIndex(site); i >= 0 {
		return bundle.Site(m, i, bundle.Options{})
	}
	return nil, nil
}

func printDiff(w io.Writer, d *diff.Diff) {
	for _, s := range []struct {
		kind string
		set  diff.Set
	}{{"site", d.Sites}, {"overlay", d.Overlays}, {"tunnel", d.Tunnels}} {
		for _, name := range s.set.Added {
			fmt.Fprintf(w, "+ %s %s\n", s.kind, name)
		}
		for _, name := range s.set.Removed {
			fmt.Fprintf(w, "- %s %s\n", s.kind, name)
		}
		for _, c := range s.set.Changed {
			for _, what := range c.What {
				fmt.Fprintf(w, "~ %s %s: %s\n", s.kind, c.Name, what)
			}
		}
	}
	for _, m := range d.Moves {
		fmt.Fprintf(w, "→ at %s, %s: from %s to %s (%s)\n", m.Site, m.Prefix, orNone(m.From), orNone(m.To), m.Why)
	}
	fmt.Fprintf(w, "+%d tunnels, −%d, %d changed; %d routes move; %d sites touched\n",
		len(d.Tunnels.Added), len(d.Tunnels.Removed), len(d.Tunnels.Changed), len(d.Moves), len(d.Touched))
}

func orNone(way string) string {
	if way == "" {
		return "nothing"
	}
	return way
}
