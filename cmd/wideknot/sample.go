package main

import (
	"github.com/spf13/cobra"

	"wideknot/core/estate"
	"wideknot/core/sample"
)

func sampleCommand() *cobra.Command {
	var f format
	var o sample.Options
	shape := string(estate.HubAndSpoke)
	c := &cobra.Command{
		Use:   "sample",
		Short: "Write a synthetic estate document",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			o.Shape = estate.Shape(shape)
			e, err := sample.Estate(o)
			if err != nil {
				return unusable(err)
			}
			if problems := estate.Validate(e); len(problems) > 0 {
				return unusable(estate.Problems(problems))
			}
			return writeDocument(c, f, "", e)
		},
	}
	f.add(c)
	c.Flags().IntVar(&o.Sites, "sites", 100, "spokes, or members of a mesh")
	c.Flags().IntVar(&o.Hubs, "hubs", 2, "hubs")
	c.Flags().IntVar(&o.Links, "links", 2, "WAN links of each site")
	c.Flags().IntVar(&o.Subnets, "subnets", 1, "subnets of each site")
	c.Flags().StringVar(&shape, "shape", shape, "hub-and-spoke, full-mesh or custom")
	c.Flags().Uint64Var(&o.Seed, "seed", 0, "another seed gives another estate")
	c.Flags().BoolVar(&o.Trouble, "trouble", false, "plant collisions and other trouble")
	return c
}
