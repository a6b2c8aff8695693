package main

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"

	"github.com/spf13/cobra"

	"wideknot/internal/gateway/join"
	"wideknot/internal/line"
)

// calling says which servers a gateway calls, and by what both ends know each other.
type calling struct {
	servers                     []string
	certificate, key, authority string
}

func (l *calling) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringArrayVar(&l.servers, "server", nil, fmt.Sprintf("a server to call, HOST or HOST:PORT (%d), in place of those it joined; repeat it for others to try in turn", line.Port))
	f.StringVar(&l.certificate, "line-certificate", "", "PEM file with this gateway's certificate")
	f.StringVar(&l.key, "line-key", "", "PEM file with its key")
	f.StringVar(&l.authority, "line-authority", "", "PEM file with the authority that signed the servers' certificates")
	c.MarkFlagsRequiredTogether("server", "line-certificate", "line-key", "line-authority")
}

// read returns the line to keep, nil where no server is called. Without --server it is that
// of the server which the gateway joined, as who is then an identity.
func (l *calling) read(log *slog.Logger, folder string) (*line.Home, *join.Identity, error) {
	if len(l.servers) > 0 {
		home, err := l.named(log)
		return home, nil, err
	}
	id, err := join.Open(folder)
	if errors.Is(err, join.ErrNot) {
		return nil, nil, nil
	} else if err != nil {
		return nil, nil, fmt.Errorf("who this gateway is to its servers: %w", err)
	}
	return &line.Home{TLS: id.TLS(), Servers: id.Lines, Log: log}, id, nil
}

// named returns the line to servers that were given one by one.
func (l *calling) named(log *slog.Logger) (*line.Home, error) {
	own, err := tls.LoadX509KeyPair(l.certificate, l.key)
	if err != nil {
		return nil, fmt.Errorf("this gateway's certificate: %w", err)
	}
	text, err := os.ReadFile(l.authority)
	if err != nil {
		return nil, fmt.Errorf("the servers' authority: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("the servers' authority: %s has no certificate in PEM", l.authority)
	}
	out := &line.Home{TLS: &tls.Config{Certificates: []tls.Certificate{own}, ClientCAs: pool}, Log: log}
	for _, s := range l.servers {
		if s == "" {
			return nil, errors.New("a server without a name cannot be called")
		}
		if _, _, err := net.SplitHostPort(s); err != nil {
			s = net.JoinHostPort(s, fmt.Sprint(line.Port))
		}
		out.Servers = append(out.Servers, s)
	}
	return out, nil
}
