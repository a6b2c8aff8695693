package kernel

import (
	"errors"
	"fmt"
	"time"

	"golang.org/x/sys/unix"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/core/render/linux"
)

// Check says what keeps a configuration from being applied.
func (p *Plane) Check(c *gateway.Config) error {
	if c.Carries(estate.IPsec) {
		return errors.New("it has tunnels of IPsec, which the agent does not keep: use the site's linux bundle and its apply")
	}
	p.devices.begin()
	have, err := links()
	if err != nil {
		return err
	}
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		if l, there := have[t.Interface]; there && !l.ours {
			return fmt.Errorf("there is an interface %s that is not ours: take it away or rename it", t.Interface)
		}
		if _, err := publicKeys(t.WireGuard); err != nil {
			return fmt.Errorf("%s: %w", t.Interface, err)
		}
		if t.WireGuard.Port == 0 {
			return fmt.Errorf("%s has no port: its range has run out, give the site more", t.Interface)
		}
	}
	if err := p.ports(c, have); err != nil {
		return err
	}
	text, err := linux.Filter(c, nil)
	if err != nil {
		return err
	}
	if _, err := nft(text, "-c", "-f", "-"); err != nil {
		return fmt.Errorf("the filter is not taken: %w", err)
	}
	return nil
}

// ports looks for UDP ports that others hold.
func (p *Plane) ports(c *gateway.Config, have map[string]link) error {
	ours := map[int]bool{}
	for name, l := range have {
		if !l.ours {
			continue
		}
		if d, err := p.client.Device(name); err == nil {
			ours[d.ListenPort] = true
		}
	}
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		if ours[t.WireGuard.Port] {
			continue
		}
		if !soonBindable(t.WireGuard.Port) {
			return fmt.Errorf("port %d, which %s is to have, is taken by another program: stop that, or keep the port from the design with used_ports", t.WireGuard.Port, t.Interface)
		}
	}
	return nil
}

// soonBindable tries a UDP port for half a second: a question to a name server has one for as
// long as it waits.
func soonBindable(port int) bool {
	for range 5 {
		if bindable(port) == nil {
			return true
		}
		time.Sleep(100 * time.Millisecond)
	}
	return false
}

// bindable tries a UDP port.
func bindable(port int) error {
	fd, err := unix.Socket(unix.AF_INET6, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		if fd, err = unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0); err != nil {
			return err
		}
		defer unix.Close(fd)
		return unix.Bind(fd, &unix.SockaddrInet4{Port: port})
	}
	defer unix.Close(fd)
	return unix.Bind(fd, &unix.SockaddrInet6{Port: port})
}
