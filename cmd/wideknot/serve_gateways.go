package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/mail"
	"net/netip"
	"os"
	"strconv"
	"sync"

	"wideknot/internal/line"
	"wideknot/internal/server/api"
	"wideknot/internal/server/drills"
	"wideknot/internal/server/enrol"
	"wideknot/internal/server/events"
	"wideknot/internal/server/rollouts"
	"wideknot/internal/server/watch"
)

// gatewayPorts are what a server listens on for gateways; nil for none.
type gatewayPorts struct {
	watcher     *events.Watcher
	drills      *drills.Runner
	teller      *events.Teller
	office      *enrol.Office
	keeper      *watch.Keeper
	runner      *rollouts.Runner
	shown       *enrol.Shown
	line, enrol net.Listener
	outside     net.PacketConn
}

// gateways opens the ports for gateways, and lets the server give join codes for them.
func (s *settings) gateways(ctx context.Context, server *api.Server) (*gatewayPorts, error) {
	if s.lineListen == "" && s.enrolListen == "" {
		return nil, nil
	}
	if s.lineListen == "" || s.enrolListen == "" {
		return nil, unusable(errors.New("--line-listen and --enrol-listen belong together"))
	}
	p := &gatewayPorts{}
	var err error
	if p.line, err = net.Listen("tcp", s.lineListen); err != nil {
		return nil, fmt.Errorf("--line-listen: %w", err)
	}
	if p.enrol, err = net.Listen("tcp", s.enrolListen); err != nil {
		return nil, errors.Join(fmt.Errorf("--enrol-listen: %w", err), p.line.Close())
	}
	if p.outside, err = net.ListenPacket("udp", p.line.Addr().String()); err != nil {
		return nil, errors.Join(fmt.Errorf("--line-listen, for STUN: %w", err), p.line.Close(), p.enrol.Close())
	}
	lists := [2][]string{}
	for i, text := range []string{s.lineAt, s.enrolAt} {
		if text == "" {
			text = []net.Listener{p.line, p.enrol}[i].Addr().String()
		}
		if lists[i], err = line.ParseServers(text); err != nil {
			return nil, unusable(fmt.Errorf("--line-at and --enrol-at: %w", err))
		}
	}
	authority, err := enrol.OpenAuthority(ctx, server.Store, server.Sealer)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, at := range lists[1] {
		host, _, _ := net.SplitHostPort(at) // it was read before
		names = append(names, host)
	}
	p.shown = authority.Shows(names)
	p.office = &enrol.Office{Store: server.Store, Authority: authority, Lines: lists[0], Enrol: lists[1]}
	host, _ := os.Hostname()
	p.keeper = &watch.Keeper{
		Store: server.Store, Desk: server.Desk, Authority: authority, Shown: p.shown, Log: slog.Default(),
		Name: fmt.Sprintf("%.30s-%s", host, rand.Text()[:8]),
	}
	p.runner = &rollouts.Runner{Office: rollouts.New(server.Store, server.Desk), Name: p.keeper.Name, Log: slog.Default()}
	server.Enrol = p.office
	if p.teller, err = s.teller(server); err != nil {
		return nil, err
	}
	server.Teller = p.teller
	p.drills = &drills.Runner{Office: drills.Office{Store: server.Store, Desk: server.Desk}, Name: p.keeper.Name, Log: slog.Default()}
	p.watcher = &events.Watcher{Store: server.Store, Desk: server.Desk, Name: p.keeper.Name, Log: slog.Default()}
	return p, nil
}

// teller is who tells people of events.
func (s *settings) teller(server *api.Server) (*events.Teller, error) {
	out := &events.Teller{Store: server.Store, Sealer: server.Sealer, Hosts: s.tell, Origin: s.publicURL, Log: slog.Default()}
	if s.mailServer == "" {
		return out, nil
	}
	host, port, err := net.SplitHostPort(s.mailServer)
	number, wrong := strconv.Atoi(port)
	if err != nil || wrong != nil {
		return nil, unusable(fmt.Errorf("--mail-server is %q, and is to be HOST:PORT", s.mailServer))
	}
	if _, err := mail.ParseAddress(s.mailFrom); err != nil {
		return nil, unusable(fmt.Errorf("--mail-from is %q, which is no address: mail has to come from one", s.mailFrom))
	}
	if at, err := netip.ParseAddr(host); s.mailPlain && (err != nil || !at.IsLoopback()) {
		return nil, unusable(errors.New("--mail-plain is for a server on a loopback address"))
	}
	out.Mail = events.MailServer{Host: host, Port: number, From: s.mailFrom, User: s.mailUser, Password: s.mailPassword, Plain: s.mailPlain}
	return out, nil
}

// serve answers gateways until end is called; ended is closed when all is done.
func (p *gatewayPorts) serve(ctx context.Context, failed chan<- error) (end func(), ended <-chan struct{}) {
	done := make(chan struct{})
	if p == nil {
		close(done)
		return func() {}, done
	}
	ctx, stop := context.WithCancel(ctx)
	var all sync.WaitGroup
	for _, do := range []func() error{
		func() error { return p.keeper.Serve(ctx, p.line) },
		func() error { return p.office.Serve(ctx, p.enrol, p.shown) },
		func() error { return line.AnswerOutside(ctx, p.outside) },
		func() error { p.runner.Run(ctx); return nil },
		func() error { p.watcher.Run(ctx); return nil },
		func() error { p.drills.Run(ctx); return nil },
		func() error { p.teller.Run(ctx); return nil },
	} {
		all.Go(func() {
			if err := do(); err != nil && ctx.Err() == nil {
				select {
				case failed <- err:
				default:
				}
			}
		})
	}
	go func() {
		all.Wait()
		close(done)
	}()
	return stop, done
}
