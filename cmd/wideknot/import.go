package main

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wideknot/core/estate"
)

func importCommand() *cobra.Command {
	var f format
	var sites, links, subnets, into, out, name string
	var leaveBad bool
	c := &cobra.Command{
		Use:   "import --sites FILE --links FILE --subnets FILE",
		Short: "Turn spreadsheets into an estate document",
		Long: "Import reads up to three CSV sheets, over a document when --into names one, and prints the estate document.\n" +
			"What it has to say of the cells goes to standard error. With bad rows it writes nothing and exits with 1,\n" +
			"unless --leave-bad says that they are to be left out.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			base := &estate.Estate{Format: estate.Format, About: estate.About{Name: name}}
			if into != "" {
				var err error
				if base, err = readDocument(c, into); err != nil {
					return err
				}
			}
			sheets, err := readSheets(sites, links, subnets)
			if err != nil {
				return unusable(err)
			}
			reading := estate.ReadSheets(base, sheets, nil)
			for _, r := range reading.Remarks {
				fmt.Fprintf(c.ErrOrStderr(), "%s, row %d, %s: %s: %s %q\n", r.Sheet, r.Row, r.Column, r.Kind, r.Message, r.Value)
			}
			if reading.Omitted > 0 {
				fmt.Fprintf(c.ErrOrStderr(), "and %d remarks more\n", reading.Omitted)
			}
			for _, s := range reading.Sheets {
				fmt.Fprintf(c.ErrOrStderr(), "%s: %d rows: %d new, %d changed, %d the same, %d bad\n", s.Sheet, s.Rows, s.New, s.Changed, s.Same, s.Bad)
			}
			if unread := reading.Unread(); len(unread) > 0 {
				return unusable(fmt.Errorf("the sheet of %s cannot be read; nothing was written", strings.Join(unread, " and of ")))
			}
			if !slices.ContainsFunc(reading.Sheets, func(s estate.SheetCount) bool { return s.Rows > 0 }) {
				return unusable(errors.New("the sheets have a heading and no rows; nothing was written"))
			}
			if reading.BadRows() > 0 && !leaveBad {
				return exit{1, errors.New("there are bad rows; nothing was written. Fix them, or leave them out with --leave-bad")}
			}
			if problems := estate.Validate(reading.Estate); len(problems) > 0 {
				return unusable(fmt.Errorf("the estate would not be readable; nothing was written:\n%w", estate.Problems(problems)))
			}
			return writeDocument(c, f, out, reading.Estate)
		},
	}
	f.add(c)
	c.Flags().StringVar(&sites, "sites", "", "sheet of sites")
	c.Flags().StringVar(&links, "links", "", "sheet of WAN links")
	c.Flags().StringVar(&subnets, "subnets", "", "sheet of LAN subnets")
	c.Flags().StringVar(&into, "into", "", "document to lay the sheets over")
	c.Flags().StringVar(&out, "out", "", "file to write (default standard output)")
	c.Flags().StringVar(&name, "name", "Imported estate", "name of a new estate")
	c.Flags().BoolVar(&leaveBad, "leave-bad", false, "leave bad rows out")
	return c
}

func readSheets(sites, links, subnets string) (estate.Sheets, error) {
	var sheets estate.Sheets
	for _, s := range []struct {
		name string
		into *string
	}{{sites, &sheets.Sites}, {links, &sheets.Links}, {subnets, &sheets.Subnets}} {
		if s.name == "" {
			continue
		}
		text, err := os.ReadFile(s.name)
		if err != nil {
			return sheets, err
		}
		if len(text) == 0 {
			return sheets, fmt.Errorf("%s is empty; its first row must name the columns", s.name)
		}
		*s.into = string(text)
	}
	if sheets == (estate.Sheets{}) {
		return sheets, errors.New("name at least one sheet with --sites, --links or --subnets")
	}
	return sheets, nil
}
