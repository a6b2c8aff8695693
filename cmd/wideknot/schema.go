package main

import (
	"github.com/spf13/cobra"

	"wideknot/core/estate"
)

func schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of the estate document",
		Args:  cobra.NoArgs,
		RunE:  func(c *cobra.Command, _ []string) error { return writeJSON(c.OutOrStdout(), estate.Schema()) },
	}
}
