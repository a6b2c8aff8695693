package enrol

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"time"

	"wideknot/internal/line"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// An Office lets gateways join.
type Office struct {
	Store     *store.Store
	Authority *Authority
	// Where gateways reach the servers, HOST:PORT: for certificates, and to call.
	Enrol, Lines []string
}

// Code limits.
const (
	UsualCode   = 24 * time.Hour
	LongestCode = 30 * 24 * time.Hour
)

// Errors of codes and certificates.
var (
	ErrCode    = errors.New("this join code is unknown, has ended, was taken back, or was used by another gateway; ask for a new one")
	ErrBarred  = errors.New("this gateway is barred")
	ErrForeign = errors.New("this certificate is not of a gateway that joined here, or another has joined in its place")
	ErrOld     = errors.New("this certificate expired more than a year ago: the gateway has to join anew")
)

// Code makes a join code for a site of an estate, which ends after a time. Codes of the site
// that were made before are taken back.
func (o *Office) Code(ctx context.Context, estate store.Estate, site string, lasts time.Duration) (string, time.Time, error) {
	if lasts <= 0 || lasts > LongestCode {
		return "", time.Time{}, &identity.Refused{Text: fmt.Sprintf("a join code lasts up to %d days", int(LongestCode.Hours()/24))}
	}
	code := line.JoinCode{Pin: o.Authority.Pin(), Enrol: o.Enrol, Lines: o.Lines}
	_, _ = rand.Read(code.Secret[:]) // never fails
	now := time.Now().UTC()
	hash := sha256.Sum256(code.Secret[:])
	row := store.JoinCode{
		EstateID: estate.ID, Site: site, SecretHash: hash[:], Author: identity.ActorOf(ctx).Name, MadeAt: now, EndsAt: now.Add(lasts),
	}
	err := o.Store.InTransaction(ctx, func(tx *store.Tx) error {
		row.ID = 0
		if _, err := tx.WithdrawJoinCodes(estate.ID, site, now); err != nil {
			return err
		}
		if err := tx.AddJoinCode(&row); err != nil {
			return err
		}
		return identity.Record(ctx, tx, now, identity.Act{Action: "gateway.code", Estate: estate.ID, Object: "site " + site, After: map[string]any{"ends_at": row.EndsAt}})
	})
	if err != nil {
		return "", time.Time{}, err
	}
	return code.String(), row.EndsAt, nil
}

// Withdraw takes the codes of a site back.
func (o *Office) Withdraw(ctx context.Context, estate store.Estate, site string) error {
	now := time.Now().UTC()
	return o.Store.InTransaction(ctx, func(tx *store.Tx) error {
		n, err := tx.WithdrawJoinCodes(estate.ID, site, now)
		if err != nil || n == 0 {
			return err
		}
		return identity.Record(ctx, tx, now, identity.Act{Action: "gateway.code-withdraw", Estate: estate.ID, Object: "site " + site})
	})
}

// Bar refuses a gateway from now on, or lets it in again.
func (o *Office) Bar(ctx context.Context, estate store.Estate, site string, barred bool) error {
	now := time.Now().UTC()
	action := "gateway.unbar"
	if barred {
		action = "gateway.bar"
	}
	return o.Store.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.Gateway(estate.ID, site, true)
		if err != nil {
			return fmt.Errorf("a gateway of %s: %w", site, err)
		}
		if barred == (row.BarredAt != nil) {
			return nil
		}
		row.BarredAt = nil
		if barred {
			row.BarredAt = &now
		}
		if err := tx.SaveGateway(&row, "barred_at"); err != nil {
			return err
		}
		return identity.Record(ctx, tx, now, identity.Act{Action: action, Estate: estate.ID, Object: "gateway " + site})
	})
}

