package main

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"wideknot/internal/desk"
	"wideknot/internal/identity"
	"wideknot/internal/store"
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
			if s.masterKey == "" && !forget {
				if _, err := s.sealer(); err != nil { // makes the file, and reads it
					return err
				}
				if err := identity.AddKey(s.keyFile()); err != nil {
					return err
				}
			}
			dsn, stop, err := s.database(c.Context(), true)
			if err != nil {
				return err
			}
			defer stop()
			db, err := store.Open(c.Context(), dsn)
			if err != nil {
				return err
			}
			defer db.Close()
			sealer, err := s.sealer()
			if err != nil {
				return err
			}
			n, err := desk.New(db, sealer).Reseal(c.Context())
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%d secrets were sealed with the new key.\n", n)
			if !forget {
				return nil
			}
			if s.masterKey != "" {
				return unusable(errors.New("take the former key out of the environment yourself"))
			}
			return identity.ForgetKeys(s.keyFile())
		},
	}
	s.addData(c)
	c.Flags().BoolVar(&forget, "forget", false, "make no new key, but forget the former ones once nothing is sealed with them")
	return c
}
