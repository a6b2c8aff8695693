package main

import (
	"bytes"
	"context"
	"crypto/ecdh"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
	"wideknot/internal/gateway/socket"
)

// refused is the exit code of what was refused, and changed nothing; a bundle's apply has
// the same.
const refused = 4

// gatewayPlaces are where a gateway's program keeps things.
type gatewayPlaces struct {
	state, keys, run string
}

func (p *gatewayPlaces) control() string { return filepath.Join(p.run, "gateway.sock") }
func (p *gatewayPlaces) devices() string { return filepath.Join(p.run, "devices.sock") }

func gatewayCommand() *cobra.Command {
	var p gatewayPlaces
	c := &cobra.Command{
		Use:   "gateway",
		Short: "Keep this machine as a gateway: apply, probe, switch, go back",
		Long: "Gateway commands run on a gateway, as root. run is the program that keeps it; the others ask that program.\n" +
			"Exit codes: 0 as asked, 1 could not be done, 2 unusable input, 4 refused (and nothing is changed).",
	}
	flags := c.PersistentFlags()
	flags.StringVar(&p.state, "state", "/var/lib/wideknot-gateway", "folder of what outlives a reboot")
	flags.StringVar(&p.keys, "keys", "/etc/wideknot", "folder of private.key and INTERFACE.psk")
	flags.StringVar(&p.run, "runtime", "/run/wideknot", "folder of sockets")
	c.AddCommand(p.runCommand(), p.devicesCommand(), p.guardCommand(), p.keyCommand(), p.joinCommand(), p.statusCommand(), p.eventsCommand(),
		p.whyCommand(), p.checkCommand(), p.applyCommand(), p.confirmCommand(), p.backCommand(), p.forgiveCommand(), p.removeCommand())
	return c
}

// ask sends a request to the program that keeps the gateway.
func (p *gatewayPlaces) ask(ctx context.Context, method, path string, values url.Values, body []byte) ([]byte, error) {
	request, err := http.NewRequestWithContext(ctx, method, "http://gateway"+path+"?"+values.Encode(), bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	answer, err := socket.Client(p.control()).Do(request)
	switch {
	case errors.Is(err, os.ErrPermission):
		return nil, exit{refused, fmt.Errorf("no permission to ask %s: this needs root", p.control())}
	case err != nil && ctx.Err() == nil:
		return nil, exit{1, fmt.Errorf("no agent answers at %s: start it with wideknot gateway run, or systemctl start wideknot-gateway", p.control())}
	case err != nil:
		return nil, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return nil, err
	}
	if answer.StatusCode != http.StatusOK {
		return nil, exit{refused, errors.New(strings.TrimSpace(string(text)))}
	}
	return text, nil
}

// say asks for something and prints the answer, one text.
func (p *gatewayPlaces) say(c *cobra.Command, path string, values url.Values, body []byte) error {
	text, err := p.ask(c.Context(), http.MethodPost, path, values, body)
	if err != nil {
		return err
	}
	var words string
	if err := json.Unmarshal(text, &words); err != nil {
		return err
	}
	fmt.Fprintln(c.ErrOrStderr(), words)
	return nil
}

func (p *gatewayPlaces) statusCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use: "status", Short: "Say how this gateway is", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			text, err := p.ask(c.Context(), http.MethodGet, "/standing", nil, nil)
			if err != nil {
				return err
			}
			var standing agent.Standing
			if err := json.Unmarshal(text, &standing); err != nil {
				return err
			}
			if standing.Digest == "" {
				if standing.Broken != "" {
					return exit{1, fmt.Errorf("NOT as the configuration says: %s; it is tried again every 5 s", standing.Broken)}
				}
				fmt.Fprintln(c.ErrOrStderr(), "nothing was applied here yet")
				return nil
			}
			if text, err = p.ask(c.Context(), http.MethodGet, "/state", nil, nil); err != nil {
				return err
			}
			if asJSON {
				_, err := c.OutOrStdout().Write(text)
				return err
			}
			state, err := gateway.ParseState(text)
			if err != nil {
				return err
			}
			printStatus(c.OutOrStdout(), state, &standing)
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON by RFC 7951 and the module wideknot-gateway")
	return c
}

