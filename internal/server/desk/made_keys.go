package desk

import (
	"crypto/ecdh"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"

	"wideknot/core/estate"
	"wideknot/internal/server/store"
)

// makeKeys gives every site without a key a new pair. A site that had one
// before it was deleted gets that one back, and one that another draft has too
// gets the same there.
func (d *Desk) makeKeys(tx *store.Tx, row store.Estate, e *estate.Estate) error {
	for i := range e.Overlays {
		if e.Overlays[i].NeedsSecret() {
			if err := d.makeSecret(tx, row); err != nil {
				return err
			}
			break
		}
	}
	missing := false
	for i := range e.Sites {
		missing = missing || e.Allocations.Keys[e.Sites[i].Key] == "" && e.Sites[i].Gateway.PublicKey == ""
	}
	if !missing {
		return nil
	}
	held, err := tx.SiteKeys(row.ID)
	if err != nil {
		return err
	}
	public := maps.Clone(e.Allocations.Keys)
	if public == nil {
		public = map[string]string{}
	}
	for _, k := range held {
		public[k.Site] = k.PublicKey
	}
	var fresh []store.SiteKey
	for i := range e.Sites {
		site := e.Sites[i].Key
		if public[site] != "" || e.Sites[i].Gateway.PublicKey != "" {
			continue
		}
		key, err := ecdh.X25519().GenerateKey(rand.Reader)
		if err != nil {
			return fmt.Errorf("making a key: %w", err)
		}
		public[site] = base64.StdEncoding.EncodeToString(key.PublicKey().Bytes())
		fresh = append(fresh, store.SiteKey{
			EstateID: row.ID, Site: site, PublicKey: public[site],
			Sealed: d.sealer.Seal(key.Bytes(), keyPurpose(row.Key, site)),
		})
	}
	e.Allocations.Keys = public
	if len(fresh) == 0 {
		return nil
	}
	return tx.AddSiteKeys(fresh)
}

// makeSecret gives an estate the secret from which its pre-shared keys follow,
// if it has none.
func (d *Desk) makeSecret(tx *store.Tx, row store.Estate) error {
	if _, err := tx.EstateSecret(row.ID); !errors.Is(err, ErrNotFound) {
		return err
	}
	secret := make([]byte, 32)
	_, _ = rand.Read(secret) // never fails
	return tx.AddEstateSecret(&store.EstateSecret{EstateID: row.ID, Sealed: d.sealer.Seal(secret, secretPurpose(row.Key))})
}

func keyPurpose(estateKey, site string) string { return "site key " + estateKey + "/" + site }
