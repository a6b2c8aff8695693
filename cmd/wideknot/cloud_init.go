package main

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"wideknot/internal/line"
	"wideknot/internal/server/enrol"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

func cloudInitCommand() *cobra.Command {
	var s settings
	var lasts time.Duration
	c := &cobra.Command{
		Use: "cloud-init ESTATE SITE", Short: "Write user-data for cloud-init that makes a new machine the gateway of a site", Args: cobra.ExactArgs(2),
		Long: "Cloud-init works on the database of a server, which may be running. The file holds a join code: whoever reads it\n" +
			"can join in the machine's place. Codes of the site that were made before end.",
		RunE: func(c *cobra.Command, args []string) error { return s.cloudInit(c, args[0], args[1], lasts) },
	}
	s.addData(c)
	f := c.Flags()
	f.StringVar(&s.lineAt, "line-at", "", "HOST:PORT by which gateways call the servers, several with commas")
	f.StringVar(&s.enrolAt, "enrol-at", "", "HOST:PORT where gateways get certificates")
	f.DurationVar(&lasts, "lasts", enrol.UsualCode, "how long the join code may be used")
	return c
}

// cloudInit makes a join code and prints the file with it.
func (s *settings) cloudInit(c *cobra.Command, estate, site string, lasts time.Duration) error {
	if s.lineAt == "" || s.enrolAt == "" {
		return unusable(errors.New("--line-at and --enrol-at say where the machine reaches the server"))
	}
	office := &enrol.Office{}
	for list, text := range map[*[]string]string{&office.Lines: s.lineAt, &office.Enrol: s.enrolAt} {
		var err error
		if *list, err = line.ParseServers(text); err != nil {
			return unusable(fmt.Errorf("--line-at and --enrol-at: %w", err))
		}
	}
	if err := s.present(); err != nil {
		return err
	}
	access, stop, err := s.database(c.Context(), true)
	if err != nil {
		return err
	}
	defer stop()
	if office.Store, err = store.Open(c.Context(), access); err != nil {
		return err
	}
	defer office.Store.Close()
	sealer, err := s.sealerFor(c.Context(), office.Store)
	if err != nil {
		return err
	}
	if office.Authority, err = enrol.OpenAuthority(c.Context(), office.Store, sealer); err != nil {
		return err
	}
	text, err := office.ForMachine(identity.WithActor(c.Context(), identity.Actor{Name: "command line"}), estate, site, lasts)
	if err != nil {
		return unusable(err)
	}
	_, err = c.OutOrStdout().Write(text)
	return err
}
