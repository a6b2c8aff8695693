package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"runtime/debug"
	"time"

	"github.com/spf13/cobra"

	"wideknot/core/estate"
	"wideknot/internal/fleet"
)

// standIns are how a fleet is started.
type standIns struct {
	state, codes, script, listen string
	seed                         uint64
}

func fleetCommand() *cobra.Command {
	var s standIns
	c := &cobra.Command{
		Use: "fleet DOCUMENT", Short: "Run a stand-in for each gateway of a document, and an emulated WAN between them", Args: cobra.ExactArgs(1),
		Long: "Fleet plays the outside world of an estate: each gateway is the real agent, on a network in memory with real\n" +
			"WireGuard devices; the circuits between them are made from what the document says of links. With --codes the\n" +
			"stand-ins join a server and call it. What circuits are like can be changed while it runs: by a script in YAML\n" +
			"(--script), by its API and by its page (--listen). See docs/stand-ins.md.",
		RunE: func(c *cobra.Command, args []string) error { return s.run(c, args[0]) },
	}
	f := c.Flags()
	f.StringVar(&s.state, "state", "var/fleet", "folder of the stand-ins' keys and states")
	f.StringVar(&s.codes, "codes", "", "JSON file of join codes by site")
	f.StringVar(&s.script, "script", "", "YAML file of changes to the circuits, played from the start")
	f.StringVar(&s.listen, "listen", "127.0.0.1:8090", "loopback address and port of the API and the page; empty for none")
	f.Uint64Var(&s.seed, "seed", 1, "what the document says nothing of follows from it")
	return c
}

// read reads what a fleet is started with.
func (s *standIns) read(c *cobra.Command, name string) (e *estate.Estate, codes map[string]string, script *fleet.Script, err error) {
	if e, err = readDocument(c, name); err != nil {
		return nil, nil, nil, err
	}
	codes, script = map[string]string{}, &fleet.Script{}
	if s.codes != "" {
		text, err := os.ReadFile(s.codes)
		if err != nil {
			return nil, nil, nil, unusable(err)
		}
		if err := json.Unmarshal(text, &codes); err != nil {
			return nil, nil, nil, unusable(fmt.Errorf("%s: %w", s.codes, err))
		}
	}
	if s.script != "" {
		file, err := os.Open(s.script)
		if err != nil {
			return nil, nil, nil, unusable(err)
		}
		defer file.Close()
		if script, err = fleet.ReadScript(file); err != nil {
			return nil, nil, nil, unusable(err)
		}
	}
	return e, codes, script, nil
}

func (s *standIns) run(c *cobra.Command, name string) error {
	e, codes, script, err := s.read(c, name)
	if err != nil {
		return err
	}
	debug.SetGCPercent(50) // devices of dead tunnels hold packets of 64 KiB each, which are garbage when they are back
	if _, err := fleet.Keys(s.state, siteKeys(e)); err != nil {
		return err
	}
	w := fleet.New(e, s.seed, slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn})))
	w.Crowd = true
	ctx, stop := context.WithCancelCause(c.Context())
	defer stop(nil)
	if s.listen != "" {
		if err := s.serve(ctx, w, stop); err != nil {
			return err
		}
		fmt.Printf("%d stand-ins; their circuits are at http://%s\n", len(e.Sites), s.listen)
	}
	go w.Run(ctx)
	go w.Play(ctx, script)
	if err := w.Stand(ctx, s.state, codes, func() { fmt.Println("All stand-ins run") }); err != nil {
		return err
	}
	if err := context.Cause(ctx); err != nil && !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}

// serve answers the API and the page until the context ends.
func (s *standIns) serve(ctx context.Context, w *fleet.World, failed func(error)) error {
	listen, err := net.Listen("tcp", s.listen)
	if err != nil {
		return fmt.Errorf("--listen: %w", err)
	}
	if !isLoopback(listen.Addr()) {
		return errors.Join(unusable(errors.New("--listen is for loopback addresses: whoever reaches it changes the world")), listen.Close())
	}
	s.listen = listen.Addr().String()
	server := &http.Server{Handler: w.Handler(), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second}
	context.AfterFunc(ctx, func() { _ = server.Close() })
	go func() {
		if err := server.Serve(listen); !errors.Is(err, http.ErrServerClosed) {
			failed(err)
		}
	}()
	return nil
}
