package identity

import (
	"crypto/sha256"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"wideknot/internal/server/store"
)

// Signing in gets slower with each failure: from one place for one account
// after 5 failures, from one place for any account after 30, and for one
// account from all places together after 100. The pause doubles with each
// further failure up to its limit; so guessing is hopeless, and whoever knows
// the password gets in, at the latest after the limit. Failures are forgotten
// after an hour without another, and by signing in. A try counts as a failure
// before it is looked at, so that many at once are no more than one after the
// other; succeeding takes that back.
const forgetAfter = time.Hour

type brake struct {
	key   [32]byte
	free  int
	limit time.Duration
	own   bool // forgotten when the sign-in succeeds
}

// brakes are those of an account, or where there is none of what was typed in
// place of one, however it is spelled.
func brakes(account uint64, email, address string) []brake {
	whom, network := "email "+normalEmail(email), networkOf(address)
	if account != 0 {
		whom = fmt.Sprint("account ", account)
	}
	key := func(parts ...string) [32]byte { return sha256.Sum256([]byte(strings.Join(parts, "\x00"))) }
	return []brake{
		{key("both", whom, network), 5, 15 * time.Minute, true},
		{key("place", network), 30, 15 * time.Minute, false},
		{key("account", whom), 100, 30 * time.Second, true},
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

// try counts a try under all brakes, or refuses it as too early.
func (o *Office) try(tx *store.Tx, bs []brake) error {
	now := o.now()
	// What a clock that was set back has in its future counts no more.
	if err := tx.FadeFailures(now.Add(-forgetAfter), now.Add(time.Minute)); err != nil {
		return err
	}
	var wait time.Duration
	rows := make([]store.Failure, len(bs))
	for i, b := range bs {
		var err error
		if rows[i], err = tx.FailuresUnder(b.key[:], now); err != nil {
			return err
		}
		wait = max(wait, rows[i].At.Add(b.pause(rows[i].Count)).Sub(now))
	}
	if wait > 0 {
		return &TooFast{wait.Round(time.Second) + time.Second}
	}
	for _, row := range rows {
		row.Count, row.At = row.Count+1, now
		if err := tx.SetFailures(row); err != nil {
			return err
		}
	}
	return nil
}

// succeeded takes back what try counted, and forgets the account's own failures.
func (o *Office) succeeded(tx *store.Tx, bs []brake) error {
	for _, b := range bs {
		row, err := tx.FailuresUnder(b.key[:], o.now())
		if err != nil {
			return err
		}
		row.Count = max(0, row.Count-1)
		if b.own {
			row.Count = 0
		}
		if err := tx.SetFailures(row); err != nil {
			return err
		}
	}
	return nil
}
