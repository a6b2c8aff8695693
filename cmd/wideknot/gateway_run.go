package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"github.com/spf13/cobra"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
	"wideknot/internal/gateway/kernel"
	"wideknot/internal/line"
)

func (p *gatewayPlaces) runCommand() *cobra.Command {
	var metrics, config string
	var home calling
	c := &cobra.Command{
		Use: "run", Short: "Keep this gateway until told to end", Args: cobra.NoArgs,
		Long: "Run makes this gateway what was last applied, probes its tunnels, moves traffic between them and answers the\n" +
			"other commands. When it ends, tunnels and routes stay. With --config it keeps what that file says.",
		RunE: func(c *cobra.Command, _ []string) error {
			log := slog.New(slog.NewTextHandler(c.ErrOrStderr(), nil))
			return p.keep(c.Context(), log, config, metrics, &home)
		},
	}
	c.Flags().StringVar(&config, "config", "", "a config.json to apply and keep when it is another than before")
	home.flags(c)
	c.Flags().StringVar(&metrics, "metrics", "", "address for /metrics, such as 127.0.0.1:9862")
	return c
}

// keep runs the agent on this machine's kernel.
func (p *gatewayPlaces) keep(ctx context.Context, log *slog.Logger, config, metrics string, home *calling) error {
	calls, id, err := home.read(log, p.identity())
	if err != nil {
		return exit{refused, err}
	}
	plane, err := kernel.Open(p.state, p.devices())
	if err != nil {
		return exit{refused, err}
	}
	defer plane.Close()
	a, err := agent.New(plane, agent.Settings{State: p.state, Keys: p.keys, Log: log, Outside: outside(calls)})
	if err != nil {
		return exit{1, err}
	}
	defer a.Close()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	served := make(chan error, 2)
	go func() { served <- a.Serve(ctx, p.control()) }()
	if metrics != "" {
		listen, err := net.Listen("tcp", metrics)
		if err != nil {
			return exit{1, fmt.Errorf("/metrics: %w", err)}
		}
		go serveMetrics(ctx, a, listen)
	}
	go func() {
		if err := <-served; err != nil {
			stop(err)
		}
	}()
	ready := func() {
		notify(daemon.SdNotifyReady)
		if config != "" {
			go follow(ctx, a, log, config)
		}
		if calls != nil {
			calls.Device = a
			calls.Told = func(up bool, server string) { a.LineIs(ctx, up, server) }
			go func() { _ = calls.Run(ctx) }() // it was checked when it was read
			if id != nil {
				go id.Keep(ctx, log)
			}
		}
	}
	if err := a.Run(ctx, ready, func() { notify(daemon.SdNotifyWatchdog) }); err != nil {
		return exit{1, err}
	}
	if err := context.Cause(ctx); err != nil && !errors.Is(err, context.Canceled) {
		return exit{1, err}
	}
	return nil
}

// outside asks the servers that are called by which address the gateway is seen: each
// answers STUN on the port of its lines.
func outside(home *line.Home) func() []netip.AddrPort {
	if home == nil {
		return nil
	}
	return func() (out []netip.AddrPort) {
		for _, s := range home.Servers {
			if at, err := net.ResolveUDPAddr("udp", s); err == nil {
				out = append(out, netip.AddrPortFrom(at.AddrPort().Addr().Unmap(), at.AddrPort().Port()))
			}
		}
		return out
	}
}

// notify tells the service manager, if there is one.
func notify(what string) {
	_, _ = daemon.SdNotify(false, what)
}

// follow applies a file where it is another than what is kept. One that cannot be used
// is said to be so, and the gateway keeps what it has.
func follow(ctx context.Context, a *agent.Agent, log *slog.Logger, path string) {
	text, err := os.ReadFile(path)
	var c *gateway.Config
	if err == nil {
		c, err = gateway.Parse(text)
	}
	if err == nil {
		var standing agent.Standing
		if standing, err = a.Standing(ctx); err == nil && standing.Digest != c.Digest() {
			err = a.Try(ctx, c, 0, "", 0)
		}
	}
	if err != nil {
		log.Error("this file is not applied; the gateway keeps what it has", "file", path, "reason", err)
	}
}

func serveMetrics(ctx context.Context, a *agent.Agent, listen net.Listener) {
	registry := prometheus.NewRegistry()
	registry.MustRegister(a)
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(registry, promhttp.HandlerOpts{}))
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	_ = server.Serve(listen) // it ends with the context
}

func (p *gatewayPlaces) devicesCommand() *cobra.Command {
	var socket string
	c := &cobra.Command{
		Use: "devices", Short: "Serve WireGuard interfaces where the kernel has no module for them", Args: cobra.NoArgs,
		Long: "Devices is a process of its own, so that tunnels outlive the agent's restarts and upgrades. run starts it where\n" +
			"it is wanted and no service manager does.",
		RunE: func(c *cobra.Command, _ []string) error {
			if socket == "" {
				socket = p.devices()
			}
			d := kernel.Devices{Log: slog.New(slog.NewTextHandler(c.ErrOrStderr(), nil))}
			notify(daemon.SdNotifyReady)
			return d.Serve(c.Context(), socket)
		},
	}
	c.Flags().StringVar(&socket, "socket", "", "where it is told of interfaces (default in the folder of sockets)")
	return c
}

func (p *gatewayPlaces) guardCommand() *cobra.Command {
	return &cobra.Command{
		Use: "guard", Short: "Put discards and the filter up, before there is a network", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			c, err := agent.Kept(p.state)
			if err != nil || c == nil {
				return err
			}
			plane, err := kernel.Open(p.state, p.devices())
			if err != nil {
				return exit{refused, err}
			}
			defer plane.Close()
			return plane.Guard(c)
		},
	}
}
