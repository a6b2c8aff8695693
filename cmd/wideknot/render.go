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

	"github.com/spf13/cobra"

	"wideknot/core/estate"
	"wideknot/core/render/linux"
)

func renderCommand() *cobra.Command {
	var folder, keyFile string
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
			keys := linux.Keys(linux.NoKeys)
			if withKeys {
				keys = func(site string) (string, bool) { key, ok := private[site]; return key, ok }
			}
			m := derive(e)
			files := 0
			for i := range e.Sites {
				for _, f := range linux.Site(m, i, keys) {
					path := filepath.Join(folder, filepath.FromSlash(f.Path))
					if err := writeFile(path, f.Text); err != nil {
						return err
					}
					files++
				}
			}
			fmt.Fprintf(c.OutOrStdout(), "%d files for %d sites in %s\n", files, len(e.Sites), folder)
			return nil
		},
	}
	c.Flags().StringVar(&folder, "out", "", "folder to write into")
	c.Flags().StringVar(&keyFile, "keys", "", "key file (default DIR/keys.json)")
	c.Flags().BoolVar(&withKeys, "with-keys", false, "write private keys into the configurations")
	_ = c.MarkFlagRequired("out")
	return c
}

func writeFile(path string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return os.WriteFile(path, text, 0o600)
}

// loadKeys reads the private keys of a key file, makes those that sites lack,
// and enters the public halves into the estate.
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
