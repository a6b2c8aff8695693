package main

import (
	"bufio"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wideknot/internal/server/store"
)

func migrateCommand() *cobra.Command {
	var s settings
	var yes bool
	to := int64(store.Latest)
	c := &cobra.Command{
		Use:   "migrate",
		Short: "Bring the tables to a version, up or down (the server brings them to the newest by itself)",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := s.present(); err != nil {
				return err
			}
			access, stop, err := s.database(c.Context(), false)
			if err != nil {
				return err
			}
			defer stop()
			db, err := store.Connect(c.Context(), access.Admin)
			if err != nil {
				return err
			}
			defer db.Close()
			before, _, err := db.Version(c.Context())
			if err != nil {
				return err
			}
			if to >= 0 && to < before && !yes {
				fmt.Fprintf(c.ErrOrStderr(), "Going from version %d of the tables down to %d loses what the older one has no place for. Make a backup first.\nType yes to go on: ", before, to)
				if answer, _ := bufio.NewReader(c.InOrStdin()).ReadString('\n'); strings.TrimSpace(answer) != "yes" {
					return unusable(errors.New("nothing was changed; --yes goes on without asking"))
				}
			}
			if err := db.Migrate(c.Context(), to); err != nil {
				return err
			}
			now, latest, err := db.Version(c.Context())
			fmt.Fprintf(c.OutOrStdout(), "The tables were of version %d and are of version %d; the newest is %d.\n", before, now, latest)
			return err
		},
	}
	s.addData(c)
	c.Flags().BoolVar(&yes, "yes", false, "do not ask before going down")
	c.Flags().Int64Var(&to, "to", store.Latest, "version to go to; an older one loses what it has no place for (default: the newest)")
	return c
}
