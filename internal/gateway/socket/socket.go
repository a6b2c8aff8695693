// Package socket lets programs of one machine speak HTTP with each other over a socket
// that root alone may open.
package socket

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"
)

// Serve answers at a path until the context ends. It refuses where another program
// answers there; what one that was killed left behind goes.
func Serve(ctx context.Context, path string, handler http.Handler) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if c, err := net.Dial("unix", path); err == nil {
		_ = c.Close()
		return fmt.Errorf("another program of ours runs here: it has %s", path)
	}
	_ = os.Remove(path)
	listen, err := net.Listen("unix", path)
	if err != nil {
		return err
	}
	if err := os.Chmod(path, 0o600); err != nil {
		return errors.Join(err, listen.Close())
	}
	server := &http.Server{
		Handler: handler, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: time.Minute,
		BaseContext: func(net.Listener) context.Context { return ctx },
	}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	if err := server.Serve(listen); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// Client speaks with whoever serves at a path, whatever host its URLs name.
func Client(path string) *http.Client {
	return &http.Client{Transport: &http.Transport{
		DisableKeepAlives: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", path)
		},
	}}
}
