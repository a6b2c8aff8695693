package main

import (
	"crypto/ecdh"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"wideknot/core/estate"
	"wideknot/core/render/linux"
	"wideknot/core/tunnel"
)

func keysCommand() *cobra.Command {
	var keyFile string
	c := &cobra.Command{
		Use:   "keys FILE",
		Short: "Make the keys that an estate document lacks",
		Long: "Keys makes a key pair for every site that has none, and the secret from which pre-shared keys follow where an\n" +
			"overlay wants them. Private halves go into the key file, which is yours to keep secret; public halves are\n" +
			"recorded in the document. A gateway that makes its own key needs none: enter its public half at the site.",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, text, err := readText(c, args[0])
			if err != nil {
				return err
			}
			if args[0] == "-" && keyFile == "" {
				return unusable(errors.New("say with --keys where the key file is to be"))
			}
			path := keyFileOf(args[0], keyFile)
			held, err := readKeys(path)
			if err != nil {
				return unusable(err)
			}
			made, err := held.complete(e)
			if err != nil {
				return unusable(fmt.Errorf("%s: %w", path, err))
			}
			if made > 0 {
				text, err := json.MarshalIndent(held, "", "  ")
				if err != nil {
					return err
				}
				if err := replaceFile(path, append(text, '\n')); err != nil {
					return err
				}
			}
			fmt.Fprintf(c.ErrOrStderr(), "made %d keys; private halves are in %s: keep it, and keep it secret\n", made, path)
			return record(c, args[0], text, e.Allocations)
		},
	}
	c.Flags().StringVar(&keyFile, "keys", "", "key file (default beside FILE, ending in .keys.json)")
	return c
}

// keyFileOf is the key file of a document: the one named, or the one beside it.
func keyFileOf(document, named string) string {
	if named != "" {
		return named
	}
	return strings.TrimSuffix(document, filepath.Ext(document)) + ".keys.json"
}

// ownSecret names, in a key file, the secret from which pre-shared keys follow;
// no site has such a key.
const ownSecret = "*"

// keyRing is a key file: private keys by site, in base64.
type keyRing map[string]string

// readKeys reads a key file; one that is not there holds nothing.
func readKeys(path string) (keyRing, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return keyRing{}, nil
	} else if err != nil {
		return nil, err
	}
	held := keyRing{}
	if err := json.Unmarshal(text, &held); err != nil {
		return nil, fmt.Errorf("the key file %s is damaged: %w", path, err)
	}
	return held, nil
}

// public returns the public half of a site's key; it is empty where the ring holds
// none.
func (k keyRing) public(site string) (string, error) {
	if k[site] == "" {
		return "", nil
	}
	raw, err := estate.ParseKey(k[site])
	if err != nil {
		return "", fmt.Errorf("site %s: %w", site, err)
	}
	key, err := ecdh.X25519().NewPrivateKey(raw[:])
	if err != nil {
		return "", fmt.Errorf("site %s: %w", site, err)
	}
	return base64.StdEncoding.EncodeToString(key.PublicKey().Bytes()), nil
}

// complete makes what is missing and enters public halves into the estate.
func (k keyRing) complete(e *estate.Estate) (made int, err error) {
	if e.Allocations.Keys == nil {
		e.Allocations.Keys = map[string]string{}
	}
	for i := range e.Overlays {
		if e.Overlays[i].NeedsSecret() && k[ownSecret] == "" {
			secret := make([]byte, 32)
			_, _ = rand.Read(secret) // never fails
			k[ownSecret] = base64.StdEncoding.EncodeToString(secret)
			made++
		}
	}
	for i := range e.Sites {
		site := e.Sites[i].Key
		if k[site] == "" {
			if e.Sites[i].Gateway.PublicKey != "" || e.Allocations.Keys[site] != "" {
				continue // the gateway, or a server, holds the private half
			}
			key, err := ecdh.X25519().GenerateKey(rand.Reader)
			if err != nil {
				return made, err
			}
			k[site] = base64.StdEncoding.EncodeToString(key.Bytes())
			made++
		}
		public, err := k.public(site)
		if err != nil {
			return made, err
		}
		e.Allocations.Keys[site] = public
	}
	return made, nil
}

// check compares the ring with the public keys that peers are told.
func (k keyRing) check(p *tunnel.Plan) error {
	var missing []string
	for i := range p.Estate.Sites {
		site := p.Site(i).Key
		if len(p.Ends(i)) > 0 && p.PublicKey(i) == "" {
			missing = append(missing, site)
		}
		if public, err := k.public(site); err != nil {
			return err
		} else if public != "" && p.Site(i).Gateway.PublicKey == "" && public != p.PublicKey(i) && p.PublicKey(i) != "" {
			return fmt.Errorf("the key of %s in the key file is not the one whose public half is in the document", site)
		}
	}
	if len(missing) > 0 {
		more := ""
		if len(missing) > 3 {
			missing, more = missing[:3], fmt.Sprintf(" and %d more", len(missing)-3)
		}
		return fmt.Errorf("no key for %s%s: make them with wideknot keys", strings.Join(missing, ", "), more)
	}
	return nil
}

// secrets are what bundles get of the ring.
func (k keyRing) secrets() linux.Keys {
	secret, err := base64.StdEncoding.DecodeString(k[ownSecret])
	return linux.Keys{
		Private: func(site string) (string, bool) { key, ok := k[site]; return key, ok },
		Shared: func(overlay, ident string) (string, bool) {
			if err != nil || len(secret) < 32 {
				return "", false
			}
			key, err := tunnel.SharedKey(secret, overlay, ident)
			return key, err == nil
		},
	}
}
