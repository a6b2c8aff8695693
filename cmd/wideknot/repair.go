package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/core/planning"
)

func repairCommand() *cobra.Command {
	var f format
	var out string
	c := &cobra.Command{
		Use:   "repair FILE LABEL",
		Short: "Apply a repair that check offers, and print the document",
		Long: "Repair applies the repair that check lists under that label and prints the repaired document.\n" +
			"What is found afterwards goes to standard error.",
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			e, err := readDocument(c, args[0])
			if err != nil {
				return err
			}
			repair, ok := offered(e, args[1])
			if !ok {
				return unusable(fmt.Errorf("check offers no repair %q on %s", args[1], args[0]))
			}
			repaired, err := planning.Apply(e, repair)
			if err != nil {
				return unusable(err)
			}
			m := derive(repaired)
			counts := check.Count(check.Run(m.Plan, m))
			fmt.Fprintf(c.ErrOrStderr(), "afterwards: %d errors, %d warnings, %d notes\n", counts[check.Error], counts[check.Warning], counts[check.Note])
			return writeDocument(c, f, out, repaired)
		},
	}
	f.add(c)
	c.Flags().StringVar(&out, "out", "", "file to write (default standard output)")
	return c
}

func offered(e *estate.Estate, label string) (planning.Repair, bool) {
	m := derive(e)
	for _, finding := range check.Run(m.Plan, m) {
		for _, r := range finding.Repairs {
			if r.Label == label {
				return r, true
			}
		}
	}
	return planning.Repair{}, false
}
