package main

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"wideknot/core/estate"
	"wideknot/internal/server/api"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/identity"
)

// The accounts of the demo, which everybody knows.
const (
	demoPassword = "for the demo only"
	demoOwner    = "olive.owner@demo.example"
	demoPlanner  = "piet.planner@demo.example"
	demoReader   = "rhea.reader@demo.example"
)

func demoCommand() *cobra.Command {
	var d demo
	c := &cobra.Command{
		Use:   "demo",
		Short: "Serve the web application with the demo estate Brindlewater in it, and stand-ins of its gateways",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if d.dsn != "" || !d.local() {
				return unusable(errors.New("the demo has passwords that everybody knows; it works on a loopback address and its own database only"))
			}
			if d.standIns && d.lineListen == "" {
				if err := d.ports(); err != nil {
					return err
				}
			}
			return d.serve(c.Context(), d.load, d.stand)
		},
	}
	d.addServer(c)
	c.Flags().BoolVar(&d.standIns, "stand-ins", true, "run a stand-in for each gateway, in a process beside this one")
	c.Flags().StringVar(&d.standInsListen, "stand-ins-listen", "127.0.0.1:8090", "loopback address and port of the page of their circuits")
	return c
}

// load makes the demo's accounts, and imports and releases its estate once;
// a draft of some days' work waits on it.
func (d *demo) load(ctx context.Context, s *api.Server) error {
	s.Demo = &api.DemoAccount{Email: demoOwner, Password: demoPassword, Others: []string{demoPlanner, demoReader}}
	for _, a := range []struct {
		email, name   string
		administrator bool
	}{{demoOwner, "Olive Owner", true}, {demoPlanner, "Piet Planner", false}, {demoReader, "Rhea Reader", false}} {
		if err := s.Office.AddDemoAccount(ctx, a.email, a.name, demoPassword, a.administrator); err != nil {
			return fmt.Errorf("making the demo's accounts: %w", err)
		}
	}
	ctx, err := s.Office.AsDemo(ctx, demoOwner)
	if err != nil {
		return err
	}
	list, err := s.Office.Estates(ctx)
	if err != nil || len(list) > 0 {
		return err
	}
	if err := d.makeEstate(ctx, s); err != nil {
		return fmt.Errorf("loading the demo estate: %w", err)
	}
	return nil
}

func (d *demo) makeEstate(ctx context.Context, s *api.Server) error {
	document, err := d.document()
	if err != nil {
		return err
	}
	made, err := s.Desk.Create(ctx, "Brindlewater")
	if err != nil {
		return err
	}
	first := desk.At(made.Key, desk.First)
	if _, _, err := s.Desk.Import(ctx, first, desk.Parcel{Document: document}, false); err != nil {
		return err
	}
	if err := s.Desk.Seed(ctx, first, "The network as it was taken over"); err != nil {
		return err
	}
	row, _, err := s.Office.RoleIn(ctx, made.Key)
	if err != nil {
		return err
	}
	for email, role := range map[string]identity.Role{demoPlanner: identity.Planner, demoReader: identity.Reader} {
		if _, err := s.Office.SetMember(ctx, row.ID, email, role); err != nil {
			return err
		}
	}
	if ctx, err = s.Office.AsDemo(ctx, demoPlanner); err != nil {
		return err
	}
	return demoDraft(ctx, s.Desk, made.Key)
}

// demoDraft is a handful of edits that wait to be released.
func demoDraft(ctx context.Context, d *desk.Desk, key string) error {
	draft, err := d.NewDraft(ctx, key, "Winter round", desk.Released)
	if err != nil {
		return err
	}
	at := desk.At(key, draft.Key)
	view, err := d.View(ctx, at.Place)
	if err != nil {
		return err
	}
	site := func(key string, change func(*estate.Site)) error {
		one := *view.Estate.Clone().Site(key)
		change(&one)
		_, err := d.SaveSite(ctx, at, key, one)
		return err
	}
	overlay := *view.Estate.Clone().Overlay("ops")
	overlay.Spokes = append([]estate.Spoke{}, overlay.Spokes...)
	for i, spoke := range overlay.Spokes {
		if spoke.Site == "osierweir" {
			overlay.Spokes[i].Hubs = []string{"harrowmere", "quillbeck"}
		}
	}
	_, saved := d.SaveOverlay(ctx, at, "ops", overlay)
	return errors.Join(
		saved,
		site("eelgate", func(s *estate.Site) { s.DemandMbps += 5 }),
		site("osierweir", func(s *estate.Site) { s.Links[0].MTU = 1492 }),
		site("van-3", func(s *estate.Site) { s.Name = "Field Laboratory 3 (spare)" }),
	)
}
