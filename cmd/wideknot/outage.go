package main

import (
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wideknot/core/outage"
)

// Long for its flags.
func outageCommand() *cobra.Command {
	var f format
	var fail, kinds []string
	var against string
	var pairs bool
	c := &cobra.Command{
		Use:   "outage FILE",
		Short: "Say what each single failure does, or the failure of given parts together",
		Long: `Outage evaluates every single failure, the worst first. With --fail it explains
the failure of the given parts together: link:SITE/LINK, gateway:SITE, fate:GROUP,
provider:NAME, underlay:NAME or region:KEY. It exits with 1 when a site is cut
though its own gateway is alive, else with 0. With --against it says at which
sites a failure is harder or less hard than with the design of another file, and
exits with 1 when one is harder.`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			for _, k := range kinds {
				if !slices.Contains(outage.Kinds, outage.Kind(k)) {
					return unusable(fmt.Errorf("there is no kind %q of part: gateway, link, fate, provider, underlay or region", k))
				}
			}
			e, err := readDocument(c, args[0])
			if err != nil {
				return err
			}
			m := outage.New(derive(e))
			w := c.OutOrStdout()
			if against != "" {
				other, err := readDocument(c, against)
				if err != nil {
					return err
				}
				return compare(w, f, outage.New(derive(other)), m)
			}
			if len(fail) > 0 {
				return explain(w, f, m, fail)
			}
			parts := m.Parts()
			if len(kinds) > 0 {
				parts = slices.DeleteFunc(parts, func(p outage.Part) bool { return !slices.Contains(kinds, string(p.Kind)) })
			}
			outcomes := m.Singles(parts)
			if pairs {
				outcomes = m.Pairs(parts)
			}
			sheets := make([]outage.OutcomeSheet, len(outcomes))
			lost := false
			for i := range outcomes {
				sheets[i] = m.Sheet(&outcomes[i], f == "json")
				lost = lost || len(sheets[i].Lost) > 0
			}
			if f == "json" {
				err = writeJSON(w, sheets)
			} else {
				printIdle(w, m.IdleKeys())
				printOutcomes(w, sheets)
			}
			if err == nil && lost {
				return exit{code: 1}
			}
			return err
		},
	}
	f.add(c)
	c.Flags().StringArrayVar(&fail, "fail", nil, "a part that fails, such as link:SITE/LINK, or slow:link:SITE/LINK where it is only slow (or lossy); repeat it for several at once")
	c.Flags().StringSliceVar(&kinds, "kind", nil, "only parts of these kinds: gateway, link, fate, provider, underlay, region")
	c.Flags().StringVar(&against, "against", "", "compare with the design of another file")
	c.Flags().BoolVar(&pairs, "pairs", false, "every two parts together instead, as far as that is worse than the two alone added up")
	for _, other := range []string{"fail", "kind", "pairs"} {
		c.MarkFlagsMutuallyExclusive("against", other)
	}
	return c
}

func compare(w io.Writer, f format, old, new *outage.Model) error {
	changes := outage.Compare(old, new, old.Singles(old.Parts()), new.Singles(new.Parts()))
	sheets := []outage.ChangeSheet{}
	worse := 0
	for i := range changes {
		s := changes[i].Sheet()
		sheets = append(sheets, s)
		how := "better"
		if !s.Better {
			how = "worse"
			worse++
		}
		if f != "json" {
			fmt.Fprintf(w, "%s: %s at %s, %s became %s\n", s.Fail, how, s.Site, s.Was, s.Now)
		}
	}
	if f == "json" {
		if err := writeJSON(w, sheets); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(w, "%d worse, %d better\n", worse, len(sheets)-worse)
	}
	if worse > 0 {
		return exit{code: 1}
	}
	return nil
}

func explain(w io.Writer, f format, m *outage.Model, fail []string) error {
	parts, err := partsOf(fail)
	if err != nil {
		return err
	}
	d, err := m.Explain(parts...)
	if err != nil {
		return unusable(err)
	}
	sheet := m.DetailSheet(d)
	if f == "json" {
		err = writeJSON(w, sheet)
	} else {
		printIdle(w, sheet.Idle)
		printDetail(w, &sheet)
	}
	if err == nil && len(sheet.Lost) > 0 {
		return exit{code: 1}
	}
	return err
}

// partsOf reads the parts that a command is told.
func partsOf(texts []string) (parts []outage.Part, err error) {
	for _, text := range texts {
		p, err := outage.ParsePart(text)
		if err != nil {
			return nil, unusable(err)
		}
		parts = append(parts, p)
	}
	return parts, nil
}

// printIdle says where the figures that follow count no switching.
func printIdle(w io.Writer, sites []string) {
	if n := len(sites); n > 0 {
		more := ""
		if n > 10 {
			more = fmt.Sprintf(" and %d more", n-10)
		}
		fmt.Fprintf(w, "No automatic failover at %s%s: a dead tunnel stays in use there until somebody intervenes.\n", strings.Join(sites[:min(n, 10)], ", "), more)
	}
}

func printOutcomes(w io.Writer, sheets []outage.OutcomeSheet) {
	quiet := 0
	for _, o := range sheets {
		if o.Cut+o.Squeezed+o.Moved == 0 && len(o.Lost) == 0 {
			quiet++
			continue
		}
		fmt.Fprintf(w, "%s: %d pairs cut, %d squeezed, %d move", strings.Join(o.Fail, " and "), o.Cut, o.Squeezed, o.Moved)
		if len(o.Lost) > 0 {
			fmt.Fprintf(w, "; cuts %s", strings.Join(o.Lost, " "))
		}
		fmt.Fprintln(w)
	}
	fmt.Fprintf(w, "%d failures, of which %d touch nobody\n", len(sheets), quiet)
}

func printDetail(w io.Writer, d *outage.DetailSheet) {
	printOutcomes(w, []outage.OutcomeSheet{d.OutcomeSheet})
	fmt.Fprintf(w, "  %d pairs take another way, %d of them with room enough\n", d.Another, d.Moved)
	if d.Beyond > 0 {
		fmt.Fprintf(w, "  of %d pairs, what is held to limits is left with tunnels beyond them\n", d.Beyond)
	}
	for _, t := range d.Takeovers {
		to := "nothing"
		if t.To != nil {
			to = fmt.Sprintf("%s (%s, by %s)", t.To.Tunnels(), t.To.Overlay, t.To.Via)
		}
		from := "nothing"
		if t.From != nil {
			from = t.From.Tunnels()
		}
		if t.From != nil && t.To != nil && t.To.Beyond && from == t.To.Tunnels() {
			fmt.Fprintf(w, "  %s: %s stays, beyond its limits, %d pairs\n", t.Site, to, t.Pairs)
			continue
		}
		if t.To != nil && t.To.Beyond {
			to += ", beyond its limits,"
		}
		fmt.Fprintf(w, "  %s: %s takes over from %s, %d pairs\n", t.Site, to, from, t.Pairs)
	}
	for _, p := range d.Pairs {
		if p.Partly {
			fmt.Fprintf(w, "  %s and %s lose a part at %s: %s\n", p.A, p.B, p.At, subnetsText(p.Subnets))
		}
	}
	for _, l := range d.Over {
		fmt.Fprintf(w, "  %s: %.1f of %.1f Mbit/s\n", strings.TrimSuffix(l.Site+"/"+l.Link, "/"), l.After, l.Capacity)
	}
}

func subnetsText(pairs [][2]netip.Prefix) string {
	var out []string
	for _, p := range pairs {
		out = append(out, p[0].String()+" and "+p[1].String())
	}
	return strings.Join(out, "; ")
}
