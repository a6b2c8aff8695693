package main

import (
	"fmt"
	"io"
	"net/netip"
	"strings"

	"github.com/spf13/cobra"

	"wideknot/core/addr"
	"wideknot/core/outage"
	"wideknot/core/route"
)

func traceCommand() *cobra.Command {
	var f format
	var packet route.Packet
	var fail []string
	c := &cobra.Command{
		Use:   "trace FILE SRC DST",
		Short: "Follow a packet from one address to another, and the reply back",
		Long:  "Trace follows a packet and the reply to it. It exits with 0 when both arrive, 1 when not.",
		Args:  cobra.ExactArgs(3),
		RunE: func(c *cobra.Command, args []string) error {
			e, err := readDocument(c, args[0])
			if err != nil {
				return err
			}
			for i, into := range []*netip.Addr{&packet.From, &packet.To} {
				if *into, err = addr.ParseAddr(args[i+1]); err != nil {
					return unusable(err)
				}
			}
			if err := packet.Check(); err != nil {
				return unusable(err)
			}
			m := derive(e)
			var failing route.Failing
			if len(fail) > 0 {
				parts, err := partsOf(fail)
				if err != nil {
					return err
				}
				if failing, err = outage.New(m).Kills(parts...); err != nil {
					return unusable(err)
				}
			}
			t := m.FollowIn(failing, packet)
			if f == "json" {
				err = writeJSON(c.OutOrStdout(), map[string]any{
					"from": packet.From, "to": packet.To, "arrives": t.Return != nil && t.Arrives(), "symmetric": t.Symmetric, "mtu": t.MTU,
					"forward": m.Sheet(&t.Forward, failing), "return": m.Sheet(t.Return, failing),
				})
			} else {
				printWalk(c.OutOrStdout(), "there", m.Sheet(&t.Forward, failing))
				printWalk(c.OutOrStdout(), "back", m.Sheet(t.Return, failing))
				if t.Return != nil && t.Arrives() {
					fmt.Fprintf(c.OutOrStdout(), "MTU %d, symmetric: %v\n", t.MTU, t.Symmetric)
				}
			}
			if err == nil && (t.Return == nil || !t.Arrives()) {
				return exit{code: 1}
			}
			return err
		},
	}
	f.add(c)
	c.Flags().StringVar(&packet.Protocol, "protocol", "", "tcp, udp or icmp")
	c.Flags().IntVar(&packet.Port, "port", 0, "destination port")
	c.Flags().StringArrayVar(&fail, "fail", nil, "a part that fails meanwhile, such as link:SITE/LINK or slow:link:SITE/LINK (repeatable)")
	return c
}

func printWalk(w io.Writer, direction string, walk *route.WalkSheet) {
	if walk == nil {
		return
	}
	fmt.Fprintf(w, "%s:\n", direction)
	for _, s := range walk.Steps {
		fmt.Fprintf(w, "  %s  %s > %s  %s  MTU %d, path cost %d\n", s.Site, s.Interface, s.NextInterface, s.Overlay, s.MTU, s.Cost)
		if len(s.Beyond) > 0 {
			fmt.Fprintf(w, "  %*s  beyond its limits: %s\n", len(s.Site), "", strings.Join(s.Beyond, ", "))
		}
		for _, b := range s.Beside {
			fmt.Fprintf(w, "  %*s  %s  shares the load, %d to %d\n", len(s.Site), "", b.Interface, b.Weight, s.Weight)
		}
	}
	if walk.Where != "" {
		fmt.Fprintf(w, "  %s: %s", walk.Where, walk.End)
	} else {
		fmt.Fprintf(w, "  %s", walk.End)
	}
	if walk.Why != "" {
		fmt.Fprintf(w, ": %s. %s", walk.Why, walk.Fix)
	}
	fmt.Fprintln(w)
}
