package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"wideknot/core/check"
)

func checkCommand() *cobra.Command {
	var f format
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "List what is wrong or risky in an estate document",
		Long:  "Check lists the findings on an estate document; - is standard input.\nIt exits with 0 when there is no error among them, 1 when there is, and 2 when the document cannot be used.",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, err := readDocument(c, args[0])
			if err != nil {
				return err
			}
			m := derive(e)
			findings := check.Run(m.Plan, m)
			counts := check.Count(findings)
			out := c.OutOrStdout()
			if f == "json" {
				if findings == nil {
					findings = []check.Finding{}
				}
				if err := writeJSON(out, map[string]any{"findings": findings, "counts": counts}); err != nil {
					return err
				}
			} else {
				for _, one := range findings {
					fmt.Fprintf(out, "%-7s  %s\n", one.Severity, one.Title)
					for _, line := range one.Evidence {
						fmt.Fprintf(out, "         · %s\n", line)
					}
					fmt.Fprintf(out, "         %s %s\n", one.Why, one.Fix)
					for _, r := range one.Repairs {
						fmt.Fprintf(out, "         → %s\n", r.Label)
					}
				}
				fmt.Fprintf(out, "%d errors, %d warnings, %d notes at %d sites\n", counts[check.Error], counts[check.Warning], counts[check.Note], len(e.Sites))
			}
			if counts[check.Error] > 0 {
				return exit{code: 1}
			}
			return nil
		},
	}
	f.add(c)
	return c
}
