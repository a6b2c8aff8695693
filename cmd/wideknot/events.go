package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"wideknot/internal/server/events"
)

// followEvery is how often the server is asked for more events.
const followEvery = time.Second

func eventsCommand() *cobra.Command {
	var r remote
	var follow, asJSON bool
	var kind, site string
	var most int
	c := &cobra.Command{
		Use: "events ESTATE", Short: "List what was not as designed, by a running server, or follow it", Args: cobra.ExactArgs(1),
		Long: "Events prints one line for one cause: when it began, what it is, and when it ended. With --follow it goes on until it is\n" +
			"interrupted; a server that is away for a while is asked again, and nothing is left out.",
		RunE: func(c *cobra.Command, of []string) error {
			q := url.Values{"kind": {kind}, "site": {site}, "most": {strconv.Itoa(most)}}
			path := estatePath(of[0]) + "/events"
			var list []events.Event
			if err := r.call(c.Context(), http.MethodGet, path+"?"+q.Encode(), nil, &list); err != nil {
				return err
			}
			last := uint64(0)
			for i := len(list) - 1; i >= 0; i-- { // the newest come first
				last = max(last, list[i].ID)
				writeEvent(c.OutOrStdout(), &list[i], asJSON)
			}
			for follow {
				select {
				case <-c.Context().Done():
					return nil
				case <-time.After(followEvery):
				}
				q.Set("after", strconv.FormatUint(max(last, 1), 10))
				var more []events.Event
				if err := r.call(c.Context(), http.MethodGet, path+"?"+q.Encode(), nil, &more); err != nil {
					if c.Context().Err() == nil {
						fmt.Fprintln(c.ErrOrStderr(), "asking again:", err)
					}
					continue
				}
				for i := range more {
					last = max(last, more[i].ID)
					writeEvent(c.OutOrStdout(), &more[i], asJSON)
				}
			}
			return nil
		},
	}
	r.flags(c)
	c.Flags().BoolVar(&follow, "follow", false, "go on with what happens")
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object a line")
	c.Flags().StringVar(&kind, "kind", "", "began, ended or joined; all by default")
	c.Flags().StringVar(&site, "site", "", "of one site")
	c.Flags().IntVar(&most, "most", 50, "how many of the latest are printed first, up to 1000")
	return c
}

func writeEvent(w io.Writer, e *events.Event, asJSON bool) {
	if asJSON {
		text, _ := json.Marshal(e) // it was read as JSON
		fmt.Fprintf(w, "%s\n", text)
		return
	}
	what := e.Words
	switch {
	case e.Kind == events.Ended:
		what += fmt.Sprintf(", over after %s", time.Duration(e.LastedS)*time.Second)
	case e.Kind == events.Joined:
		what += ", part of another trouble"
	default:
		if e.Tunnels > 0 {
			what += fmt.Sprintf("; %d tunnels", e.Tunnels)
		}
		if e.Cut > 0 {
			what += fmt.Sprintf("; %d pairs of sites are cut", e.Cut)
		}
	}
	fmt.Fprintf(w, "%s  %-6s  %-8s  %s\n", e.At.Format(time.DateTime+"Z"), e.Kind, e.Sure, what)
}
