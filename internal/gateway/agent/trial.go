package agent

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/line"
)

// Those of a second trial while one goes on, and of a token that is not the trial's.
var (
	ErrBusy  = line.ErrInUse
	ErrToken = line.ErrToken
)

// Try applies a configuration for a time; it goes back unless Confirm follows. With 0
// seconds it is confirmed at once. The same token again is answered alike. Where it
// cannot be applied, all is as before, and the error says why.
func (a *Agent) Try(ctx context.Context, c *gateway.Config, release int, token string, seconds int) error {
	if err := c.Check(); err != nil {
		return err
	}
	if token == "" {
		room := make([]byte, 6)
		_, _ = rand.Read(room)
		token = hex.EncodeToString(room)
	}
	return a.do(ctx, func() error { return a.try(&Trial{Version{release, c.Digest(), c}, token, seconds}) })
}

func (a *Agent) try(t *Trial) error {
	if a.trial != nil {
		if a.trial.Token == t.Token && a.trial.Digest == t.Digest {
			return nil
		}
		return ErrBusy
	}
	refuse := func(err error) error {
		a.event(Refused, t.Token, "%s was refused: %v", t.Version.name(), err)
		return err
	}
	if err := a.plane.Check(t.Config); err != nil {
		return refuse(err)
	}
	if _, err := ReadSecrets(a.Keys, t.Config); err != nil {
		return refuse(err)
	}
	if err := a.store.write(trial, t); err != nil {
		return refuse(err)
	}
	var was *gateway.Config
	if a.running != nil {
		was = a.running.Config
	}
	before := a.running
	if err := a.apply(was, &t.Version); err != nil {
		a.running = before
		return errors.Join(refuse(err), a.back(t, "it could not be applied: "+err.Error()))
	}
	a.wanted = nil
	a.trial, a.ends = t, bootClock()+time.Duration(t.Seconds)*time.Second
	if t.Seconds == 0 {
		return a.confirm(t.Token)
	}
	a.event(Applied, t.Token, "%s is tried for %d s", t.Version.name(), t.Seconds)
	return nil
}

// Confirm keeps what is being tried. An empty token confirms any; one that was
// confirmed is answered alike.
func (a *Agent) Confirm(ctx context.Context, token string) error {
	return a.do(ctx, func() error { return a.confirm(token) })
}

func (a *Agent) confirm(token string) error {
	if token != "" && a.last.is(token, Confirmed) && (a.trial == nil || a.trial.Token != token) {
		return nil // the answer was lost
	}
	if a.trial == nil || token != "" && token != a.trial.Token {
		return ErrToken
	}
	if err := a.store.promote(a.trial); err != nil {
		return err
	}
	t := a.trial
	a.trial = nil
	a.finish(Outcome{Token: t.Token, How: Confirmed})
	a.event(Confirmed, t.Token, "%s is kept", t.Version.name())
	return nil
}

// Back ends a trial or, where there is none, goes back to the former configuration. An
// empty token means any trial.
func (a *Agent) Back(ctx context.Context, token string) error {
	return a.do(ctx, func() error {
		switch {
		case a.trial != nil && (token == "" || token == a.trial.Token):
			return a.back(a.trial, "it was asked for")
		case token != "" && a.last.is(token, WentBack):
			return nil // the answer was lost
		case a.trial != nil || token != "":
			return ErrToken
		}
		t, err := a.store.read(former)
		if err != nil {
			return err
		}
		if t == nil {
			return errors.New("there is nothing to go back to")
		}
		t.Token, t.Seconds = "", 0
		return a.try(t)
	})
}

// expire ends a trial whose time is over, by the clock that goes on while the machine
// sleeps.
func (a *Agent) expire() {
	if a.trial != nil && bootClock() >= a.ends {
		_ = a.back(a.trial, "nobody confirmed it in time") // what failed is in the journal
	}
}

// back applies what was confirmed before a trial.
func (a *Agent) back(t *Trial, why string) error {
	a.trial = nil
	kept, err := a.store.read(confirmed)
	if err != nil {
		a.event(Trouble, "state", "%v: the gateway keeps what it has", err)
		return err
	}
	if kept != nil {
		err = a.apply(t.Config, &kept.Version)
	} else {
		err = a.plane.Remove()
		a.running, a.choice = nil, Choice{}
		a.prober.watch(&gateway.Config{})
	}
	if err != nil {
		if kept != nil {
			a.wanted = &kept.Version
		}
		a.event(Trouble, "apply", "going back failed; it is tried again: %v", err)
		return err
	}
	if err := a.store.drop(trial); err != nil {
		return err
	}
	a.finish(Outcome{t.Token, WentBack, why})
	a.event(WentBack, t.Token, "%s is no longer tried, as %s", t.Version.name(), why)
	return nil
}

// finish keeps how a trial ended.
func (a *Agent) finish(o Outcome) {
	a.last = o
	if err := a.store.note("outcome", a.last); err != nil {
		a.event(Trouble, "state", "how the trial ended cannot be kept: %v", err)
	}
}
