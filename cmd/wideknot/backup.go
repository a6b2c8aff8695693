package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

func backupCommand() *cobra.Command {
	var s settings
	var out string
	c := &cobra.Command{
		Use:   "backup",
		Short: "Write everything into one file, secrets sealed, while the server runs or not",
		Long: "Write all estates, drafts, releases, accounts and the audit into one file. Private keys in it stay sealed with the master key,\n" +
			"which is not in the file: keep a copy of it elsewhere, or they are lost.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := s.present(); err != nil {
				return err
			}
			sealer, err := s.sealer()
			if err != nil {
				return err
			}
			access, stop, err := s.database(c.Context(), true)
			if err != nil {
				return err
			}
			defer stop()
			file, err := os.OpenFile(out+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
			if err != nil {
				return unusable(err)
			}
			defer os.Remove(out + ".part") // gone already when all went well
			if err := errors.Join(store.Backup(c.Context(), access.DSN, sealer.BackupCodes, file), file.Sync(), file.Close()); err != nil {
				return err
			}
			if err := os.Rename(out+".part", out); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Wrote %s. Keep the master key (%s) apart from it.\n", out, s.keyFile())
			return nil
		},
	}
	s.addData(c)
	c.Flags().StringVar(&out, "out", "wideknot-backup.zip", "file to write")
	return c
}

func restoreCommand() *cobra.Command {
	var s settings
	var replace bool
	c := &cobra.Command{
		Use:   "restore FILE",
		Short: "Load a backup into an empty database",
		Long: "Check that a backup is whole and was made under this master key, load it beside what is there (into a database of the same\n" +
			"name with _restore behind), and put it in place in one step. What cannot be loaded changes nothing.",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, arguments []string) error {
			file, err := os.Open(arguments[0])
			if err != nil {
				return unusable(err)
			}
			defer file.Close()
			info, err := file.Stat()
			if err != nil {
				return unusable(err)
			}
			sealer, err := s.sealer()
			if errors.Is(err, identity.ErrNoKey) {
				return fmt.Errorf("%w: put a copy of the key that the backup was made under at %s first", err, s.keyFile())
			} else if err != nil {
				return err
			}
			access, stop, err := s.database(c.Context(), false)
			if err != nil {
				return err
			}
			defer stop()
			m, err := store.Restore(c.Context(), access, sealer.BackupCodes, file, info.Size(), replace)
			if errors.Is(err, store.ErrNotEmpty) {
				return fmt.Errorf("%w: give --replace to lose what it holds", err)
			} else if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Restored the backup of %s. Everybody has to sign in again.\n", m.Made.Format("2006-01-02 15:04:05 MST"))
			return nil
		},
	}
	s.addData(c)
	c.Flags().BoolVar(&replace, "replace", false, "lose what the database holds")
	return c
}
