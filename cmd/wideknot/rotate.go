package main

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"wideknot/internal/server/desk"
	"wideknot/internal/server/enrol"
	"wideknot/internal/server/events"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

func rotateKeyCommand() *cobra.Command {
	var s settings
	var forget bool
	c := &cobra.Command{
		Use:   "rotate-key",
		Short: "Seal all secrets with a new master key, while the server runs or not",
		Long: "Put a new key on top of the master key file, and seal all secrets with it. Servers that use the file take it up by themselves.\n" +
			"The former key stays in the file until --forget, for backups made before, and in case a server was sealing something just then.\n" +
			"Where the key comes from the environment, put the new key before the old one there, a space between them, and run this again.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := s.present(); err != nil {
				return err
			}
			if s.masterKey != "" && forget {
				return unusable(errors.New("take the former key out of the environment yourself"))
			}
			access, stop, err := s.database(c.Context(), true)
			if err != nil {
				return err
			}
			defer stop()
			db, err := store.Open(c.Context(), access)
			if err != nil {
				return err
			}
			defer db.Close()
			if _, err := s.sealerFor(c.Context(), db); err != nil {
				return err
			}
			rotate := func() error {
				if s.masterKey == "" && !forget {
					if err := identity.AddKey(s.keyFile()); err != nil {
						return err
					}
				}
				sealer, err := s.sealer()
				if err != nil {
					return err
				}
				n, err := resealAll(c.Context(), db, sealer)
				if err != nil {
					return err
				}
				fmt.Fprintf(c.OutOrStdout(), "%d secrets were sealed with the new key.\n", n)
				if !forget {
					return nil
				}
				return identity.ForgetKeys(s.keyFile())
			}
			if s.masterKey != "" {
				return rotate()
			}
			return identity.WithKeysLocked(s.keyFile(), rotate)
		},
	}
	s.addData(c)
	c.Flags().BoolVar(&forget, "forget", false, "make no new key, but forget the former ones once nothing is sealed with them")
	return c
}

// resealAll seals all secrets of a database with the present master key, and returns how
// many an older one had sealed.
func resealAll(ctx context.Context, db *store.Store, sealer *identity.Sealer) (int, error) {
	n, err := desk.New(db, sealer).Reseal(ctx)
	if err != nil {
		return n, err
	}
	changed, err := enrol.Reseal(ctx, db, sealer)
	if changed {
		n++
	}
	if err != nil {
		return n, err
	}
	listeners, err := events.Reseal(ctx, db, sealer)
	return n + listeners, err
}
