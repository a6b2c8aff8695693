package agent

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"github.com/pion/stun/v3"

	"wideknot/core/gateway"
)

// outsideWithin is how long a STUN server may take to answer.
const outsideWithin = time.Second

// Offers tells what the gateway sees of itself and around it.
func (a *Agent) Offers(ctx context.Context) (*gateway.Offers, error) {
	out := &gateway.Offers{At: moment(a.Now())}
	var known []gateway.Link
	used := ""
	err := a.do(ctx, func() (err error) {
		if a.running != nil {
			known, used = a.running.Config.Links, a.running.Config.PublicKey
		}
		out.Devices, out.Behind, err = a.plane.Surroundings()
		return err
	})
	if err != nil {
		return nil, err
	}
	if key, file, err := privateKey(a.Keys, used); err == nil {
		if out.PublicKey, err = publicKey(key); err != nil {
			return nil, fmt.Errorf("this gateway's key: %w", err)
		}
		if other, err := readKey(filepath.Join(a.Keys, besides(file))); err == nil { // there need not be one
			if out.NextKey, err = publicKey(other); err != nil {
				return nil, fmt.Errorf("this gateway's other key: %w", err)
			}
		}
	} else if !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	for i := range out.Devices {
		d := &out.Devices[i]
		if len(d.NextHops) == 0 || a.Outside == nil {
			continue
		}
		l := &gateway.Link{Device: d.Name}
		for j := range known {
			if known[j].Device == d.Name {
				l = &known[j]
			}
		}
		for _, server := range a.Outside() {
			if seen, err := a.seenBy(ctx, l, server); err == nil {
				d.Outside = seen
				break
			}
		}
	}
	return out, nil
}

// seenBy asks a STUN server (RFC 8489) whence it has the question, by a link.
func (a *Agent) seenBy(ctx context.Context, l *gateway.Link, server netip.AddrPort) (netip.AddrPort, error) {
	asking, cancel := context.WithTimeout(ctx, outsideWithin)
	defer cancel()
	conn, err := a.plane.Dial(asking, l, server)
	if err != nil {
		return netip.AddrPort{}, err
	}
	defer conn.Close()
	question, err := stun.Build(stun.TransactionID, stun.BindingRequest)
	if err != nil {
		return netip.AddrPort{}, err
	}
	if err := conn.SetDeadline(time.Now().Add(outsideWithin)); err != nil {
		return netip.AddrPort{}, err
	}
	if _, err := conn.Write(question.Raw); err != nil {
		return netip.AddrPort{}, err
	}
	room := make([]byte, 1500)
	for {
		n, err := conn.Read(room)
		if err != nil {
			return netip.AddrPort{}, err
		}
		answer := &stun.Message{Raw: append([]byte(nil), room[:n]...)}
		if answer.Decode() != nil || answer.TransactionID != question.TransactionID {
			continue
		}
		var seen stun.XORMappedAddress
		if err := seen.GetFrom(answer); err != nil {
			return netip.AddrPort{}, err
		}
		at, ok := netip.AddrFromSlice(seen.IP)
		if !ok || seen.Port < 0 || seen.Port > 65535 {
			return netip.AddrPort{}, fmt.Errorf("%v answers without an address", server)
		}
		return netip.AddrPortFrom(at.Unmap(), uint16(seen.Port)), nil
	}
}

// Share keeps the keys that this gateway shares with far ends, by interface.
func (a *Agent) Share(ctx context.Context, keys map[string][32]byte) error {
	return a.do(ctx, func() error {
		for name, key := range keys {
			if filepath.Base(name) != name {
				return fmt.Errorf("%q is no interface", name)
			}
			if err := writeWhole(filepath.Join(a.Keys, name+".psk"), []byte(base64.StdEncoding.EncodeToString(key[:])+"\n")); err != nil {
				return err
			}
		}
		return nil
	})
}
