package main

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/core/planning"
)

func repairCommand() *cobra.Command {
	var f format
	var out, kind string
	c := &cobra.Command{
		Use:   "repair FILE LABEL ...",
		Short: "Apply repairs that check offers, and print the document",
		Long: "Repair applies the repairs that check lists under those labels, together, and prints the repaired document;\n" +
			"with --all, the first that is offered for each finding of a kind. What is found afterwards goes to standard error.",
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, err := readDocument(c, args[0])
			if err != nil {
				return err
			}
			if (kind == "") == (len(args) == 1) {
				return unusable(errors.New("name repairs by their labels, or a kind of finding with --all"))
			}
			repairs, err := offered(e, args[0], args[1:], kind)
			if err != nil {
				return unusable(err)
			}
			repaired, err := planning.ApplyAll(e, repairs)
			if err != nil {
				return unusable(err)
			}
			m := derive(repaired)
			counts := check.Count(check.Run(m.Plan, m))
			fmt.Fprintf(c.ErrOrStderr(), "%d repairs; afterwards: %d errors, %d warnings, %d notes\n", len(repairs), counts[check.Error], counts[check.Warning], counts[check.Note])
			return writeDocument(c, f, out, repaired)
		},
	}
	f.add(c)
	c.Flags().StringVar(&out, "out", "", "file to write (default standard output)")
	c.Flags().StringVar(&kind, "all", "", "code of a kind of finding, such as addresses/collision")
	return c
}

// offered returns the repairs of those labels or, without any, the first of each
// finding of a kind.
func offered(e *estate.Estate, file string, labels []string, kind string) (out []planning.Repair, err error) {
	m := derive(e)
	findings := check.Run(m.Plan, m)
	if kind != "" {
		known := false
		for _, finding := range findings {
			if finding.Code == kind {
				known = true
				if len(finding.Repairs) > 0 {
					out = append(out, finding.Repairs[0])
				}
			}
		}
		if !known {
			return nil, fmt.Errorf("check finds nothing of the kind %q in %s", kind, file)
		}
		return out, nil
	}
	byLabel := map[string]planning.Repair{}
	for _, finding := range findings {
		for _, r := range finding.Repairs {
			byLabel[r.Label] = r
		}
	}
	for _, label := range labels {
		r, ok := byLabel[label]
		if !ok {
			return nil, fmt.Errorf("check offers no repair %q on %s", label, file)
		}
		out = append(out, r)
	}
	return out, nil
}