// printStatus writes a state for people: what runs, then links, then tunnels, those
// that are dead first.
func printStatus(out io.Writer, s *gateway.State, standing *agent.Standing) {
	if s.Release > 0 {
		fmt.Fprintf(out, "%s: release %d, digest %.16s\n", s.Site, s.Release, s.Digest)
	} else {
		fmt.Fprintf(out, "%s: digest %.16s\n", s.Site, s.Digest)
	}
	if standing.Trial != "" {
		fmt.Fprintf(out, "on trial for %d s more: wideknot gateway confirm keeps it\n", standing.Left)
	}
	if standing.Broken != "" {
		fmt.Fprintf(out, "NOT as the configuration says: %s\n", standing.Broken)
	}
	if !s.Clock.Synchronised {
		fmt.Fprintln(out, "nothing keeps the clock right")
	}
	table := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	for _, l := range s.Links {
		how := "next hop does not answer"
		if l.NextHopUp {
			how = "next hop answers"
		}
		if l.NamesUp {
			how += ", so does a name service"
		}
		if l.PathMTU > 0 {
			how += fmt.Sprintf(", takes packets of %d bytes", l.PathMTU)
		}
		fmt.Fprintf(table, "link %s\t%s\t%s\n", l.Link, how, addressWords(l))
	}
	table.Flush()
	if len(s.Tunnels) > 0 {
		fmt.Fprintln(table, "tunnel\tstate\tround trip\tjitter\tloss out\tloss back\tpath MTU\thandshake")
	}
	for _, dead := range []bool{true, false} {
		for i := range s.Tunnels {
			if t := &s.Tunnels[i]; t.Up != dead {
				fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", t.Interface, stateWords(t),
					micros(t, t.LatencyUs), micros(t, t.JitterUs), percent(t, t.LossOutPPM), percent(t, t.LossBackPPM), orDash(t.PathMTU), ago(t.HandshakeS))
			}
		}
	}
	table.Flush()
	dead := 0
	for _, w := range s.Ways {
		if w.Group == 0 {
			dead++
		}
	}
	if dead > 0 {
		fmt.Fprintf(out, "%d of %d ways are dead: what would go by them is discarded; wideknot gateway why ADDRESS says more\n", dead, len(s.Ways))
	}
}

// stateWords says how a tunnel is.
func stateWords(t *gateway.TunnelState) string {
	switch {
	case !t.Up:
		return "DEAD"
	case t.Beyond:
		return "up, beyond its limits"
	}
	return "up"
}

func addressWords(l gateway.LinkState) string {
	var list []string
	for _, a := range l.Addresses {
		list = append(list, a.String())
	}
	return strings.Join(list, ", ")
}

func micros(t *gateway.TunnelState, n int) string {
	if !t.Up || t.Answered == 0 {
		return "–"
	}
	return fmt.Sprintf("%.1f ms", float64(n)/1000)
}

func percent(t *gateway.TunnelState, ppm int) string {
	if !t.Up || t.Answered == 0 {
		return "–"
	}
	return fmt.Sprintf("%.1f %%", float64(ppm)/10_000)
}

func orDash(n int) string {
	if n == 0 {
		return "–"
	}
	return strconv.Itoa(n)
}

func ago(seconds int) string {
	if seconds == 0 {
		return "never"
	}
	return (time.Duration(seconds) * time.Second).String() + " ago"
}

func (p *gatewayPlaces) eventsCommand() *cobra.Command {
	var follow, asJSON bool
	c := &cobra.Command{
		Use: "events", Short: "Print the journal of this gateway", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			after := uint64(0)
			for {
				values := url.Values{"after": {strconv.FormatUint(after, 10)}}
				if follow && after > 0 {
					values.Set("wait", "1")
				}
				text, err := p.ask(c.Context(), http.MethodGet, "/events", values, nil)
				if c.Context().Err() != nil {
					return nil
				}
				if err != nil {
					return err
				}
				var events []agent.Event
				if err := json.Unmarshal(text, &events); err != nil {
					return err
				}
				for i := range events {
					e := &events[i]
					after = e.Sequence
					if asJSON {
						line, err := json.Marshal(e)
						if err != nil {
							return err
						}
						fmt.Fprintf(c.OutOrStdout(), "%s\n", line)
					} else {
						fmt.Fprintf(c.OutOrStdout(), "%s  %-13s  %s\n", e.At.Local().Format("2006-01-02 15:04:05.000"), e.Kind, e.Words)
					}
				}
				if len(events) == 0 && !follow {
					return nil
				}
			}
		},
	}
	c.Flags().BoolVarP(&follow, "follow", "f", false, "go on with what happens")
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object a line")
	return c
}

func (p *gatewayPlaces) whyCommand() *cobra.Command {
	return &cobra.Command{
		Use: "why PREFIX|ADDRESS", Short: "Say by which way something is reached, and why by that one", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if _, err := agent.ParsePlace(args[0]); err != nil {
				return unusable(err)
			}
			text, err := p.ask(c.Context(), http.MethodGet, "/why", url.Values{"to": {args[0]}}, nil)
			if err != nil {
				return err
			}
			var lines []string
			if err := json.Unmarshal(text, &lines); err != nil {
				return err
			}
			for _, line := range lines {
				fmt.Fprintln(c.OutOrStdout(), line)
			}
			return nil
		},
	}
}

