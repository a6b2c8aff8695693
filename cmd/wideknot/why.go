package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"wideknot/core/diagnose"
	"wideknot/internal/server/desk"
)

func whyCommand() *cobra.Command {
	var r remote
	var protocol string
	var port int
	var quick, asJSON bool
	c := &cobra.Command{
		Use: "why ESTATE FROM TO", Short: "Say why one address does not reach another, by a running server", Args: cobra.ExactArgs(3),
		Long: "Why follows a packet and its answer along the path of the release in force, lets the gateways on it look, and names\n" +
			"the cause with its evidence. FROM and TO are addresses, or sites: then their gateways' own addresses are meant.\n" +
			"It ends with 0 where the packet arrives as the design says, and with 2 where it does not.",
		RunE: func(c *cobra.Command, of []string) error {
			var is desk.WhyAnswer
			var err error
			if quick {
				q := url.Values{"from": {of[1]}, "to": {of[2]}, "protocol": {protocol}, "port": {strconv.Itoa(port)}}
				err = r.call(c.Context(), http.MethodGet, estatePath(of[0])+"/why?"+q.Encode(), nil, &is)
			} else {
				body := map[string]any{"from": of[1], "to": of[2], "protocol": protocol, "port": port}
				err = r.call(c.Context(), http.MethodPost, estatePath(of[0])+"/why", body, &is)
			}
			if err != nil {
				return err
			}
			if asJSON {
				encoder := json.NewEncoder(c.OutOrStdout())
				encoder.SetIndent("", "  ")
				err = encoder.Encode(is)
			} else {
				writeWhy(c.OutOrStdout(), &is)
			}
			if err == nil && is.Verdict != diagnose.Arrives && is.Verdict != diagnose.Unseen {
				return exit{exitWorse, nil}
			}
			return err
		},
	}
	r.flags(c)
	c.Flags().StringVar(&protocol, "protocol", "icmp", "tcp, udp or icmp")
	c.Flags().IntVar(&port, "port", 0, "destination port of tcp or udp")
	c.Flags().BoolVar(&quick, "quick", false, "by what gateways reported last, without asking them")
	c.Flags().BoolVar(&asJSON, "json", false, "print what the server answers")
	return c
}

// verdicts are the sentences of how a packet fares.
var verdicts = map[diagnose.Verdict]string{
	diagnose.Arrives: "arrives as the design says",
	diagnose.Standby: "arrives, but not by the first choice",
	diagnose.Poor:    "arrives, with losses",
	diagnose.Fails:   "does not arrive",
	diagnose.Refused: "is not let through by the design",
	diagnose.Unseen:  "arrives by the design; not all of its path is seen",
}

func writeWhy(w io.Writer, is *desk.WhyAnswer) {
	fmt.Fprintf(w, "%s to %s: %s (release %d)\n\n", is.From, is.To, verdicts[is.Verdict], is.Release)
	for i, s := range is.Steps {
		if i == 0 && s.Back || i > 0 && s.Back && !is.Steps[i-1].Back {
			fmt.Fprintln(w, "and the answer:")
		}
		said := s.Said
		if said != "" {
			said = ": " + said
		}
		fmt.Fprintf(w, "  %-8s %s%s\n", s.Verdict, s.Words, said)
	}
	for _, c := range is.Causes {
		fmt.Fprintf(w, "\n%s: %s\n", c.Sure, c.Words)
		for _, e := range c.Evidence {
			fmt.Fprintf(w, "  %s\n", e)
		}
		if c.Repair.Words != "" {
			fmt.Fprintf(w, "  → %s\n", c.Repair.Words)
		}
	}
	for _, by := range is.Carried {
		fmt.Fprintf(w, "\nmeanwhile by the %s\n", by)
	}
	for _, u := range is.Unseen {
		fmt.Fprintf(w, "\nnot seen: %s\n", u)
	}
}
