package desk

import (
	"archive/zip"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"

	"wideknot/core/render"
	"wideknot/core/render/linux"
	"wideknot/internal/store"
)

// ErrKeyElsewhere is returned for the private key of a gateway that made its
// own.
var ErrKeyElsewhere = errors.New("the private key is not held here: the gateway made its own")

// PrivateKey returns the private key of a site in base64.
func (d *Desk) PrivateKey(ctx context.Context, key, site string) (string, error) {
	view, err := d.View(ctx, key)
	if err != nil {
		return "", err
	}
	if view.Estate.Site(site) == nil {
		return "", fmt.Errorf("site %q: %w", site, ErrNotFound)
	}
	keys, err := d.privateKeys(ctx, view)
	if err != nil {
		return "", err
	}
	private, ok := keys(site)
	if !ok {
		return "", ErrKeyElsewhere
	}
	return private, nil
}

// privateKeys opens all private keys of an estate that belong to the public
// keys its peers are told.
func (d *Desk) privateKeys(ctx context.Context, view *View) (linux.Keys, error) {
	opened := map[string]string{}
	err := d.store.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.Estate(view.Key, false)
		if err != nil {
			return err
		}
		held, err := tx.SiteKeys(row.ID)
		if err != nil {
			return err
		}
		for _, k := range held {
			site := view.Plan.SiteIndex(k.Site)
			if site < 0 || view.Plan.PublicKey(site) != k.PublicKey {
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
	return func(site string) (string, bool) { key, ok := opened[site]; return key, ok }, err
}

// Bundle renders the configuration of one site, without private keys.
func (v *View) Bundle(site int) []render.File { return linux.Site(v.Routes, site, linux.NoKeys) }

// Archive writes the configurations of all sites, or of one, as a zip file.
func (d *Desk) Archive(ctx context.Context, view *View, site string, withKeys bool, w io.Writer) error {
	keys := linux.Keys(linux.NoKeys)
	if withKeys {
		var err error
		if keys, err = d.privateKeys(ctx, view); err != nil {
			return err
		}
	}
	archive := zip.NewWriter(w)
	for i := range view.Estate.Sites {
		if site != "" && view.Estate.Sites[i].Key != site {
			continue
		}
		for _, f := range linux.Site(view.Routes, i, keys) {
			// No time of making: the same design gives the same archive.
			entry, err := archive.CreateHeader(&zip.FileHeader{Name: f.Path, Method: zip.Deflate})
			if err != nil {
				return fmt.Errorf("archiving %s: %w", f.Path, err)
			}
			if _, err := entry.Write(f.Text); err != nil {
				return fmt.Errorf("archiving %s: %w", f.Path, err)
			}
		}
	}
	return archive.Close()
}