// readGateway reads a config.json; what cannot be used is refused before anybody is
// asked.
func readGateway(c *cobra.Command, name string) ([]byte, error) {
	in := c.InOrStdin()
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, unusable(err)
		}
		defer file.Close()
		in = file
	}
	text, err := io.ReadAll(io.LimitReader(in, gateway.MaxDocument+1))
	if err != nil {
		return nil, unusable(err)
	}
	if _, err := gateway.Parse(text); err != nil {
		return nil, exit{refused, fmt.Errorf("%s: %w", name, err)}
	}
	return text, nil
}

func (p *gatewayPlaces) checkCommand() *cobra.Command {
	return &cobra.Command{
		Use: "check CONFIG", Short: "Say what keeps a config.json from being applied here; change nothing", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			text, err := readGateway(c, args[0])
			if err != nil {
				return err
			}
			return p.say(c, "/check", nil, text)
		},
	}
}

func (p *gatewayPlaces) applyCommand() *cobra.Command {
	var try, release int
	c := &cobra.Command{
		Use: "apply CONFIG", Short: "Apply a config.json, for good or on trial", Args: cobra.ExactArgs(1),
		Long: "Apply makes this gateway what a config.json says (wideknot render --target gateway writes it) and keeps it\n" +
			"over reboots. With --try it goes back by itself after so many seconds unless confirm follows.",
		RunE: func(c *cobra.Command, args []string) error {
			if try < 0 || c.Flags().Changed("try") && try == 0 {
				return unusable(errors.New("--try wants a number of seconds"))
			}
			text, err := readGateway(c, args[0])
			if err != nil {
				return err
			}
			return p.say(c, "/apply", url.Values{"try": {strconv.Itoa(try)}, "release": {strconv.Itoa(release)}}, text)
		},
	}
	c.Flags().IntVar(&try, "try", 0, "seconds after which it goes back unless confirmed")
	c.Flags().IntVar(&release, "release", 0, "number of the release that this is")
	return c
}

func (p *gatewayPlaces) confirmCommand() *cobra.Command {
	return &cobra.Command{
		Use: "confirm", Short: "Keep what is being tried", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return p.say(c, "/confirm", nil, nil) },
	}
}

func (p *gatewayPlaces) backCommand() *cobra.Command {
	return &cobra.Command{
		Use: "back", Short: "Go back: from a trial, else to the configuration before", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return p.say(c, "/back", nil, nil) },
	}
}

func (p *gatewayPlaces) forgiveCommand() *cobra.Command {
	return &cobra.Command{
		Use: "forgive", Short: "Let tunnels that came and went come back without further waiting", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return p.say(c, "/forgive", nil, nil) },
	}
}

func (p *gatewayPlaces) removeCommand() *cobra.Command {
	return &cobra.Command{
		Use: "remove", Short: "Take away everything that was ever made here", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return p.say(c, "/remove", nil, nil) },
	}
}

func (p *gatewayPlaces) keyCommand() *cobra.Command {
	return &cobra.Command{
		Use: "key", Short: "Print this gateway's public key; make a key pair where there is none", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			key, err := p.ownKey()
			if err != nil {
				return exit{1, err}
			}
			fmt.Fprintln(c.OutOrStdout(), key)
			return nil
		},
	}
}

// ownKey returns the public half of the key that this gateway uses: that of what it keeps,
// where that says which, else of its key pair, which is made where there is none.
func (p *gatewayPlaces) ownKey() (string, error) {
	if kept, err := agent.Kept(p.state); err == nil && kept != nil && kept.PublicKey != "" {
		return kept.PublicKey, nil
	}
	path := filepath.Join(p.keys, "private.key")
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		key, err := ecdh.X25519().GenerateKey(rand.Reader)
		if err != nil {
			return "", err
		}
		text = []byte(base64.StdEncoding.EncodeToString(key.Bytes()) + "\n")
		if err := os.MkdirAll(p.keys, 0o700); err != nil {
			return "", err
		}
		if err := os.WriteFile(path, text, 0o600); err != nil {
			return "", err
		}
	} else if err != nil {
		return "", err
	}
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil {
		return "", fmt.Errorf("%s holds no key in base64", path)
	}
	key, err := ecdh.X25519().NewPrivateKey(raw)
	if err != nil {
		return "", fmt.Errorf("%s holds no key of 32 bytes", path)
	}
	return base64.StdEncoding.EncodeToString(key.PublicKey().Bytes()), nil
}
