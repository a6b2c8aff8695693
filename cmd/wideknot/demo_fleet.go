package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"wideknot/core/estate"
	"wideknot/examples"
	"wideknot/internal/fleet"
	"wideknot/internal/server/api"
	"wideknot/internal/server/desk"
)

// demo is what the demo is started with besides the server.
type demo struct {
	settings
	standIns       bool
	standInsListen string
}

func (d *demo) fleetFolder() string { return filepath.Join(d.folder, "fleet") }

// document is the demo estate. With stand-ins it names the public key that each of them
// made.
func (d *demo) document() (string, error) {
	if !d.standIns {
		return examples.Brindlewater, nil
	}
	e, _, err := estate.Read(strings.NewReader(examples.Brindlewater))
	if err != nil {
		return "", err
	}
	keys, err := fleet.Keys(d.fleetFolder(), siteKeys(e))
	if err != nil {
		return "", fmt.Errorf("the keys of stand-ins: %w", err)
	}
	for i := range e.Sites {
		e.Sites[i].Gateway.PublicKey = keys[e.Sites[i].Key]
	}
	text, err := estate.WriteYAML(e)
	return string(text), err
}

// ports chooses where stand-ins call and get certificates: each start the same, as they
// have joined there.
func (d *demo) ports() error {
	path := filepath.Join(d.fleetFolder(), "ports.json")
	var ports []string
	text, err := os.ReadFile(path)
	if err == nil {
		if err := json.Unmarshal(text, &ports); err != nil || len(ports) != 2 {
			return fmt.Errorf("%s is damaged; make demo-reset begins anew", path)
		}
		d.lineListen, d.enrolListen = ports[0], ports[1]
		return nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return err
	}
	for range 2 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		defer l.Close()
		ports = append(ports, l.Addr().String())
	}
	if text, err = json.Marshal(ports); err != nil {
		return err
	}
	if err := os.MkdirAll(d.fleetFolder(), 0o700); err != nil {
		return err
	}
	d.lineListen, d.enrolListen = ports[0], ports[1]
	return os.WriteFile(path, text, 0o600)
}

func siteKeys(e *estate.Estate) (out []string) {
	for i := range e.Sites {
		out = append(out, e.Sites[i].Key)
	}
	return out
}

// stand starts the stand-ins in a process of their own, which ends with this one.
func (d *demo) stand(ctx context.Context, s *api.Server) error {
	if !d.standIns {
		return nil
	}
	ctx, err := s.Office.AsDemo(ctx, demoOwner)
	if err != nil {
		return err
	}
	list, err := s.Office.Estates(ctx)
	if err != nil || len(list) == 0 {
		return err
	}
	view, err := s.Desk.View(ctx, desk.Place{Estate: list[0].Key, Draft: desk.Released})
	if err != nil {
		return err
	}
	sites := siteKeys(view.Estate)
	keys, err := fleet.Keys(d.fleetFolder(), sites)
	if err != nil {
		return err
	}
	joined := fleet.Joined(d.fleetFolder(), sites)
	for i := range view.Estate.Sites { // those that joined may have new keys
		if site := &view.Estate.Sites[i]; !joined[site.Key] && site.Gateway.PublicKey != keys[site.Key] {
			fmt.Printf("No stand-ins: this demo was made before there were any; make demo-reset begins anew\n")
			return nil
		}
	}
	row, _, err := s.Office.RoleIn(ctx, list[0].Key)
	if err != nil {
		return err
	}
	codes := map[string]string{}
	for _, site := range sites {
		if joined[site] {
			continue
		}
		if codes[site], _, err = s.Enrol.Code(ctx, row, site, time.Hour); err != nil {
			return err
		}
	}
	document, err := estate.WriteYAML(view.Estate)
	if err != nil {
		return err
	}
	text, err := json.Marshal(codes)
	if err != nil {
		return err
	}
	for name, text := range map[string][]byte{"document.yaml": document, "codes.json": text, "faults.yaml": []byte(examples.TwoFaults)} {
		if err := os.WriteFile(filepath.Join(d.fleetFolder(), name), text, 0o600); err != nil {
			return err
		}
	}
	return d.startFleet(ctx, len(sites))
}

func (d *demo) startFleet(ctx context.Context, sites int) error {
	own, err := os.Executable()
	if err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(d.fleetFolder(), "log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	at := func(name string) string { return filepath.Join(d.fleetFolder(), name) }
	command := exec.Command(own, "fleet", at("document.yaml"), "--state", d.fleetFolder(), "--codes", at("codes.json"), "--script", at("faults.yaml"), "--listen", d.standInsListen)
	command.Stdout, command.Stderr = log, log
	command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	if err := command.Start(); err != nil {
		return errors.Join(fmt.Errorf("starting the stand-ins: %w", err), log.Close())
	}
	fmt.Printf("%d stand-ins of gateways join and call; their circuits are at http://%s (log: %s)\n", sites, d.standInsListen, at("log"))
	go func() {
		err := command.Wait()
		_ = log.Close()
		if ctx.Err() == nil {
			slog.Error("the stand-ins ended", "log", at("log"), "error", err)
		}
	}()
	context.AfterFunc(ctx, func() { _ = command.Process.Signal(syscall.SIGTERM) })
	return nil
}
