package desk

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

// A Parcel is what is to be imported: sheets with the cells fixed in the
// preview, or a document.
type Parcel struct {
	Sheets   estate.Sheets
	Fixes    []estate.Fix
	Document string
}

// A Preview says what importing a parcel would do.
type Preview struct {
	Reading  *estate.Reading  // of sheets
	Problems []estate.Problem // of a document; with any, it cannot be imported
	Notes    []estate.Problem // what a document's reading normalised
	Sites    int              // in the estate afterwards
	Findings map[check.Severity]int
	next     *estate.Estate
}

// unread lists the sheets of which no row can be read.
func (p *Preview) unread() []string {
	if p.Reading == nil {
		return nil
	}
	return p.Reading.Unread()
}

func read(base *estate.Estate, p Parcel) *Preview {
	out := &Preview{next: base}
	if p.Document != "" {
		document, notes, err := estate.Read(strings.NewReader(p.Document))
		out.Notes = notes
		var problems estate.Problems
		if errors.As(err, &problems) {
			out.Problems = problems
			return out
		} else if err != nil {
			out.Problems = []estate.Problem{{Message: err.Error()}}
			return out
		}
		out.next = estate.Merge(base, document)
		if problems := estate.Validate(out.next); len(problems) > 0 {
			out.Problems = problems
			return out
		}
	} else {
		out.Reading = estate.ReadSheets(base, p.Sheets, p.Fixes)
		out.next = out.Reading.Estate
	}
	out.Sites = len(out.next.Sites)
	return out
}

// PreviewImport reads a parcel over the estate and changes nothing.
func (d *Desk) PreviewImport(ctx context.Context, at Place, p Parcel) (*Preview, error) {
	view, err := d.View(ctx, at)
	if err != nil {
		return nil, err
	}
	leave, err := d.Turn(ctx)
	if err != nil {
		return nil, err
	}
	defer leave()
	out := read(view.Estate, p)
	if len(out.Problems) == 0 && out.unread() == nil {
		plan := tunnel.Derive(out.next)
		out.Findings = check.Count(check.Run(plan, route.Build(plan)))
	}
	return out, nil
}

// Import takes a parcel into the estate: a document whole or not at all, of
// sheets the good rows. Bad rows are refused unless leaveBad says that they
// are left out knowingly.
func (d *Desk) Import(ctx context.Context, o Order, p Parcel, leaveBad bool) (*View, *Preview, error) {
	label := "Import a document"
	if p.Document == "" {
		label = "Import sheets"
	}
	var preview *Preview
	view, err := d.edit(ctx, o, label, func(e *estate.Estate) (*estate.Estate, error) {
		preview = read(e, p)
		if len(preview.Problems) > 0 {
			return nil, estate.Problems(preview.Problems)
		}
		if unread := preview.unread(); unread != nil {
			return nil, estate.Problems{{Path: "sheets", Message: fmt.Sprintf(
				"the sheet of %s cannot be read; the preview says why. Nothing was imported", strings.Join(unread, " and of "))}}
		}
		if preview.Reading != nil && preview.Reading.BadRows() > 0 && !leaveBad {
			return nil, estate.Problems{{Path: "sheets", Message: fmt.Sprintf(
				"%d rows have errors; fix them, or say that they are to be left out. Nothing was imported", preview.Reading.BadRows())}}
		}
		return preview.next, nil
	})
	return view, preview, err
}
