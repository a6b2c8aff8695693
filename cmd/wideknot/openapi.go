package main

import (
	"github.com/spf13/cobra"

	"wideknot/internal/server/api"
)

func openapiCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "openapi",
		Short: "Print the OpenAPI document of the server's API",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			// The version stays out of it: the front end's types are generated
			// from this text and must not change with each build.
			return writeJSON(c.OutOrStdout(), api.Describe("1"))
		},
	}
}
