package main

import (
	"fmt"
	"net/netip"
	"strings"

	"github.com/spf13/cobra"

	"wideknot/core/addr"
	"wideknot/core/planning"
)

func spaceCommand() *cobra.Command {
	var f format
	var size int
	c := &cobra.Command{
		Use:   "space FILE",
		Short: "List what is free in each region's blocks, and summaries with the holes they would cover",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, err := readDocument(c, args[0])
			if err != nil {
				return err
			}
			if size < 0 || size > 128 {
				return unusable(fmt.Errorf("--size %d is no length of a prefix: 1 to 32, or to 128 for IPv6", size))
			}
			rooms := planning.Rooms(e)
			if f == "json" {
				return writeJSON(c.OutOrStdout(), map[string]any{"rooms": rooms})
			}
			for _, r := range rooms {
				fmt.Fprintf(c.OutOrStdout(), "%s %s\n  free: %s\n", r.Region, r.Block, joined(r.Free))
				if r.Summary.IsValid() {
					fmt.Fprintf(c.OutOrStdout(), "  used: %s\n  summary: %s, holes: %s\n", joined(r.Used), r.Summary, joined(r.Holes))
				}
				if size > 0 && size <= r.Block.Addr().BitLen() {
					if fit, ok := addr.BestFit(r.Block, r.Used, size); ok {
						fmt.Fprintf(c.OutOrStdout(), "  best /%d: %s\n", size, fit)
					}
				}
			}
			return nil
		},
	}
	f.add(c)
	c.Flags().IntVar(&size, "size", 0, "also offer the best free block of this length")
	return c
}

func joined(prefixes []netip.Prefix) string {
	if len(prefixes) == 0 {
		return "none"
	}
	out := make([]string, len(prefixes))
	for i, p := range prefixes {
		out[i] = p.String()
	}
	return strings.Join(out, " ")
}
