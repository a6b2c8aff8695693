package line

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"
)

// Port is where servers wait for gateways that call them (RFC 8071, 4).
const Port = 4336

// How soon a gateway calls again, at random between nothing and a bound that doubles; a
// trial begins anew, as it is confirmed over the next line.
const (
	firstWait   = 500 * time.Millisecond
	longestWait = 30 * time.Second
	steady      = time.Minute // a line that held so long was a good one
	callWithin  = 10 * time.Second
)

// What both ends set for HTTP/2 on a line: small frames, as a server has a thousand lines,
// and a ping that tells a dead one.
const (
	frameSize  = 16 << 10
	pingEvery  = 3 * time.Second
	pingWithin = 2 * time.Second
)

// A Home calls a gateway's servers and answers whoever is there (RFC 8071): the gateway
// opens TCP, the server then begins TLS as its client, both show certificates, and HTTP/2
// follows. There is one line at a time.
type Home struct {
	Device  Device
	Servers []string // HOST:PORT, tried in turn
	// TLS is the gateway's side: its certificate, and in ClientCAs who may be the server;
	// or a VerifyConnection that says who may.
	TLS *tls.Config
	// Dial opens TCP; nil asks the machine's network.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	Log  *slog.Logger
	// Told is called when a line is up, with the server, and when it is not.
	Told func(up bool, server string)
}

// Run keeps a line until the context ends.
func (h *Home) Run(ctx context.Context) error {
	config := h.TLS.Clone()
	config.MinVersion, config.ClientAuth, config.NextProtos = tls.VersionTLS13, tls.RequireAndVerifyClientCert, []string{"h2"}
	if config.VerifyConnection != nil {
		config.ClientAuth = tls.RequireAnyClientCert
	}
	if len(h.Servers) == 0 || config.ClientCAs == nil || len(config.Certificates) == 0 && config.GetCertificate == nil {
		return errors.New("a line needs a server, this gateway's certificate, and the authority of the server's")
	}
	bound, at := firstWait, rand.N(len(h.Servers)) // so that servers share the gateways
	for {
		server := h.Servers[at%len(h.Servers)]
		began := time.Now()
		again, err := h.call(ctx, server, config)
		if ctx.Err() != nil {
			return nil
		}
		if again || time.Since(began) > steady {
			bound = firstWait
		} else {
			at, bound = at+1, min(2*bound, longestWait)
		}
		if err != nil {
			h.Log.Info("no line", "server", server, "reason", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(rand.N(bound)):
		}
	}
}

// call holds one line until it ends. It reports whether the gateway ended it, to call
// anew after a trial was applied.
func (h *Home) call(ctx context.Context, server string, config *tls.Config) (again bool, err error) {
	calling, stop := context.WithTimeout(ctx, callWithin)
	defer stop()
	dial := h.Dial
	if dial == nil {
		dial = (&net.Dialer{}).DialContext
	}
	raw, err := dial(calling, "tcp", server)
	if err != nil {
		return false, err
	}
	defer raw.Close()
	watched := &watchedConn{Conn: raw, ended: make(chan struct{})}
	conn := tls.Server(watched, config)
	if err := conn.HandshakeContext(calling); err != nil {
		return false, err
	}
	if conn.ConnectionState().NegotiatedProtocol != "h2" {
		return false, errors.New("the server does not speak HTTP/2")
	}
	answer := &http.Server{
		ReadHeaderTimeout: callWithin, ErrorLog: slog.NewLogLogger(h.Log.Handler(), slog.LevelDebug),
		BaseContext: func(net.Listener) context.Context { return ctx },
		HTTP2:       &http.HTTP2Config{MaxReadFrameSize: frameSize, SendPingTimeout: pingEvery, PingTimeout: pingWithin},
	}
	var applied atomic.Bool
	answer.Handler = OnLine(h.Device, func() {
		if applied.Swap(true) {
			return
		}
		go func() {
			closing, stop := context.WithTimeout(ctx, time.Second)
			defer stop()
			_ = answer.Shutdown(closing) // the answer goes out first
			_ = conn.Close()
		}()
	})
	end := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer end()
	h.told(true, server)
	defer h.told(false, server)
	if err := answer.Serve(&oneLine{conn: conn, ended: watched.ended, closed: make(chan struct{})}); !errors.Is(err, net.ErrClosed) && !errors.Is(err, http.ErrServerClosed) {
		return applied.Load(), err
	}
	<-watched.ended
	return applied.Load(), nil
}

func (h *Home) told(up bool, server string) {
	h.Log.Info("line", "server", server, "up", up)
	if h.Told != nil {
		h.Told(up, server)
	}
}

// watchedConn tells when it is closed.
type watchedConn struct {
	net.Conn
	once  sync.Once
	ended chan struct{}
}

func (c *watchedConn) Close() error {
	c.once.Do(func() { close(c.ended) })
	return c.Conn.Close()
}

// oneLine is a listener that accepts one connection.
type oneLine struct {
	conn   *tls.Conn
	given  bool
	ended  chan struct{} // the connection has
	closed chan struct{} // the listener is
	once   sync.Once
}

// Accept returns the connection, and then waits for its end or the listener's.
func (l *oneLine) Accept() (net.Conn, error) {
	if !l.given {
		l.given = true
		return l.conn, nil
	}
	select {
	case <-l.ended:
	case <-l.closed:
	}
	return nil, net.ErrClosed
}

// Close lets Accept return; the connection ends by itself.
func (l *oneLine) Close() error {
	l.once.Do(func() { close(l.closed) })
	return nil
}

func (l *oneLine) Addr() net.Addr { return l.conn.LocalAddr() }
