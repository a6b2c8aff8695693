package main

import (
	_ "embed"
	"fmt"

	"github.com/spf13/cobra"
)

// notices is written by make notices.
//
//go:embed notices.txt
var notices string

func noticesCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "notices",
		Short: "Print the licences of everything that is built into the program",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			_, err := fmt.Fprint(c.OutOrStdout(), notices)
			return err
		},
	}
}
