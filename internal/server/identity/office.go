package identity

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"wideknot/internal/server/store"
)

// An Office keeps the accounts: who may sign in, and who is signed in. It is
// safe for concurrent use.
type Office struct {
	store *store.Store
	now   func() time.Time
}

// NewOffice returns the office of an open store.
func NewOffice(s *store.Store) *Office {
	return &Office{store: s, now: func() time.Time { return time.Now().UTC().Truncate(time.Millisecond) }}
}

// How long things last.
const (
	idleFor     = 12 * time.Hour // a session that nobody uses
	sessionFor  = 14 * 24 * time.Hour
	rotateEvery = time.Hour
	graceFor    = time.Minute // in which requests on their way may bring the former secret
	linkFor     = 72 * time.Hour
	longestLife = 366 * 24 * time.Hour // of a token
	seenEvery   = time.Minute
)

// Begin makes the administrator's account on an empty database, and a new
// one-time link to set its password as long as no administrator can sign in.
// The link is empty when none is needed.
func (o *Office) Begin(ctx context.Context) (link string, err error) {
	err = o.store.InTransaction(ctx, func(tx *store.Tx) error {
		link = ""
		accounts, err := tx.Accounts()
		if err != nil {
			return err
		}
		var first *store.Account
		for i := range accounts {
			if a := &accounts[i]; a.Administrator && a.ClosedAt == nil {
				if a.Password != "" || a.Subject != nil {
					return nil
				}
				first = a
			}
		}
		if first == nil {
			first = &store.Account{Email: "administrator", Name: "Administrator", Administrator: true, CreatedAt: o.now()}
			if err := tx.AddAccount(first); err != nil {
				return err
			}
			if err := o.adopt(ctx, tx, first); err != nil {
				return err
			}
		}
		link, err = o.link(tx, first.ID)
		return err
	})
	return link, err
}

// adopt makes an administrator the owner of estates that nobody owns.
func (o *Office) adopt(ctx context.Context, tx *store.Tx, a *store.Account) error {
	orphans, err := tx.EstatesWithoutOwner(string(Owner))
	if err != nil {
		return err
	}
	for _, e := range orphans {
		if err := tx.SaveMember(&store.Member{EstateID: e.ID, AccountID: a.ID, Role: string(Owner)}); err != nil {
			return err
		}
		if err := Record(ctx, tx, o.now(), Act{Action: "people.role", Estate: e.ID, Object: a.Email, After: Owner}); err != nil {
			return err
		}
	}
	return nil
}

// Ready reports whether an administrator can sign in.
func (o *Office) Ready(ctx context.Context) (bool, error) {
	ready := false
	err := o.store.Snapshot(ctx, func(tx *store.Tx) error {
		accounts, err := tx.Accounts()
		for _, a := range accounts {
			ready = ready || a.Administrator && a.ClosedAt == nil && (a.Password != "" || a.Subject != nil)
		}
		return err
	})
	return ready, err
}

// link makes a new one-time link for an account; older ones end.
func (o *Office) link(tx *store.Tx, account uint64) (string, error) {
	secret := newSecret()
	return secret, tx.SetLink(&store.Link{Hash: hashOf(secret), AccountID: account, ExpiresAt: o.now().Add(linkFor)})
}

func (o *Office) accountOfLink(tx *store.Tx, secret string) (store.Account, error) {
	link, err := tx.Link(hashOf(secret))
	if errors.Is(err, store.ErrNotFound) || err == nil && link.ExpiresAt.Before(o.now()) {
		return store.Account{}, ErrNoLink
	} else if err != nil {
		return store.Account{}, err
	}
	account, err := tx.Account(link.AccountID, true)
	if err == nil && account.ClosedAt != nil {
		err = ErrNoLink
	}
	return account, err
}

// LinkFor says whose password a link sets.
func (o *Office) LinkFor(ctx context.Context, secret string) (store.Account, error) {
	var account store.Account
	err := o.store.InTransaction(ctx, func(tx *store.Tx) error {
		var err error
		account, err = o.accountOfLink(tx, secret)
		return err
	})
	return account, err
}

// UseLink sets the password of a link's account, and its name and, for the
// first administrator, its e-mail address. All its sessions end.
func (o *Office) UseLink(ctx context.Context, secret, email, name, password string) (store.Account, error) {
	var account store.Account
	err := o.store.InTransaction(ctx, func(tx *store.Tx) error {
		var err error
		if account, err = o.accountOfLink(tx, secret); err != nil {
			return err
		}
		if email != "" && normalEmail(email) != account.Email {
			if account.Email != "administrator" {
				return &Refused{Field: "email", Text: "the e-mail address of an invitation cannot be changed"}
			}
			if account.Email, err = parseEmail(email); err != nil {
				return err
			}
			if _, err := tx.AccountOfEmail(account.Email); err == nil {
				return ErrTaken
			}
		}
		if name != "" {
			if account.Name, err = parseName(name); err != nil {
				return err
			}
		}
		if err := checkPassword(password, account.Email); err != nil {
			return err
		}
		account.Password = hashPassword(password)
		if err := tx.SaveAccount(&account); err != nil {
			return err
		}
		if err := o.endAll(tx, account.ID); err != nil {
			return err
		}
		return o.recordAccount(WithActor(ctx, as(ctx, account)), tx, account, Act{Action: "account.password", After: "set by a one-time link"})
	})
	return account, err
}

