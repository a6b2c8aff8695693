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

	"wideknot/internal/line"
)

// calling says which servers a gateway calls, and by what both ends know each other.
type calling struct {
	servers                     []string
	certificate, key, authority string
}

func (l *calling) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringArrayVar(&l.servers, "server", nil, fmt.Sprintf("a server to call, HOST or HOST:PORT (%d); repeat it for others to try in turn", line.Port))
	f.StringVar(&l.certificate, "line-certificate", "", "PEM file with this gateway's certificate")
	f.StringVar(&l.key, "line-key", "", "PEM file with its key")
	f.StringVar(&l.authority, "line-authority", "", "PEM file with the authority that signed the servers' certificates")
	c.MarkFlagsRequiredTogether("server", "line-certificate", "line-key", "line-authority")
}

// read returns the line to keep, nil where no server is called.
func (l *calling) read(log *slog.Logger) (*line.Home, error) {
	if len(l.servers) == 0 {
		return nil, nil
	}
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
