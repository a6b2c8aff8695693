package identity

import (
	"bytes"
	"context"
	"errors"
	"time"

	"wideknot/internal/server/store"
)

// SignIn opens a session for who knows the password, and returns its secret.
func (o *Office) SignIn(ctx context.Context, email, password, agent string) (secret string, err error) {
	who := ActorOf(ctx)
	email = normalEmail(email)
	var account store.Account
	var bs []brake
	err = o.store.InTransaction(ctx, func(tx *store.Tx) error {
		account, err = tx.AccountOfEmail(email)
		if errors.Is(err, store.ErrNotFound) {
			account, err = store.Account{}, nil
		} else if err != nil {
			return err
		}
		bs = brakes(account.ID, email, who.Origin)
		return o.try(tx, bs)
	})
	if err != nil {
		return "", err
	}
	fits := passwordFits(account.Password, password) && account.ClosedAt == nil // outside any transaction: it takes long
	err = o.store.InTransaction(ctx, func(tx *store.Tx) error {
		if !fits {
			return Record(ctx, tx, o.now(), Act{Action: "session.refused", Object: shorten(email, 200)})
		}
		now, err := tx.Account(account.ID, true)
		if err != nil {
			return err
		}
		if now.Password != account.Password || now.ClosedAt != nil {
			return ErrSignIn // changed while the password was looked at
		}
		if err := o.succeeded(tx, bs); err != nil {
			return err
		}
		secret, err = o.open(ctx, tx, account, agent)
		return err
	})
	if err == nil && !fits {
		return "", ErrSignIn
	}
	return secret, err
}

// Open opens a session for an account that has just set its password.
func (o *Office) Open(ctx context.Context, account store.Account, agent string) (secret string, err error) {
	err = o.store.InTransaction(ctx, func(tx *store.Tx) error {
		secret, err = o.open(ctx, tx, account, agent)
		return err
	})
	return secret, err
}

func (o *Office) open(ctx context.Context, tx *store.Tx, account store.Account, agent string) (string, error) {
	secret, now := newSecret(), o.now()
	who := as(ctx, account)
	s := &store.Session{
		AccountID: account.ID, Hash: hashOf(secret), RotatedAt: now, CreatedAt: now, SeenAt: now, ExpiresAt: now.Add(sessionFor),
		Address: shorten(who.Origin, 45), Agent: shorten(agent, 255),
	}
	if err := tx.AddSession(s); err != nil {
		return "", err
	}
	return secret, Record(WithActor(ctx, who), tx, now, Act{Action: "session.open", Object: account.Email})
}

// BySession finds who holds a session's secret. A secret that has grown old is
// replaced: fresh is then what the browser has to hold from now on. One that
// was replaced a while ago is a sign of a copy, and ends the session for both.
func (o *Office) BySession(ctx context.Context, secret string) (who Actor, fresh string, err error) {
	hash := hashOf(secret)
	stolen := false
	err = o.store.InTransaction(ctx, func(tx *store.Tx) error {
		fresh, stolen = "", false
		s, err := tx.Session(hash)
		if errors.Is(err, store.ErrNotFound) {
			return ErrNoAccess
		} else if err != nil {
			return err
		}
		now := o.now()
		if now.After(s.ExpiresAt) || now.Sub(s.SeenAt) > idleFor {
			return ErrNoAccess
		}
		account, err := tx.Account(s.AccountID, false)
		if err != nil {
			return err
		}
		if account.ClosedAt != nil {
			return ErrNoAccess
		}
		who = as(ctx, account)
		who.Session = s.ID
		switch {
		case !bytes.Equal(s.Hash, hash):
			if now.Sub(s.RotatedAt) > graceFor {
				stolen = true
				if err := tx.DeleteSessions(account.ID, s.ID); err != nil {
					return err
				}
				return Record(WithActor(ctx, who), tx, now, Act{Action: "session.copied", Object: account.Email})
			}
			return nil
		case now.Sub(s.RotatedAt) > rotateEvery:
			fresh = newSecret()
			s.Former, s.Hash, s.RotatedAt, s.SeenAt = hash, hashOf(fresh), now, now
			won, err := tx.SaveSession(&s, hash)
			if !won {
				fresh = "" // another request has just replaced it
			}
			return err
		case now.Sub(s.SeenAt) > seenEvery:
			s.SeenAt = now
			_, err := tx.SaveSession(&s, hash)
			return err
		}
		return nil
	})
	if err == nil && stolen {
		err = ErrNoAccess
	}
	return who, fresh, err
}

// Still reports whether an actor's session or token, and its account, are
// still good, and its role in an estate. Streams ask it from time to time.
func (o *Office) Still(ctx context.Context, who Actor, estate uint64) (role Role, err error) {
	err = o.store.Snapshot(ctx, func(tx *store.Tx) error {
		account, err := tx.Account(who.Account, false)
		if err != nil || account.ClosedAt != nil {
			return errors.Join(err, ErrNoAccess)
		}
		if who.Session != 0 {
			sessions, err := tx.Sessions(who.Account)
			if err != nil {
				return err
			}
			for _, s := range sessions {
				if s.ID == who.Session && o.now().Before(s.ExpiresAt) {
					role, err = roleIn(tx, who, estate)
					return err
				}
			}
			return ErrNoAccess
		}
		tokens, err := tx.Tokens(who.Account)
		if err != nil {
			return err
		}
		for _, t := range tokens {
			if t.ID == who.Token && o.now().Before(t.ExpiresAt) {
				role, err = roleIn(tx, who, estate)
				return err
			}
		}
		return ErrNoAccess
	})
	return role, err
}

// Sessions lists the sessions of who asks.
func (o *Office) Sessions(ctx context.Context) ([]store.Session, error) {
	var out []store.Session
	err := o.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		out, err = tx.Sessions(ActorOf(ctx).Account)
		return err
	})
	return out, err
}

// SignOut ends a session of who asks; with id 0 all of them, everywhere.
func (o *Office) SignOut(ctx context.Context, id uint64) error {
	who := ActorOf(ctx)
	return o.store.InTransaction(ctx, func(tx *store.Tx) error {
		if err := tx.DeleteSessions(who.Account, id); err != nil {
			return err
		}
		action := "session.close"
		if id == 0 {
			action = "session.close-all"
		}
		return Record(ctx, tx, o.now(), Act{Action: action, Object: who.Name})
	})
}

// SetClock replaces the clock, for tests.
func (o *Office) SetClock(now func() time.Time) { o.now = now }
