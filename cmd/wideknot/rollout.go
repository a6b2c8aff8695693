package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wideknot/core/rollout"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/rollouts"
)

// Exit codes of commands that speak to a server, for pipelines.
const (
	exitError   = 1
	exitWorse   = 2 // worse than predicted, or stopped
	exitUndone  = 3 // taken back
	exitRefused = 4
	exitRunning = 5 // when waiting ended
)

// remote is a server that commands speak to.
type remote struct {
	server, tokenFile string
}

func (r *remote) flags(c *cobra.Command) {
	c.PersistentFlags().StringVar(&r.server, "server", os.Getenv("WIDEKNOT_SERVER"), "address of the server, as https://plan.example (environment: WIDEKNOT_SERVER)")
	c.PersistentFlags().StringVar(&r.tokenFile, "token-file", "", "file with the token; without it the environment's WIDEKNOT_TOKEN counts")
}

// most is how much of an answer is read.
const most = 64 << 20

// call asks the server for something, and reads the answer.
func (r *remote) call(ctx context.Context, method, path string, body, answer any) error {
	if r.server == "" {
		return exit{exitError, errors.New("which server? Give --server or WIDEKNOT_SERVER")}
	}
	token := os.Getenv("WIDEKNOT_TOKEN")
	if r.tokenFile != "" {
		text, err := os.ReadFile(r.tokenFile)
		if err != nil {
			return exit{exitError, err}
		}
		token = strings.TrimSpace(string(text))
	}
	text, err := json.Marshal(body)
	if err != nil {
		return exit{exitError, err}
	}
	request, err := http.NewRequestWithContext(ctx, method, strings.TrimRight(r.server, "/")+path, bytes.NewReader(text))
	if err != nil {
		return exit{exitError, err}
	}
	request.Header.Set("Authorization", "Bearer "+token)
	request.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return exit{exitError, err}
	}
	defer response.Body.Close()
	text, err = io.ReadAll(io.LimitReader(response.Body, most))
	if err != nil {
		return exit{exitError, err}
	}
	if response.StatusCode >= 300 {
		var problem struct{ Detail, Title string }
		_ = json.Unmarshal(text, &problem) // else the status says enough
		err := fmt.Errorf("%s: %s", response.Status, problem.Detail)
		if response.StatusCode == http.StatusConflict || response.StatusCode == http.StatusPreconditionFailed {
			return exit{exitRefused, err}
		}
		return exit{exitError, err}
	}
	return json.Unmarshal(text, answer)
}

func rolloutCommand() *cobra.Command {
	var r remote
	c := &cobra.Command{Use: "rollout", Short: "Bring a release to the gateways of an estate, by a running server"}
	r.flags(c)
	c.AddCommand(r.newKeys(), r.plan(), r.start(), r.status(), r.wait(), r.decide("stop", "Let a rollout wait after what it does now", rollouts.Wait),
		r.decide("go-on", "Let a rollout that waits or stopped go on", rollouts.GoOn),
		r.decide("accept", "Let a rollout that stopped go on, although something is not as expected", rollouts.Accept), r.decide("back", "Take a rollout back", rollouts.Undo))
	return c
}

func estatePath(estate string) string { return "/api/estates/" + url.PathEscape(estate) }

// order reads ESTATE RELEASE and how the rollout is to go on.
func order(c *cobra.Command, s *rollouts.Settings) {
	c.Flags().IntVar(&s.Soak, "soak", 30, "seconds that each round is watched before the next begins")
	c.Flags().IntVar(&s.Away, "away", 0, "how many gateways may be away before it stops")
	c.Flags().BoolVar(&s.ByHand, "by-hand", false, "somebody lets each round begin")
	c.Flags().StringVar(&s.From, "from", "", "time of day, UTC, from which rounds may begin, as 22:30")
	c.Flags().StringVar(&s.To, "to", "", "time of day until which they may")
}

type rolloutOrder struct {
	Release uint64 `json:"release"`
	rollouts.Settings
	Instead bool `json:"instead,omitempty"`
}

func numberOf(text string) (uint64, error) {
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil || n == 0 {
		return 0, exit{exitError, fmt.Errorf("%q is no number", text)}
	}
	return n, nil
}

func (r *remote) newKeys() *cobra.Command {
	return &cobra.Command{
		Use: "new-keys ESTATE DRAFT [SITE...]", Short: "Let gateways make new keys for their tunnels, and take the public halves into a draft", Args: cobra.MinimumNArgs(2),
		Long: "New-keys asks the gateways of the sites, or all that are there where none is named. The keys are used once the\n" +
			"draft is released and brought to the gateways.",
		RunE: func(c *cobra.Command, of []string) error {
			var made struct{ Keys []desk.NewKey }
			path := estatePath(of[0]) + "/drafts/" + url.PathEscape(of[1]) + "/new-keys"
			if err := r.call(c.Context(), http.MethodPost, path, map[string]any{"sites": of[2:]}, &made); err != nil {
				return err
			}
			failed := 0
			for _, k := range made.Keys {
				if k.Words != "" {
					failed++
				}
				fmt.Fprintf(c.OutOrStdout(), "%-20s %s%s\n", k.Site, k.PublicKey, k.Words)
			}
			if failed > 0 {
				return exit{exitError, fmt.Errorf("%d gateways made no new key", failed)}
			}
			return nil
		},
	}
}

