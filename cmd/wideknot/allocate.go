package main

import (
	"fmt"

	"github.com/spf13/cobra"
)

func allocateCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "allocate FILE",
		Short: "Record in an estate document the numbers that its tunnels are given",
		Long: "Allocate writes into the document which ports, addresses and interface numbers its tunnels have, so that\n" +
			"later edits leave those of all others as they are. Comments and the order of everything else stay; - reads\n" +
			"standard input and writes standard output.",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, text, err := readText(c, args[0])
			if err != nil {
				return err
			}
			m := derive(e)
			if m.Plan.Recorded() && args[0] != "-" {
				fmt.Fprintf(c.ErrOrStderr(), "all numbers are in %s already\n", args[0])
				return nil
			}
			return record(c, args[0], text, m.Plan.Allocations())
		},
	}
}
