package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"runtime"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/spf13/cobra"

	"wideknot/internal/server/api"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// memoryLimit is from where on the collector works harder, in bytes, unless
// GOMEMLIMIT says otherwise.
const memoryLimit = 1 << 30

// threadsPerCore lets the kernel take turns between short answers and long
// derivations, unless GOMAXPROCS says otherwise. It gives whoever just woke the
// next turn; Go's own turns are first come, first served, of up to 10 ms each.
const threadsPerCore = 2

// cores is what the program may use, before it is told otherwise.
var cores = runtime.GOMAXPROCS(0)

func serveCommand() *cobra.Command {
	var s settings
	c := &cobra.Command{
		Use:   "serve",
		Short: "Serve the web application",
		Args:  cobra.NoArgs,
		RunE:  func(c *cobra.Command, _ []string) error { return s.serve(c.Context(), nil, nil) },
	}
	s.addServer(c)
	return c
}

// serve runs until the context ends, then stops all it started. prepare fills
// a database before anybody is let in; then begins what comes once the server answers.
// Long because what it starts it stops in the reverse order, by defer.
func (s *settings) serve(ctx context.Context, prepare, then func(context.Context, *api.Server) error) error {
	level := slog.LevelInfo
	if s.verbose {
		level = slog.LevelDebug
	}
	slog.SetDefault(slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level})))
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
		go keepSmall(ctx)
	}
	if os.Getenv("GOMAXPROCS") == "" {
		runtime.GOMAXPROCS(threadsPerCore * cores)
	}
	listener, err := s.listener()
	if err != nil {
		return err
	}
	defer listener.Close()
	access, stop, err := s.database(ctx, false)
	if err != nil {
		return err
	}
	defer stop()
	db, err := store.Open(ctx, access)
	if err != nil {
		return err
	}
	defer db.Close()
	sealer, err := s.sealerFor(ctx, db)
	if err != nil {
		return err
	}
	url := s.url(listener)
	provider, err := s.provider(url)
	if err != nil {
		return err
	}
	server := &api.Server{
		Desk: desk.New(db, sealer), Office: identity.NewOffice(db), Sealer: sealer, Store: db, Provider: provider,
		Version: version, PublicURL: strings.TrimRight(s.publicURL, "/"), TLS: s.tlsCert != "",
		TrustedProxies: s.trustedProxies, MetricsFrom: s.metricsFrom, Rate: s.rate,
	}
	gateways, err := s.gateways(ctx, server)
	if err != nil {
		return err
	}
	if prepare != nil {
		if err := prepare(ctx, server); err != nil {
			return err
		}
	}
	link, err := server.Office.Begin(ctx)
	if err != nil {
		return fmt.Errorf("looking for an administrator: %w", err)
	}
	if link != "" && !isLoopback(listener.Addr()) {
		return fmt.Errorf("--listen %s: no administrator has a password yet. Start on a loopback address first and set one", s.listen)
	}
	app := server.App()
	served := make(chan error, 2)
	endLines, linesEnded := gateways.serve(ctx, served)
	defer func() {
		endLines()
		<-linesEnded
	}()
	go func() {
		served <- app.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true})
	}()
	fmt.Printf("Wide Knot is at %s (Ctrl-C stops it)\n", url)
	if link != "" {
		fmt.Printf("Set the administrator's password within 72 hours at %s/welcome#%s\n", url, link)
	}
	if server.Demo != nil {
		fmt.Printf("Demo only: sign in as %s with the password %q; so do %s\n", server.Demo.Email, server.Demo.Password, strings.Join(server.Demo.Others, " and "))
	}
	if then != nil {
		if err := then(ctx, server); err != nil {
			return err
		}
	}
	select {
	case err := <-served:
		return err
	case <-ctx.Done():
		server.Stop()
		err := app.ShutdownWithTimeout(5 * time.Second)
		if errors.Is(err, context.DeadlineExceeded) {
			slog.Warn("some requests did not end within five seconds and were cut off")
			return nil
		}
		return err
	}
}

func (s *settings) url(listener net.Listener) string {
	switch {
	case s.publicURL != "":
		return strings.TrimRight(s.publicURL, "/")
	case s.tlsCert != "":
		return "https://" + listener.Addr().String()
	}
	return "http://" + listener.Addr().String()
}

// listener opens the port. A taken one is an error that says what to do; one
// that others can reach needs protection.
func (s *settings) listener() (net.Listener, error) {
	if _, _, err := net.SplitHostPort(s.listen); err != nil {
		return nil, unusable(fmt.Errorf("--listen %q is not ADDRESS:PORT: %w", s.listen, err))
	}
	if (s.tlsCert == "") != (s.tlsKey == "") {
		return nil, unusable(errors.New("--tls-cert and --tls-key belong together"))
	}
	if !s.local() && s.tlsCert == "" && !s.plainHTTP {
		return nil, unusable(fmt.Errorf("--listen %s: others can reach this address, and passwords would be sent in the clear. "+
			"Give --tls-cert and --tls-key, or --plain-http if a proxy in front does TLS", s.listen))
	}
	if !s.local() && s.plainHTTP && (s.publicURL == "" || len(s.trustedProxies) == 0) {
		return nil, unusable(errors.New("--plain-http needs --public-url, the name and scheme that browsers know, and --trusted-proxy, " +
			"the address of what does TLS in front; without them nobody could sign in, and anybody could say where a request comes from"))
	}
	var config *tls.Config
	if s.tlsCert != "" {
		certificate, err := tls.LoadX509KeyPair(s.tlsCert, s.tlsKey)
		if err != nil {
			return nil, unusable(fmt.Errorf("reading the TLS certificate: %w", err))
		}
		config = &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}
	}
	listener, err := net.Listen("tcp", s.listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("%s is taken by another program; choose another port with --listen 127.0.0.1:PORT (make demo PORT=…)", s.listen)
	}
	if err == nil && config != nil {
		listener = tls.NewListener(listener, config)
	}
	return listener, err
}

// local reports whether only this machine can reach the address.
func (s *settings) local() bool {
	host, _, err := net.SplitHostPort(s.listen)
	ip := net.ParseIP(host)
	return err != nil || host == "localhost" || ip != nil && ip.IsLoopback() // what is no address is refused later
}

func isLoopback(a net.Addr) bool {
	tcp, ok := a.(*net.TCPAddr)
	return ok && tcp.IP.IsLoopback()
}
