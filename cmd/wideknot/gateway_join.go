package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"wideknot/internal/gateway/join"
	"wideknot/internal/line"
)

// identity is the folder of who this gateway is to its servers.
func (p *gatewayPlaces) identity() string { return filepath.Join(p.state, "identity") }

func (p *gatewayPlaces) joinCommand() *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "join [CODE]", Short: "Join a server by a code that it gave for this site", Args: cobra.MaximumNArgs(1),
		Long: "Join gets a certificate for this gateway by a join code, which is for one site, is used once and ends after a\n" +
			"time. From its next start on, run calls the server. A gateway that joins anew gets a new key for its servers;\n" +
			"the key of its tunnels stays, and is made where there is none. Without CODE it is read from standard input.",
		RunE: func(c *cobra.Command, args []string) error {
			text := ""
			switch {
			case len(args) == 1:
				text = args[0]
			case file != "":
				raw, err := os.ReadFile(file)
				if err != nil {
					return unusable(err)
				}
				text = string(raw)
			default:
				raw, err := io.ReadAll(io.LimitReader(c.InOrStdin(), 1<<16))
				if err != nil {
					return unusable(err)
				}
				text = string(raw)
			}
			code, err := line.ParseJoinCode(text)
			if err != nil {
				return unusable(err)
			}
			if err := os.MkdirAll(p.state, 0o700); err != nil {
				return exit{1, err}
			}
			key, err := p.ownKey()
			if err != nil {
				return exit{1, err}
			}
			ctx, stop := context.WithTimeout(c.Context(), time.Minute)
			defer stop()
			id, err := join.Join(ctx, p.identity(), code, join.Way{})
			var refusal *join.Refused
			if errors.As(err, &refusal) {
				return exit{refused, err}
			} else if err != nil {
				return exit{1, err}
			}
			estate, site := id.Site()
			fmt.Fprintf(c.OutOrStdout(), "This gateway joined %s as %s. Its public key for tunnels is %s\n", estate, site, key)
			fmt.Fprintln(c.OutOrStdout(), "wideknot gateway run calls the server from its next start on: systemctl restart wideknot-gateway")
			return nil
		},
	}
	c.Flags().StringVar(&file, "file", "", "read the code from a file")
	return c
}
