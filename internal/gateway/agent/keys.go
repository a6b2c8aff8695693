package agent

import (
	"context"
	"crypto/ecdh"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/line"
)

// A gateway has room for two private keys: that which it uses, and one beside it while it
// gets another. Which of the two it uses is what its configuration says.
var keyFiles = [...]string{"private.key", "next.key"}

// besides is the other of the two files.
func besides(file string) string {
	if file == keyFiles[0] {
		return keyFiles[1]
	}
	return keyFiles[0]
}

// publicKey is the public half of a key, in base64.
func publicKey(private [32]byte) (string, error) {
	key, err := ecdh.X25519().NewPrivateKey(private[:])
	if err != nil {
		return "", err
	}
	return base64.StdEncoding.EncodeToString(key.PublicKey().Bytes()), nil
}

// privateKey finds the private key of a public one; of none it is the first that the gateway
// has.
func privateKey(folder, public string) (private [32]byte, file string, err error) {
	for _, name := range keyFiles {
		private, err := readKey(filepath.Join(folder, name))
		if err != nil && (public == "" || !errors.Is(err, os.ErrNotExist)) {
			return private, name, fmt.Errorf("the private key: %w; wideknot gateway key makes one and says its public half", err)
		}
		if err != nil {
			continue
		}
		if is, err := publicKey(private); err != nil || public == "" || is == public {
			return private, name, err
		}
	}
	return private, "", fmt.Errorf("this gateway has no private key that belongs to the public key %s, by which it is to be known", public)
}

// NewKey makes a private key beside the one that is used, in place of an unused one, and
// returns its public half. It is used once a configuration says so.
func (a *Agent) NewKey(ctx context.Context) (public string, err error) {
	err = a.do(ctx, func() error {
		if a.trial != nil {
			return line.ErrInUse
		}
		used := ""
		if a.running != nil {
			used = a.running.Config.PublicKey
		}
		_, file, err := privateKey(a.Keys, used)
		if err != nil {
			return err
		}
		key, err := ecdh.X25519().GenerateKey(rand.Reader)
		if err != nil {
			return err
		}
		public = base64.StdEncoding.EncodeToString(key.PublicKey().Bytes())
		return writeWhole(filepath.Join(a.Keys, besides(file)), []byte(base64.StdEncoding.EncodeToString(key.Bytes())+"\n"))
	})
	return public, err
}

// Far ends that may come by two keys are looked at so often, and less often where there are
// many of them.
const (
	leadEvery = 40 // ms
	leadEach  = 1  // ms more for each tunnel
)

// leads lets what a far end may send from follow the key by which it came last.
func (a *Agent) leads(ctx context.Context) {
	for {
		wait := 500 * time.Millisecond
		_ = a.do(ctx, func() error { // an agent that ends has none
			if a.running == nil {
				return nil
			}
			list := doubled(a.running.Config)
			if len(list) > 0 {
				wait = time.Duration(leadEvery+leadEach*len(list)) * time.Millisecond
			}
			for _, t := range list {
				moved, err := a.plane.Lead(a.running.Config, t)
				switch {
				case err != nil:
					a.Log.Warn("by which key a far end comes", "interface", t.Interface, "reason", err)
				case moved:
					a.event(KeyMoved, t.Interface, "%s/%s comes by its other key now", t.Peer, t.PeerLink)
				}
			}
			return nil
		})
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}

// knockLate is how long the one of two ends knocks after the other where both have new keys:
// two handshakes that cross on their way are both lost.
const knockLate = 400 * time.Millisecond

// knock calls far ends that have not come since some time, by the key that this gateway has now: at
// once where its name sorts first, else a little later, where the far end has not come meanwhile. It
// may be about to call itself, and calls that cross would cost both 5 s.
func (a *Agent) knock(c *gateway.Config, since time.Time, seen map[string]Device) {
	some := func(late bool, seen map[string]Device) error {
		for i := range c.Tunnels {
			if t := &c.Tunnels[i]; t.WireGuard != nil && (t.Peer < c.Site) == late && !seen[t.Interface].Handshake.After(since) {
				if err := a.plane.Knock(t); err != nil {
					a.Log.Warn("calling a far end by another key", "interface", t.Interface, "reason", err)
				}
			}
		}
		return nil
	}
	_ = some(false, seen)
	time.AfterFunc(knockLate, func() {
		_ = a.do(context.Background(), func() error { // an agent that ends has none
			if a.running == nil || a.running.Config != c {
				return nil
			}
			seen, err := a.plane.Read(c)
			if err != nil {
				a.Log.Warn("which far ends have come", "reason", err)
			}
			return some(true, seen.Tunnels)
		})
	})
}

// doubled lists tunnels whose far end may come by two keys.
func doubled(c *gateway.Config) (out []*gateway.Tunnel) {
	for i := range c.Tunnels {
		if t := &c.Tunnels[i]; t.WireGuard != nil && t.WireGuard.Also != "" {
			out = append(out, t)
		}
	}
	return out
}
