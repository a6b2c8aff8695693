package identity

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"wideknot/internal/server/store"
)

// TokenPrefix starts every API token, so that it is known when it turns up
// where it should not be.
const TokenPrefix = "wk_"

// ByToken finds whose API token it is.
func (o *Office) ByToken(ctx context.Context, secret string) (Actor, error) {
	var who Actor
	err := o.store.InTransaction(ctx, func(tx *store.Tx) error {
		t, err := tx.TokenOf(hashOf(secret))
		if errors.Is(err, store.ErrNotFound) {
			return ErrNoAccess
		} else if err != nil {
			return err
		}
		account, err := tx.Account(t.AccountID, false)
		if err != nil {
			return err
		}
		now := o.now()
		if now.After(t.ExpiresAt) || account.ClosedAt != nil {
			return ErrNoAccess
		}
		who = as(ctx, account)
		who.Administrator = false // a token works in estates only
		who.Token, who.TokenRole = t.ID, Role(t.Role)
		who.Origin += " by token " + t.Name
		if t.EstateID != nil {
			who.TokenEstate = *t.EstateID
		}
		if t.UsedAt == nil || now.Sub(*t.UsedAt) > seenEvery {
			return tx.TokenUsed(t.ID, now)
		}
		return nil
	})
	return who, err
}

// Tokens lists the tokens of who asks.
func (o *Office) Tokens(ctx context.Context) ([]store.Token, error) {
	var out []store.Token
	err := o.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		out, err = tx.Tokens(ActorOf(ctx).Account)
		return err
	})
	return out, err
}

// AddToken makes a token for who asks, good for a role at most, in one estate
// or (with an empty key) in all, until it expires. Its secret is told once.
func (o *Office) AddToken(ctx context.Context, name string, role Role, estate string, expires time.Time) (store.Token, string, error) {
	who, now := ActorOf(ctx), o.now()
	name = strings.TrimSpace(name)
	switch {
	case name == "" || len(name) > 100:
		return store.Token{}, "", &Refused{Field: "name", Text: "the token needs a name of at most 100 bytes, that tells what it is for"}
	case !role.Valid():
		return store.Token{}, "", &Refused{Field: "role", Text: fmt.Sprintf("%q is no role", role)}
	case !expires.After(now) || expires.After(now.Add(longestLife)):
		return store.Token{}, "", &Refused{Field: "expires", Text: "a token expires after today and within a year"}
	}
	secret := TokenPrefix + newSecret() + newSecret()
	row := store.Token{AccountID: who.Account, Name: name, Hash: hashOf(secret), Role: string(role), CreatedAt: now, ExpiresAt: expires.UTC()}
	err := o.store.InTransaction(ctx, func(tx *store.Tx) error {
		row.ID = 0
		if estate != "" {
			e, err := tx.Estate(estate, false)
			if err != nil {
				return err
			}
			if _, err := tx.Member(e.ID, who.Account); err != nil {
				return err
			}
			row.EstateID = &e.ID
		}
		if err := tx.AddToken(&row); err != nil {
			return err
		}
		return Record(ctx, tx, now, Act{Action: "token.add", Object: name, After: map[string]any{"role": role, "estate": estate, "expires": row.ExpiresAt}})
	})
	return row, secret, err
}

// DeleteToken ends a token of who asks.
func (o *Office) DeleteToken(ctx context.Context, id uint64) error {
	return o.store.InTransaction(ctx, func(tx *store.Tx) error {
		was, err := tx.DeleteToken(ActorOf(ctx).Account, id)
		if err != nil {
			return err
		}
		if !was {
			return fmt.Errorf("token %d: %w", id, store.ErrNotFound)
		}
		return Record(ctx, tx, o.now(), Act{Action: "token.delete", Object: fmt.Sprint(id)})
	})
}
