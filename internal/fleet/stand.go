package fleet

import (
	"context"
	"crypto/ecdh"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"wideknot/internal/gateway/agent"
	"wideknot/internal/gateway/join"
	"wideknot/internal/line"
)

// Keys makes a key pair for the tunnels of each site where there is none, as each gateway
// makes its own, and returns the public halves.
func Keys(folder string, sites []string) (map[string]string, error) {
	out := make(map[string]string, len(sites))
	for _, site := range sites {
		path := filepath.Join(folder, site, "keys", "private.key")
		text, err := os.ReadFile(path)
		if errors.Is(err, os.ErrNotExist) {
			key, err := ecdh.X25519().GenerateKey(rand.Reader)
			if err != nil {
				return nil, err
			}
			text = []byte(base64.StdEncoding.EncodeToString(key.Bytes()) + "\n")
			if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
				return nil, err
			}
			if err := os.WriteFile(path, text, 0o600); err != nil {
				return nil, err
			}
		} else if err != nil {
			return nil, err
		}
		raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
		if err != nil {
			return nil, fmt.Errorf("%s holds no key", path)
		}
		key, err := ecdh.X25519().NewPrivateKey(raw)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		out[site] = base64.StdEncoding.EncodeToString(key.PublicKey().Bytes())
	}
	return out, nil
}

// Joined lists the sites whose stand-ins have joined a server, by what is in their folders.
func Joined(folder string, sites []string) map[string]bool {
	out := map[string]bool{}
	for _, site := range sites {
		if _, err := join.Open(filepath.Join(folder, site, "identity")); err == nil {
			out[site] = true
		}
	}
	return out
}

// joinersAtOnce bounds how many join at one time.
const joinersAtOnce = 8

// Stand runs the agent of each site until the context ends: with its state in a folder, and
// joined by a code where it has not joined yet. Ready is called once all have begun.
func (w *World) Stand(ctx context.Context, folder string, codes map[string]string, ready func()) error {
	var all sync.WaitGroup
	defer all.Wait()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	failed := make(chan error, 1)
	turns := make(chan struct{}, joinersAtOnce)
	var begun sync.WaitGroup
	w.mu.Lock()
	w.starting = true
	w.mu.Unlock()
	for _, s := range w.Sites() {
		begun.Add(1)
		all.Go(func() {
			if err := w.stand(ctx, s, folder, codes[s.Key], turns, sync.OnceFunc(begun.Done)); err != nil && ctx.Err() == nil {
				select {
				case failed <- fmt.Errorf("%s: %w", s.Key, err):
				default:
				}
			}
		})
	}
	all.Go(func() { w.follow(ctx) })
	go func() {
		begun.Wait()
		ready()
		w.start()
	}()
	select {
	case <-ctx.Done():
		return nil
	case err := <-failed:
		return err
	}
}

// stand runs one agent.
func (w *World) stand(ctx context.Context, s *Site, folder, code string, turns chan struct{}, begun func()) error {
	defer begun()
	home := filepath.Join(folder, s.Key)
	a, err := agent.New(s.Machine, agent.Settings{
		State: filepath.Join(home, "state"), Keys: filepath.Join(home, "keys"), Log: slog.New(slog.DiscardHandler), Light: true, Crowd: w.Crowd,
		Resolve: w.Resolve(s), Resolvers: func() []netip.Addr { return []netip.Addr{nameServer} }, Outside: func() []netip.AddrPort { return []netip.AddrPort{stunServer} },
		Now: func() time.Time { return w.now(s) },
	})
	if err != nil {
		return err
	}
	defer a.Close()
	w.mu.Lock()
	s.Agent = a
	w.mu.Unlock()
	defer s.Machine.Close()
	return a.Run(ctx, func() {
		begun()
		go w.call(ctx, s, a, filepath.Join(home, "identity"), code, turns)
	}, func() {})
}

// now is the time by a site's clock.
func (w *World) now(s *Site) time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	return time.Now().Add(s.offset)
}

// call joins where the site has not yet, and keeps its line.
func (w *World) call(ctx context.Context, s *Site, a *agent.Agent, folder, code string, turns chan struct{}) {
	way := join.Way{Dial: w.dial(s), Now: func() time.Time { return w.now(s) }}
	id, err := join.Open(folder)
	for err != nil {
		if !errors.Is(err, join.ErrNot) || code == "" {
			w.log.Error("a stand-in has not joined", "site", s.Key, "reason", err)
			return
		}
		var parsed *line.JoinCode
		if parsed, err = line.ParseJoinCode(code); err != nil {
			w.log.Error("a stand-in cannot join", "site", s.Key, "reason", err)
			return
		}
		select {
		case turns <- struct{}{}:
		case <-ctx.Done():
			return
		}
		id, err = join.Join(ctx, folder, parsed, way)
		<-turns
		if err == nil {
			break
		}
		var refused *join.Refused
		if errors.As(err, &refused) || ctx.Err() != nil {
			w.log.Error("a stand-in cannot join", "site", s.Key, "reason", err)
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
		err = join.ErrNot
	}
	id.Dial, id.Now = way.Dial, way.Now
	w.mu.Lock()
	s.identity = id
	w.mu.Unlock()
	go id.Keep(ctx, w.log)
	home := line.Home{Device: a, Servers: id.Lines, TLS: id.TLS(), Dial: way.Dial, Log: slog.New(slog.DiscardHandler), Told: func(up bool, server string) { a.LineIs(ctx, up, server) }}
	if err := home.Run(ctx); err != nil {
		w.log.Error("a stand-in keeps no line", "site", s.Key, "reason", err)
	}
}

// followEvery is how often the routers beside one-armed gateways learn what routes they
// need: their keepers do what the design asks of them.
const followEvery = 500 * time.Millisecond

// follow gives the routers beside one-armed gateways their routes.
func (w *World) follow(ctx context.Context) {
	for {
		for _, s := range w.Sites() {
			w.mu.Lock()
			a := s.Agent
			w.mu.Unlock()
			if s.router == nil || a == nil {
				continue
			}
			c, err := a.Running(ctx)
			if err != nil || c == nil {
				continue
			}
			w.mu.Lock()
			s.router.routes, s.router.ownWay = c.Neighbours.Routes, c.Neighbours.OwnWay
			w.mu.Unlock()
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(followEvery):
		}
	}
}
