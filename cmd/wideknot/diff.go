package main

import (
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"wideknot/core/diff"
	"wideknot/core/render"
	"wideknot/core/render/bundle"
	"wideknot/core/render/linux"
	"wideknot/core/route"
)

func diffCommand() *cobra.Command {
	var f format
	var files bool
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
				return writeJSON(c.OutOrStdout(), struct {
					*diff.Diff
					Files []diff.FileDiff `json:"files,omitempty"`
				}{d, texts})
			}
			printDiff(c.OutOrStdout(), d)
			for _, t := range texts {
				fmt.Fprintf(c.OutOrStdout(), "--- %s\n+++ %s\n%s", t.Path, t.Path, t.Text)
			}
			return nil
		},
	}
	f.add(c)
	c.Flags().BoolVar(&files, "files", false, "show the text of the sites' files that differs")
	return c
}

func bundleOf(m *route.Map, site string) ([]render.File, error) {
	if i := m.Plan.SiteIndex(site); i >= 0 {
		return bundle.Site(m, i, "", linux.NoKeys)
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
