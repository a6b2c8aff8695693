package identity

import (
	"crypto/sha256"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"wideknot/internal/store"
)

// Signing in gets slower with each failure: from one place for one account
// after 5 failures, from one place for any account after 30, and for one
// account from all places together after 100. The pause doubles with each
// further failure up to its limit; so guessing is hopeless, and whoever knows
// the password gets in, at the latest after the limit. Failures are forgotten
// after an hour without another, and by signing in.
const forgetAfter = time.Hour

type brake struct {
	key   [32]byte
	free  int
	limit time.Duration
	own   bool // forgotten when the sign-in succeeds
}

func brakes(email, address string) []brake {
	email, network := strings.ToLower(email), networkOf(address)
	key := func(parts ...string) [32]byte { return sha256.Sum256([]byte(strings.Join(parts, "\x00"))) }
	return []brake{
		{key("both", email, network), 5, 15 * time.Minute, true},
		{key("place", network), 30, 15 * time.Minute, false},
		{key("account", email), 100, 30 * time.Second, true},
	}
}

// networkOf takes IPv6 addresses by their /64, for one machine has all of it.
func networkOf(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if ip = ip.Unmap(); ip.Is6() {
		prefix, _ := ip.Prefix(64)
		return prefix.String()
	}
	return ip.String()
}

// TooFast is the error of a sign-in that comes too early.
type TooFast struct{ Wait time.Duration }

func (t *TooFast) Error() string {
	return fmt.Sprintf("too many failed attempts; try again in %s", t.Wait)
}

// pause is how long after its last failure the next attempt may come.
func (b brake) pause(failures int) time.Duration {
	over := failures - b.free
	if over < 0 {
		return 0
	}
	return min(time.Second<<min(over, 20), b.limit)
}

func (o *Office) held(tx *store.Tx, bs []brake) error {
	var wait time.Duration
	for _, b := range bs {
		f, err := tx.FailuresUnder(b.key[:])
		if err != nil {
			return err
		}
		if now := o.now(); now.Sub(f.At) < forgetAfter {
			wait = max(wait, f.At.Add(b.pause(f.Count)).Sub(now))
		}
	}
	if wait > 0 {
		return &TooFast{wait.Round(time.Second) + time.Second}
	}
	return nil
}

func (o *Office) failed(tx *store.Tx, bs []brake) error {
	now := o.now()
	for _, b := range bs {
		if err := tx.CountFailure(b.key[:], now, now.Add(-forgetAfter)); err != nil {
			return err
		}
	}
	return nil
}

func (o *Office) succeeded(tx *store.Tx, bs []brake) error {
	for _, b := range bs {
		if !b.own {
			continue
		}
		if err := tx.ForgetFailures(b.key[:]); err != nil {
			return err
		}
	}
	return nil
}
