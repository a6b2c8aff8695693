package kernel

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/vishvananda/netlink"
	"golang.zx2c4.com/wireguard/conn"
	"golang.zx2c4.com/wireguard/device"
	"golang.zx2c4.com/wireguard/ipc"
	"golang.zx2c4.com/wireguard/tun"

	"wideknot/core/tunnel"
	"wideknot/internal/gateway/socket"
)

// Devices serves WireGuard interfaces where the kernel has no module for them. It is
// a process of its own, so that tunnels outlive the agent: to restart or upgrade that
// cuts nothing. It is told by HTTP on a socket which interface to make.
type Devices struct {
	Log *slog.Logger

	mu    sync.Mutex
	have  map[string]*served
	turns uint64 // how often an agent began to apply
}

// turnHeader says in which turn an interface is asked for. What an agent asked for that
// was killed, and comes late, is of an earlier turn.
const turnHeader = "Wideknot-Turn"

type served struct {
	wire   *device.Device
	listen net.Listener
}

// defaultMTU is what an interface has until it is told another.
const defaultMTU = 1420

// Serve answers on a socket until the context ends; then the interfaces go.
func (d *Devices) Serve(ctx context.Context, path string) error {
	defer d.close()
	mux := http.NewServeMux()
	mux.HandleFunc("PUT /{name}", func(w http.ResponseWriter, r *http.Request) {
		turn, _ := strconv.ParseUint(r.Header.Get(turnHeader), 10, 64) // the first where none is said
		if err := d.add(r.PathValue("name"), turn); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
	})
	mux.HandleFunc("GET /", func(w http.ResponseWriter, _ *http.Request) { // what is being made is whole then
		d.mu.Lock()
		defer d.mu.Unlock()
		d.turns++
		_, _ = fmt.Fprint(w, d.turns)
	})
	return socket.Serve(ctx, path, mux)
}

func (d *Devices) close() {
	d.mu.Lock()
	list := d.have
	d.have = nil
	d.mu.Unlock()
	for _, s := range list {
		_ = s.listen.Close()
		s.wire.Close()
	}
}

// add makes an interface and the socket by which it is configured. One that is there
// stays.
func (d *Devices) add(name string, turn uint64) error {
	if name == "" || len(name) > tunnel.MaxInterface || strings.ContainsAny(name, "/ \t\n") || name[0] == '.' {
		return fmt.Errorf("%q is no interface's name", name)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if turn < d.turns {
		return fmt.Errorf("%s was asked for before the gateway was applied anew", name)
	}
	d.turns = turn // it may be served by a process that was started since
	if d.have[name] != nil {
		return nil
	}
	port, err := tun.CreateTUN(name, defaultMTU)
	if err != nil {
		return fmt.Errorf("making %s: %w", name, err)
	}
	s := &served{wire: device.NewDevice(port, conn.NewDefaultBind(), &device.Logger{
		Verbosef: device.DiscardLogf,
		Errorf:   func(format string, values ...any) { d.Log.Warn(fmt.Sprintf(format, values...), "interface", name) },
	})}
	made, err := netlink.LinkByName(name)
	if err == nil {
		err = netlink.LinkSetAlias(made, alias+name)
	}
	var file *os.File
	if err == nil {
		file, err = ipc.UAPIOpen(name)
	}
	if err == nil {
		s.listen, err = ipc.UAPIListen(name, file)
	}
	if err != nil {
		s.wire.Close()
		return fmt.Errorf("making %s: %w", name, err)
	}
	if d.have == nil {
		d.have = map[string]*served{}
	}
	d.have[name] = s
	go func() {
		for {
			c, err := s.listen.Accept()
			if err != nil {
				return
			}
			go s.wire.IpcHandle(c)
		}
	}()
	go func() { // it ends with its interface
		<-s.wire.Wait()
		_ = s.listen.Close()
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.have[name] == s {
			delete(d.have, name)
		}
	}()
	return nil
}

// A deviceClient asks the process that serves devices, and starts it where it does not run.
type deviceClient struct {
	socket string
	turn   uint64
}

// ask sends a request; the error is of one that was not answered.
func (c *deviceClient) ask(method, path string) (*http.Response, error) {
	client := socket.Client(c.socket)
	client.Timeout = 10 * time.Second
	request, err := http.NewRequest(method, "http://devices/"+path, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set(turnHeader, strconv.FormatUint(c.turn, 10))
	return client.Do(request)
}

// begin begins a turn: what the process was asked for by an agent that was killed is whole
// when it returns, and what it is asked for by it from then on is refused.
func (c *deviceClient) begin() {
	answer, err := c.ask(http.MethodGet, "")
	if err != nil {
		return // it does not run yet
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 100))
	if turn, bad := strconv.ParseUint(string(text), 10, 64); err == nil && bad == nil {
		c.turn = turn
	}
}

func (c *deviceClient) add(name string) error {
	for try := 0; ; try++ {
		answer, err := c.ask(http.MethodPut, url.PathEscape(name))
		if err == nil {
			text, _ := io.ReadAll(io.LimitReader(answer.Body, 1000))
			_ = answer.Body.Close()
			if answer.StatusCode != http.StatusOK {
				return errors.New(strings.TrimSpace(string(text)))
			}
			return nil
		}
		switch {
		case try == 0:
			if err := c.start(); err != nil {
				return err
			}
		case try > 200:
			return fmt.Errorf("this kernel has no WireGuard, and the process that serves its interfaces does not answer: %w", err)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// start starts the process in a session of its own, unless the service manager has a
// unit for it.
func (c *deviceClient) start() error {
	if os.Getenv("NOTIFY_SOCKET") != "" {
		return nil // wideknot-devices.service; it is on its way
	}
	own, err := os.Executable()
	if err != nil {
		return err
	}
	command := exec.Command(own, "gateway", "devices", "--socket", c.socket)
	command.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := command.Start(); err != nil {
		return fmt.Errorf("starting the process that serves interfaces: %w", err)
	}
	return command.Process.Release()
}
