package desk

import (
	"archive/zip"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"

	"wideknot/core/render"
	"wideknot/core/render/bundle"
	"wideknot/core/render/linux"
	"wideknot/core/tunnel"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// ErrKeyElsewhere is returned for the private key of a gateway that made its
// own.
var ErrKeyElsewhere = errors.New("the private key is not held here: the gateway made its own")

// PrivateKey returns the private key of a site in base64, and records that it
// was revealed.
func (d *Desk) PrivateKey(ctx context.Context, at Place, site string) (string, error) {
	view, err := d.View(ctx, at)
	if err != nil {
		return "", err
	}
	if view.Estate.Site(site) == nil {
		return "", fmt.Errorf("site %q: %w", site, ErrNotFound)
	}
	keys, err := d.privateKeys(ctx, view, site)
	if err != nil {
		return "", err
	}
	private, ok := keys.Private(site)
	if !ok {
		return "", ErrKeyElsewhere
	}
	return private, nil
}

// privateKeys opens the private keys of one site, or with an empty key of all,
// that belong to the public keys its peers are told, and the secret from which
// pre-shared keys follow. That they were revealed is
// recorded before anybody gets them.
func (d *Desk) privateKeys(ctx context.Context, view *View, only string) (linux.Keys, error) {
	opened := map[string]string{}
	var secret []byte
	err := d.store.InTransaction(ctx, func(tx *store.Tx) error {
		clear(opened)
		object := "site " + only
		if only == "" {
			object = "all sites"
		}
		act := identity.Act{Action: "secret.reveal", Estate: view.estateID, Draft: view.Draft, Object: "private key of " + object}
		if err := identity.Record(ctx, tx, time.Now().UTC(), act); err != nil {
			return err
		}
		var err error
		if secret, err = d.estateSecret(tx, view.Key, view.estateID); err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		held, err := tx.SiteKeys(view.estateID)
		if err != nil {
			return err
		}
		for _, k := range held {
			site := view.Plan.SiteIndex(k.Site)
			if site < 0 || view.Plan.PublicKey(site) != k.PublicKey || only != "" && k.Site != only {
				continue
			}
			secret, err := d.sealer.Open(k.Sealed, keyPurpose(view.Key, k.Site))
			if err != nil {
				return fmt.Errorf("opening the key of %s: %w", k.Site, err)
			}
			opened[k.Site] = base64.StdEncoding.EncodeToString(secret)
		}
		return nil
	})
	return linux.Keys{
		Private: func(site string) (string, bool) { key, ok := opened[site]; return key, ok },
		Shared: func(overlay, ident string) (string, bool) {
			if secret == nil {
				return "", false
			}
			key, err := tunnel.SharedKey(secret, overlay, ident)
			return key, err == nil
		},
	}, err
}

// estateSecret opens the secret from which an estate's pre-shared keys follow.
func (d *Desk) estateSecret(tx *store.Tx, key string, id uint64) ([]byte, error) {
	row, err := tx.EstateSecret(id)
	if err != nil {
		return nil, err
	}
	secret, err := d.sealer.Open(row.Sealed, secretPurpose(key))
	if err != nil {
		return nil, fmt.Errorf("opening the estate's secret: %w", err)
	}
	return secret, nil
}

func secretPurpose(estateKey string) string { return "estate secret " + estateKey }

// Bundle renders the configuration of one site, without private keys.
func (v *View) Bundle(site int) ([]render.File, error) {
	return bundle.Site(v.Routes, site, bundle.Options{Release: v.release()})
}

// release is the number of a release; 0 for a draft.
func (v *View) release() int {
	if v.Fixed {
		return int(v.Revision)
	}
	return 0
}

// bundleOf is Bundle, empty for a site that is not there.
func (v *View) bundleOf(site int) ([]render.File, error) {
	if site < 0 {
		return nil, nil
	}
	return v.Bundle(site)
}

// An Asked says what of a state's configurations an archive is to hold.
type Asked struct {
	Site  string // this one only
	Since uint64 // only what differs from that release; 0 for all
	Keys  bool
}

// Archive returns what writes the configurations of all sites, or of some, as a zip
// file, site by site, until its context ends, and the file's name. That keys were
// revealed is recorded first.
func (d *Desk) Archive(ctx context.Context, view *View, asked Asked) (name string, write func(context.Context, io.Writer) error, err error) {
	a := bundle.Archive{Estate: view.Key, Only: asked.Site, Options: bundle.Options{Release: view.release()}}
	if asked.Since > 0 {
		was, err := d.View(ctx, Place{Estate: view.Key, Draft: fmt.Sprintf("release-%d", asked.Since)})
		if err != nil {
			return "", nil, err
		}
		a.Since, a.From = was.Routes, int(asked.Since)
	}
	name = a.Name()
	if asked.Keys {
		name += "-with-keys"
		if a.Keys, err = d.privateKeys(ctx, view, asked.Site); err != nil {
			return "", nil, err
		}
	}
	at := view.At
	if at.IsZero() {
		at = time.Now()
	}
	return name, func(ctx context.Context, w io.Writer) error {
		archive := zip.NewWriter(w)
		err := a.Each(view.Routes, func(files []render.File) error {
			for _, f := range files {
				head := &zip.FileHeader{Name: f.Path, Method: zip.Deflate, Modified: at.UTC()}
				head.SetMode(fs.FileMode(linux.Mode(f.Path)))
				entry, err := archive.CreateHeader(head)
				if err == nil {
					_, err = entry.Write(f.Text)
				}
				if err := errors.Join(err, ctx.Err()); err != nil {
					return fmt.Errorf("archiving %s: %w", f.Path, err)
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		return archive.Close()
	}, nil
}

// ErrWrongKey is returned when the secrets of the database are not sealed with the
// master key that is there.
var ErrWrongKey = errors.New("the secrets in the database were sealed with another master key")

// CheckKey tries the master key on one sealed secret; held is false when there is
// none.
func CheckKey(ctx context.Context, s *store.Store, sealer *identity.Sealer) (held bool, err error) {
	var key, site string
	var sealed []byte
	err = s.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		key, site, sealed, err = tx.Sealed()
		return err
	})
	if errors.Is(err, ErrNotFound) {
		return false, nil
	} else if err != nil || sealer == nil {
		return err == nil, err
	}
	purpose := keyPurpose(key, site)
	if site == "" {
		purpose = secretPurpose(key)
	}
	if _, err := sealer.Open(sealed, purpose); err != nil {
		return true, ErrWrongKey
	}
	return true, nil
}

// Reseal seals with the present master key every secret that an older one
// sealed, and returns how many.
func (d *Desk) Reseal(ctx context.Context) (int, error) {
	n := 0
	err := d.store.InTransaction(ctx, func(tx *store.Tx) error {
		n = 0
		err := tx.EachSecret(func(estate string, k *store.SiteKey) (bool, error) {
			purpose := keyPurpose(estate, k.Site)
			if k.Site == "" {
				purpose = secretPurpose(estate)
			}
			sealed, err := d.sealer.Reseal(k.Sealed, purpose)
			if err != nil {
				return false, fmt.Errorf("the key of %s in %s: %w", k.Site, estate, err)
			}
			if sealed == nil {
				return false, nil
			}
			n++
			k.Sealed = sealed
			return true, nil
		})
		if err != nil || n == 0 {
			return err
		}
		return identity.Record(ctx, tx, time.Now().UTC(), identity.Act{Action: "secret.reseal", Object: fmt.Sprintf("%d secrets", n)})
	})
	return n, err
}
