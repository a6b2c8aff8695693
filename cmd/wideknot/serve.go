package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/spf13/cobra"

	"wideknot/examples"
	"wideknot/internal/api"
	"wideknot/internal/desk"
	"wideknot/internal/identity"
	"wideknot/internal/store"
)

// settings are what serve and demo are started with.
type settings struct {
	listen, folder, dsn string
	verbose             bool
}

func (s *settings) add(c *cobra.Command) {
	c.Flags().StringVar(&s.listen, "listen", "127.0.0.1:8080", "address and port to serve on")
	c.Flags().StringVar(&s.folder, "var", "var", "folder for the database, the master key and logs")
	c.Flags().StringVar(&s.dsn, "dsn", "", "an outside MariaDB, as USER:PASSWORD@tcp(HOST:PORT)/NAME (default: a private one in the folder)")
	c.Flags().BoolVar(&s.verbose, "verbose", false, "log every request")
}

func serveCommand() *cobra.Command {
	var s settings
	c := &cobra.Command{
		Use:   "serve",
		Short: "Serve the web application",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return s.serve(c.Context(), nil)
		},
	}
	s.add(c)
	return c
}

func demoCommand() *cobra.Command {
	var s settings
	c := &cobra.Command{
		Use:   "demo",
		Short: "Serve the web application with the demo estate Brindlewater in it",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return s.serve(c.Context(), loadDemo)
		},
	}
	s.add(c)
	return c
}

// loadDemo imports the demo estate once, as a user would import a document.
func loadDemo(ctx context.Context, d *desk.Desk) error {
	list, err := d.Estates(ctx)
	if err != nil || len(list) > 0 {
		return err
	}
	made, err := d.Create(ctx, "Brindlewater")
	if err != nil {
		return err
	}
	_, _, err = d.Import(ctx, desk.Order{Estate: made.Key}, desk.Parcel{Document: examples.Brindlewater}, false)
	return err
}

// serve runs until the context ends, then stops all it started.
func (s *settings) serve(ctx context.Context, prepare func(context.Context, *desk.Desk) error) error {
	level := slog.LevelInfo
	if s.verbose {
		level = slog.LevelDebug
	}
	slog.SetDefault(slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level})))
	listener, err := listenOn(s.listen)
	if err != nil {
		return err
	}
	defer listener.Close()
	if err := os.MkdirAll(s.folder, 0o700); err != nil {
		return fmt.Errorf("making the folder %s: %w", s.folder, err)
	}
	sealer, err := identity.LoadSealer(filepath.Join(s.folder, "master.key"))
	if err != nil {
		return err
	}
	dsn := s.dsn
	if dsn == "" {
		server, err := store.StartServer(ctx, filepath.Join(s.folder, "mariadb"))
		if err != nil {
			return err
		}
		defer server.Stop()
		dsn = server.DSN
	}
	db, err := store.Open(ctx, dsn)
	if err != nil {
		return err
	}
	defer db.Close()
	d := desk.New(db, sealer)
	if prepare != nil {
		if err := prepare(ctx, d); err != nil {
			return fmt.Errorf("loading the demo estate: %w", err)
		}
	}
	app := api.New(d, version)
	served := make(chan error, 1)
	go func() {
		served <- app.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true})
	}()
	fmt.Printf("Wide Knot is at http://%s (Ctrl-C stops it)\n", listener.Addr())
	select {
	case err := <-served:
		return err
	case <-ctx.Done():
		return app.ShutdownWithTimeout(5 * time.Second)
	}
}

// listenOn opens the port. A taken one is an error that says what to do.
func listenOn(address string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("--listen %q is not ADDRESS:PORT: %w", address, err)
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("--listen %s: there are no accounts yet, so only loopback addresses are served", address)
	}
	listener, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("%s is taken by another program; choose another port with --listen 127.0.0.1:PORT (make demo PORT=…)", address)
	}
	return listener, err
}
