package identity

import (
	"context"
	"errors"
	"fmt"

	"wideknot/internal/server/store"
)

// RoleIn returns the estate of that key and the role in it of who asks.
// Strangers get ErrNotFound, as if there were no such estate.
func (o *Office) RoleIn(ctx context.Context, estate string) (store.Estate, Role, error) {
	var row store.Estate
	role := Stranger
	err := o.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		if row, err = tx.Estate(estate, false); err != nil {
			return err
		}
		role, err = roleIn(tx, ActorOf(ctx), row.ID)
		return err
	})
	if err == nil && role == Stranger {
		err = store.ErrNotFound
	}
	return row, role, err
}

func roleIn(tx *store.Tx, who Actor, estate uint64) (Role, error) {
	m, err := tx.Member(estate, who.Account)
	if errors.Is(err, store.ErrNotFound) {
		return Stranger, nil
	} else if err != nil {
		return Stranger, err
	}
	role := Role(m.Role)
	if who.Token != 0 {
		if who.TokenEstate != 0 && who.TokenEstate != estate {
			return Stranger, nil
		}
		role = lesser(role, who.TokenRole)
	}
	return role, nil
}

// Estates lists the estates that who asks may see, with its role in each.
func (o *Office) Estates(ctx context.Context) ([]store.OwnEstate, error) {
	who := ActorOf(ctx)
	out := []store.OwnEstate{}
	err := o.store.Snapshot(ctx, func(tx *store.Tx) error {
		rows, err := tx.EstatesOf(who.Account)
		out = out[:0]
		for _, row := range rows {
			if who.TokenEstate != 0 && who.TokenEstate != row.ID {
				continue
			}
			if who.Token != 0 {
				row.Role = string(lesser(Role(row.Role), who.TokenRole))
			}
			out = append(out, row)
		}
		return err
	})
	return out, err
}

// Members lists who may see an estate.
func (o *Office) Members(ctx context.Context, estate uint64) ([]store.Membership, error) {
	var out []store.Membership
	err := o.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		out, err = tx.Members(estate)
		return err
	})
	return out, err
}

// SetMember gives the account of an e-mail address a role in an estate. Where
// there is no such account one is made, and link is what its holder has to
// open to set a password.
func (o *Office) SetMember(ctx context.Context, estate uint64, email string, role Role) (link string, err error) {
	if !role.Valid() {
		return "", &Refused{Field: "role", Text: fmt.Sprintf("%q is no role", role)}
	}
	err = o.store.InTransaction(ctx, func(tx *store.Tx) error {
		link = ""
		if err := tx.LockEstate(estate); err != nil {
			return err
		}
		account, err := tx.AccountOfEmail(normalEmail(email))
		if errors.Is(err, store.ErrNotFound) {
			account, link, err = o.invite(ctx, tx, email, "", false)
		}
		if err != nil {
			return err
		}
		before, err := tx.Member(estate, account.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := tx.SaveMember(&store.Member{EstateID: estate, AccountID: account.ID, Role: string(role)}); err != nil {
			return err
		}
		if err := keepsOwner(tx, estate); err != nil {
			return err
		}
		return Record(ctx, tx, o.now(), Act{Action: "people.role", Estate: estate, Object: account.Email, Before: before.Role, After: role})
	})
	return link, err
}

// DeleteMember takes an account's role in an estate away.
func (o *Office) DeleteMember(ctx context.Context, estate, account uint64) error {
	return o.store.InTransaction(ctx, func(tx *store.Tx) error {
		if err := tx.LockEstate(estate); err != nil {
			return err
		}
		m, err := tx.Member(estate, account)
		if err != nil {
			return err
		}
		a, err := tx.Account(account, false)
		if err != nil {
			return err
		}
		if err := tx.DeleteMember(estate, account); err != nil {
			return err
		}
		if err := keepsOwner(tx, estate); err != nil {
			return err
		}
		return Record(ctx, tx, o.now(), Act{Action: "people.remove", Estate: estate, Object: a.Email, Before: m.Role})
	})
}

func keepsOwner(tx *store.Tx, estate uint64) error {
	members, err := tx.Members(estate)
	if err != nil {
		return err
	}
	for _, m := range members {
		if m.Role == string(Owner) && m.ClosedAt == nil {
			return nil
		}
	}
	return fmt.Errorf("%w owner; make someone else an owner first", ErrLast)
}
