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
	"wideknot/core/render"
	"wideknot/core/render/bundle"
	"wideknot/core/render/custom"
	"wideknot/core/render/linux"
	"wideknot/core/render/sheet"
	"wideknot/core/render/topology"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

func renderCommand() *cobra.Command {
	var folder, keyFile, target, templateFile string
	var withKeys bool
	c := &cobra.Command{
		Use:   "render FILE --out DIR",
		Short: "Write every site's configuration into a folder",
		Long: "Render writes every site's configuration into a folder of its own below DIR.\n" +
			"Keys that the document lacks are made and kept in the key file, so that rendering again gives the same files.",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, err := readDocument(c, args[0])
			if err != nil {
				return err
			}
			if keyFile == "" {
				keyFile = filepath.Join(folder, "keys.json")
			}
			private, made, err := loadKeys(keyFile, e)
			if err != nil {
				return unusable(err)
			}
			if made > 0 {
				fmt.Fprintf(c.ErrOrStderr(), "made %d keys in %s: keep it, and keep it secret\n", made, keyFile)
			}
			keys := linux.NoKeys
			if withKeys {
				keys = keysOf(private)
			}
			files, err := renderings(derive(e), target, templateFile, keys)
			if err != nil {
				return err
			}
			for _, f := range files {
				if err := writeFile(filepath.Join(folder, filepath.FromSlash(f.Path)), f.Text); err != nil {
					return err
				}
			}
			fmt.Fprintf(c.OutOrStdout(), "%d files for %d sites in %s\n", len(files), len(e.Sites), folder)
			return nil
		},
	}
	c.Flags().StringVar(&folder, "out", "", "folder to write into")
	c.Flags().StringVar(&keyFile, "keys", "", "key file (default DIR/keys.json)")
	c.Flags().BoolVar(&withKeys, "with-keys", false, "write private keys into the configurations")
	c.Flags().StringVar(&target, "target", "", "linux, restconf, topology or sheets (default: each site's own target)")
	c.Flags().StringVar(&templateFile, "template", "", "render each site by this text template instead")
	_ = c.MarkFlagRequired("out")
	return c
}

// renderings renders the whole estate: by a template, for one target, or each
// site for its own.
func renderings(m *route.Map, target, templateFile string, keys linux.Keys) ([]render.File, error) {
	var parsed *custom.Template
	if templateFile != "" {
		text, err := os.ReadFile(templateFile)
		if err != nil {
			return nil, unusable(err)
		}
		if parsed, err = custom.Parse(string(text)); err != nil {
			return nil, unusable(fmt.Errorf("%s cannot be used:\n%w", templateFile, err))
		}
	}
	switch target {
	case "topology":
		file, err := topology.File(m.Plan)
		return []render.File{file}, err
	case "sheets":
		return sheet.Files(m), nil
	case "", string(estate.TargetLinux), string(estate.TargetRestconf):
	default:
		return nil, unusable(fmt.Errorf("there is no target %q: linux, restconf, topology or sheets", target))
	}
	var files []render.File
	for i := range m.Plan.Estate.Sites {
		site := m.Plan.Site(i)
		if parsed != nil {
			text, err := parsed.Render(custom.DataOf(m, i))
			if err != nil {
				return nil, unusable(fmt.Errorf("%s, for site %s:\n%w", templateFile, site.Key, err))
			}
			files = append(files, render.File{Path: site.Key + "/" + strings.TrimSuffix(filepath.Base(templateFile), ".tmpl"), Text: text})
			continue
		}
		more, err := bundle.Site(m, i, estate.Target(target), keys)
		if err != nil {
			return nil, err
		}
		files = append(files, more...)
	}
	return files, nil
}

func writeFile(path string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return os.WriteFile(path, text, 0o600)
}

// ownSecret names, in a key file, the secret from which pre-shared keys follow;
// no site has such a key.
const ownSecret = "*"

// keysOf are the secrets of a key file.
func keysOf(private map[string]string) linux.Keys {
	secret, err := base64.StdEncoding.DecodeString(private[ownSecret])
	return linux.Keys{
		Private: func(site string) (string, bool) { key, ok := private[site]; return key, ok },
		Shared: func(overlay, ident string) (string, bool) {
			if err != nil || len(secret) < 32 {
				return "", false
			}
			key, err := tunnel.SharedKey(secret, overlay, ident)
			return key, err == nil
		},
	}
}

// loadKeys reads the private keys of a key file, makes those that sites lack,
// and enters the public halves into the estate. Where an overlay wants
// pre-shared keys, it makes the secret they follow from.
func loadKeys(path string, e *estate.Estate) (private map[string]string, made int, err error) {
	private = map[string]string{}
	text, err := os.ReadFile(path)
	switch {
	case err == nil:
		if err := json.Unmarshal(text, &private); err != nil {
			return nil, 0, fmt.Errorf("the key file %s is damaged: %w", path, err)
		}
	case !errors.Is(err, os.ErrNotExist):
		return nil, 0, err
	}
	if e.Allocations.Keys == nil {
		e.Allocations.Keys = map[string]string{}
	}
	for i := range e.Overlays {
		if e.Overlays[i].PresharedKeys && private[ownSecret] == "" {
			secret := make([]byte, 32)
			_, _ = rand.Read(secret) // never fails
			private[ownSecret] = base64.StdEncoding.EncodeToString(secret)
			made++
		}
	}
	for i := range e.Sites {
		site := e.Sites[i].Key
		if private[site] == "" {
			if e.Sites[i].Gateway.PublicKey != "" || e.Allocations.Keys[site] != "" {
				continue // the gateway, or a server, holds the private half
			}
			key, err := ecdh.X25519().GenerateKey(rand.Reader)
			if err != nil {
				return nil, 0, err
			}
			private[site] = base64.StdEncoding.EncodeToString(key.Bytes())
			made++
		}
		raw, err := estate.ParseKey(private[site])
		if err != nil {
			return nil, 0, fmt.Errorf("the key file %s, site %s: %w", path, site, err)
		}
		key, err := ecdh.X25519().NewPrivateKey(raw[:])
		if err != nil {
			return nil, 0, fmt.Errorf("the key file %s, site %s: %w", path, site, err)
		}
		e.Allocations.Keys[site] = base64.StdEncoding.EncodeToString(key.PublicKey().Bytes())
	}
	if made == 0 {
		return private, 0, nil
	}
	text, err = json.MarshalIndent(private, "", "  ")
	if err != nil {
		return nil, 0, err
	}
	return private, made, writeFile(path, append(text, '\n'))
}