// enrol signs a request by the secret of a join code. The key that used the code first may
// ask again until it ends, so that an answer that was lost strands nobody.
func (o *Office) enrol(ctx context.Context, secret [16]byte, csr *x509.CertificateRequest) (signed *x509.Certificate, err error) {
	if err := fit(csr.PublicKey); err != nil {
		return nil, err
	}
	hash, key := sha256.Sum256(secret[:]), sha256.Sum256(csr.RawSubjectPublicKeyInfo)
	err = o.Store.InTransaction(ctx, func(tx *store.Tx) error {
		code, err := tx.JoinCodeOf(hash[:])
		if errors.Is(err, store.ErrNotFound) {
			return ErrCode
		} else if err != nil {
			return err
		}
		now := time.Now().UTC()
		if code.WithdrawnAt != nil || !now.Before(code.EndsAt) || code.UsedKey != nil && [32]byte(code.UsedKey) != key {
			return ErrCode
		}
		estate, err := tx.EstateByID(code.EstateID)
		if err != nil {
			return err
		}
		if signed, err = o.Authority.sign(csr.PublicKey, estate.Key, code.Site); err != nil {
			return err
		}
		row := store.Gateway{EstateID: estate.ID, Site: code.Site, KeyDigest: key[:], ExpiresAt: signed.NotAfter, JoinedAt: now, Refusals: "{}"}
		if before, err := tx.Gateway(estate.ID, code.Site, true); err == nil && [32]byte(before.KeyDigest) == key {
			if before.BarredAt != nil {
				return ErrBarred
			}
			row = before
			row.ExpiresAt = signed.NotAfter
		} else if err == nil { // another machine, of which nothing is known
			if err := tx.DropGateway(estate.ID, code.Site); err != nil {
				return err
			}
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := tx.PutGateway(&row); err != nil {
			return err
		}
		if code.UsedKey == nil {
			code.UsedAt, code.UsedKey = &now, key[:]
			if err := tx.UseJoinCode(&code); err != nil {
				return err
			}
		}
		return identity.Record(ctx, tx, now, identity.Act{Action: "gateway.join", Estate: estate.ID, Object: "gateway " + code.Site, After: map[string]any{"expires_at": signed.NotAfter}})
	})
	return signed, err
}

// renew signs a request by a certificate of before, for the same gateway.
func (o *Office) renew(ctx context.Context, shown *x509.Certificate, csr *x509.CertificateRequest) (signed *x509.Certificate, err error) {
	if err := fit(csr.PublicKey); err != nil {
		return nil, err
	}
	now := time.Now().UTC()
	if shown.CheckSignatureFrom(o.Authority.Certificate) != nil || now.Before(shown.NotBefore) {
		return nil, ErrForeign
	}
	if now.Sub(shown.NotAfter) > expiredFor { // until then an expired one is as good
		return nil, ErrOld
	}
	estate, site, ok := line.GatewayOf(shown)
	if !ok {
		return nil, ErrForeign
	}
	was, is := line.KeyDigest(shown), sha256.Sum256(csr.RawSubjectPublicKeyInfo)
	err = o.Store.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.GatewayOfKey(estate, site, was[:])
		if errors.Is(err, store.ErrNotFound) {
			return ErrForeign
		} else if err != nil {
			return err
		}
		if row.BarredAt != nil {
			return ErrBarred
		}
		if signed, err = o.Authority.sign(csr.PublicKey, estate, site); err != nil {
			return err
		}
		row.KeyDigest, row.ExpiresAt = is[:], signed.NotAfter
		if err := tx.SaveGateway(&row, "key_digest", "expires_at"); err != nil {
			return err
		}
		return identity.Record(ctx, tx, now, identity.Act{Action: "gateway.renew", Estate: row.EstateID, Object: "gateway " + site, After: map[string]any{"expires_at": signed.NotAfter}})
	})
	return signed, err
}

// Codes lists the codes of an estate that wait to be used.
func Codes(ctx context.Context, s *store.Store, estateID uint64) (out []store.JoinCode, err error) {
	now := time.Now().UTC()
	err = s.Snapshot(ctx, func(tx *store.Tx) error {
		rows, err := tx.JoinCodes(estateID)
		out = nil
		for i := range rows {
			if rows[i].UsedAt == nil && rows[i].WithdrawnAt == nil && now.Before(rows[i].EndsAt) {
				out = append(out, rows[i])
			}
		}
		return err
	})
	return out, err
}