// endAll ends everything by which somebody may be in as an account: its sessions,
// tokens and links.
func (o *Office) endAll(tx *store.Tx, account uint64) error {
	_, err := tx.DeleteTokens(account)
	return errors.Join(err, tx.DeleteLinks(account), tx.DeleteSessions(account, 0))
}

// recordAccount records what was done to an account, for administrators and for
// the owners of every estate it is a member of.
func (o *Office) recordAccount(ctx context.Context, tx *store.Tx, account store.Account, act Act) error {
	act.Object = account.Email
	if err := Record(ctx, tx, o.now(), act); err != nil {
		return err
	}
	estates, err := tx.EstatesWith(account.ID)
	for _, id := range estates {
		act.Estate = id
		err = errors.Join(err, Record(ctx, tx, o.now(), act))
	}
	return err
}

// as is the actor of a context, as an account that has just shown who it is.
func as(ctx context.Context, a store.Account) Actor {
	who := ActorOf(ctx)
	who.Account, who.Name, who.Administrator = a.ID, a.Email, a.Administrator
	return who
}

// AddDemoAccount makes an account with a password that everybody knows, for
// the demo alone.
func (o *Office) AddDemoAccount(ctx context.Context, email, name, password string, administrator bool) error {
	return o.store.InTransaction(ctx, func(tx *store.Tx) error {
		if _, err := tx.AccountOfEmail(normalEmail(email)); err == nil {
			return nil
		}
		account := &store.Account{Email: normalEmail(email), Name: name, Administrator: administrator, Password: hashPassword(password), CreatedAt: o.now()}
		if err := tx.AddAccount(account); err != nil || !administrator {
			return err
		}
		return o.adopt(ctx, tx, account)
	})
}

// Accounts lists all accounts.
func (o *Office) Accounts(ctx context.Context) ([]store.Account, error) {
	var out []store.Account
	err := o.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		out, err = tx.Accounts()
		return err
	})
	return out, err
}

// AddAccount makes an account and the one-time link with which its holder sets
// a password.
func (o *Office) AddAccount(ctx context.Context, email, name string, administrator bool) (store.Account, string, error) {
	var account store.Account
	var link string
	err := o.store.InTransaction(ctx, func(tx *store.Tx) error {
		var err error
		account, link, err = o.invite(ctx, tx, email, name, administrator)
		return err
	})
	return account, link, err
}

// parseName reads what somebody is called: up to 200 characters that can be seen.
func parseName(name string) (string, error) {
	name = strings.TrimSpace(name)
	if utf8.RuneCountInString(name) > 200 || strings.ContainsFunc(name, func(r rune) bool { return !printable(r) }) {
		return "", &Refused{Field: "name", Text: "a name has at most 200 characters, all of which can be seen"}
	}
	return name, nil
}

func printable(r rune) bool { return unicode.IsPrint(r) }

func (o *Office) invite(ctx context.Context, tx *store.Tx, email, name string, administrator bool) (store.Account, string, error) {
	email, err := parseEmail(email)
	if err != nil {
		return store.Account{}, "", err
	}
	if _, err := tx.AccountOfEmail(email); err == nil {
		return store.Account{}, "", ErrTaken
	} else if !errors.Is(err, store.ErrNotFound) {
		return store.Account{}, "", err
	}
	if name = strings.TrimSpace(name); name == "" {
		name, _, _ = strings.Cut(email, "@")
	}
	if name, err = parseName(name); err != nil {
		return store.Account{}, "", err
	}
	account := store.Account{Email: email, Name: name, Administrator: administrator, CreatedAt: o.now()}
	if err := tx.AddAccount(&account); err != nil {
		return account, "", err
	}
	link, err := o.link(tx, account.ID)
	if err != nil {
		return account, "", err
	}
	return account, link, Record(ctx, tx, o.now(), Act{Action: "account.add", Object: email, After: map[string]any{"administrator": administrator}})
}