func (r *remote) plan() *cobra.Command {
	return &cobra.Command{
		Use: "plan ESTATE RELEASE", Short: "Say in which rounds a release would go, and whom each cuts", Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, of []string) error {
			release, err := numberOf(of[1])
			if err != nil {
				return err
			}
			var p rollout.Plan
			if err := r.call(c.Context(), http.MethodPost, estatePath(of[0])+"/rollout-plan", rolloutOrder{Release: release}, &p); err != nil {
				return err
			}
			out := c.OutOrStdout()
			for i, round := range p.Rounds {
				fmt.Fprintf(out, "%3d  %-28s %4d gateways  cuts %d, moves %d pairs\n", i+1, round.Name, len(round.Sites), round.Cut, round.Moved)
			}
			fmt.Fprintf(out, "%d pairs of sites are cut meanwhile\n", p.Cut)
			if p.Cut > 0 {
				return exit{exitWorse, nil}
			}
			return nil
		},
	}
}

func (r *remote) start() *cobra.Command {
	var o rolloutOrder
	c := &cobra.Command{
		Use: "start ESTATE RELEASE", Short: "Begin to bring a release to gateways; prints the number of the rollout", Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, of []string) error {
			var err error
			if o.Release, err = numberOf(of[1]); err != nil {
				return err
			}
			var v rollouts.Rollout
			if err := r.call(c.Context(), http.MethodPost, estatePath(of[0])+"/rollouts", o, &v); err != nil {
				return err
			}
			fmt.Fprintln(c.OutOrStdout(), v.Number)
			return nil
		},
	}
	order(c, &o.Settings)
	c.Flags().BoolVar(&o.Instead, "instead", false, "let it take the place of a rollout that waits or stopped")
	return c
}

// outcome turns where a rollout is into an exit code.
func outcome(d *rollouts.RolloutDetail) error {
	switch d.State {
	case rollouts.Done:
		return nil
	case rollouts.Stopped:
		return exit{exitWorse, errors.New(d.Words)}
	case rollouts.Undone:
		return exit{exitUndone, errors.New("it was taken back")}
	case rollouts.Left:
		return exit{exitWorse, errors.New(d.Words)}
	}
	return exit{exitRunning, nil}
}

func (r *remote) get(ctx context.Context, estate, number string) (*rollouts.RolloutDetail, error) {
	n, err := numberOf(number)
	if err != nil {
		return nil, err
	}
	d := &rollouts.RolloutDetail{}
	return d, r.call(ctx, http.MethodGet, fmt.Sprintf("%s/rollouts/%d", estatePath(estate), n), nil, d)
}

func (r *remote) status() *cobra.Command {
	return &cobra.Command{
		Use: "status ESTATE NUMBER", Short: "Say how far a rollout is", Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, of []string) error {
			d, err := r.get(c.Context(), of[0], of[1])
			if err != nil {
				return err
			}
			out := c.OutOrStdout()
			fmt.Fprintf(out, "release %d: %s, round %d of %d %s\n", d.Release, d.State, min(max(d.Round+1, 0), len(d.Plan.Rounds)), len(d.Plan.Rounds), d.Phase)
			for _, g := range d.Gateways {
				fmt.Fprintf(out, "  %-20s %-10s %s\n", g.Site, g.State, g.Words)
			}
			for _, diff := range d.Proof.Differ {
				fmt.Fprintf(out, "  %s: %s is to be %s, and is %s\n", diff.Site, diff.What, diff.Expected, diff.Seen)
			}
			return outcome(d)
		},
	}
}

func (r *remote) wait() *cobra.Command {
	var within time.Duration
	c := &cobra.Command{
		Use: "wait ESTATE NUMBER", Short: "Wait until a rollout ends or stops; may be begun again at any time", Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, of []string) error {
			ctx, done := context.WithTimeout(c.Context(), within)
			defer done()
			said := 0
			for {
				d, err := r.get(ctx, of[0], of[1])
				if ctx.Err() != nil {
					return exit{exitRunning, nil}
				}
				if err != nil {
					return err
				}
				for _, n := range d.Notes[min(said, len(d.Notes)):] {
					fmt.Fprintf(c.OutOrStdout(), "%s %s\n", n.At.Format(time.RFC3339), n.Words)
				}
				said = len(d.Notes)
				if d.State != rollouts.Running && d.State != rollouts.Back {
					return outcome(d)
				}
				select {
				case <-ctx.Done():
					return exit{exitRunning, nil}
				case <-time.After(time.Second):
				}
			}
		},
	}
	c.Flags().DurationVar(&within, "within", time.Hour, "how long")
	return c
}

func (r *remote) decide(use, short string, do rollouts.Do) *cobra.Command {
	var without bool
	c := &cobra.Command{
		Use: use + " ESTATE NUMBER", Short: short, Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, of []string) error {
			n, err := numberOf(of[1])
			if err != nil {
				return err
			}
			var v rollouts.Rollout
			body := map[string]any{"do": do, "without_away": without}
			if err := r.call(c.Context(), http.MethodPost, fmt.Sprintf("%s/rollouts/%d/decision", estatePath(of[0]), n), body, &v); err != nil {
				return err
			}
			fmt.Fprintln(c.OutOrStdout(), v.State)
			return nil
		},
	}
	if do == rollouts.GoOn {
		c.Flags().BoolVar(&without, "without-away", false, "take away what gateways that are away may still use")
	}
	return c
}