// NewLink makes a new one-time link for an account.
func (o *Office) NewLink(ctx context.Context, id uint64) (string, error) {
	var link string
	err := o.store.InTransaction(ctx, func(tx *store.Tx) error {
		account, err := tx.Account(id, true)
		if err != nil {
			return err
		}
		if account.ClosedAt != nil {
			return &Refused{Field: "account", Text: "the account is closed; open it first"}
		}
		if link, err = o.link(tx, id); err != nil {
			return err
		}
		return o.recordAccount(ctx, tx, account, Act{Action: "account.link"})
	})
	return link, err
}

// SetAccount closes an account or opens it again, and makes it an
// administrator or takes that away. Closing ends its sessions, tokens and links;
// a reopened account starts without them.
func (o *Office) SetAccount(ctx context.Context, id uint64, closed, administrator bool) (store.Account, error) {
	var account store.Account
	err := o.store.InTransaction(ctx, func(tx *store.Tx) error {
		administrators, err := tx.Administrators()
		if err != nil {
			return err
		}
		others := false
		for _, a := range administrators {
			others = others || a.ID != id && a.ClosedAt == nil && (a.Password != "" || a.Subject != nil)
		}
		if account, err = tx.Account(id, true); err != nil {
			return err
		}
		if (closed || !administrator) && account.Administrator && account.ClosedAt == nil && !others {
			return fmt.Errorf("%w administrator who can sign in", ErrLast)
		}
		before := stateOf(account)
		account.Administrator = administrator
		switch {
		case closed && account.ClosedAt == nil:
			now := o.now()
			account.ClosedAt = &now
			if err := o.endAll(tx, id); err != nil {
				return err
			}
		case !closed:
			account.ClosedAt = nil
		}
		if err := tx.SaveAccount(&account); err != nil {
			return err
		}
		return o.recordAccount(ctx, tx, account, Act{Action: "account.set", Before: before, After: stateOf(account)})
	})
	return account, err
}

func stateOf(a store.Account) map[string]any {
	return map[string]any{"administrator": a.Administrator, "closed": a.ClosedAt != nil}
}

// freshFor is how long after signing in an account without password may be given
// one: who sits down at somebody's open browser must not take the account over.
const freshFor = 10 * time.Minute

// SetPassword changes the password of who asks, who must know the present one, or
// where there is none must have signed in just now. All its other sessions end,
// and all its tokens.
func (o *Office) SetPassword(ctx context.Context, now, next string) error {
	who := ActorOf(ctx)
	var account store.Account
	err := o.store.InTransaction(ctx, func(tx *store.Tx) error {
		var err error
		if account, err = tx.Account(who.Account, false); err != nil {
			return err
		}
		if account.Password != "" {
			return o.try(tx, brakes(account.ID, "", who.Origin))
		}
		return o.fresh(tx, who)
	})
	if err != nil {
		return err
	}
	if account.Password != "" && !passwordFits(account.Password, now) {
		return &Refused{Field: "now", Text: "this is not the current password"}
	}
	if err := checkPassword(next, account.Email); err != nil {
		return err
	}
	hash := hashPassword(next)
	return o.store.InTransaction(ctx, func(tx *store.Tx) error {
		current, err := tx.Account(who.Account, true)
		if err != nil {
			return err
		}
		if current.Password != account.Password || current.ClosedAt != nil {
			return &Refused{Field: "now", Text: "the password was changed meanwhile; sign in again"}
		}
		current.Password = hash
		if err := tx.SaveAccount(&current); err != nil {
			return err
		}
		if err := o.succeeded(tx, brakes(account.ID, "", who.Origin)); err != nil {
			return err
		}
		sessions, err := tx.Sessions(account.ID)
		if err != nil {
			return err
		}
		for _, s := range sessions {
			if s.ID == who.Session {
				continue
			}
			if err := tx.DeleteSessions(account.ID, s.ID); err != nil {
				return err
			}
		}
		ended, err := tx.DeleteTokens(account.ID)
		if err := errors.Join(err, tx.DeleteLinks(account.ID)); err != nil {
			return err
		}
		return o.recordAccount(ctx, tx, current, Act{Action: "account.password", After: fmt.Sprintf("changed; %d tokens ended", ended)})
	})
}

// fresh refuses a session that was opened a while ago.
func (o *Office) fresh(tx *store.Tx, who Actor) error {
	sessions, err := tx.Sessions(who.Account)
	if err != nil {
		return err
	}
	for _, s := range sessions {
		if s.ID == who.Session && o.now().Sub(s.CreatedAt) < freshFor {
			return nil
		}
	}
	return &Refused{Field: "now", Text: "this account has no password yet; to set one, sign out, sign in again, and come back within ten minutes, or ask an administrator for a link"}
}

// AsDemo returns a context in which an account of the demo asks.
func (o *Office) AsDemo(ctx context.Context, email string) (context.Context, error) {
	var account store.Account
	err := o.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		account, err = tx.AccountOfEmail(normalEmail(email))
		return err
	})
	return WithActor(ctx, as(ctx, account)), err
}
