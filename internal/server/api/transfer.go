package api

import (
	"context"
	"maps"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/internal/server/desk"
)

// Parcel is what is to be imported: the texts of sheets, or of a document.
type Parcel struct {
	Sheets   estate.Sheets `json:"sheets,omitempty"`
	Fixes    []estate.Fix  `json:"fixes,omitempty" doc:"cells to replace before reading"`
	Document string        `json:"document,omitempty" doc:"an estate document, YAML or JSON"`
	LeaveBad bool          `json:"leave_bad,omitempty" doc:"import the good rows and leave the bad ones out"`
}

func (p Parcel) parcel() desk.Parcel {
	return desk.Parcel{Sheets: p.Sheets, Fixes: p.Fixes, Document: p.Document}
}

// ImportPreview says what an import would do.
type ImportPreview struct {
	Sheets   []estate.SheetCount    `json:"sheets"`
	Remarks  []estate.Remark        `json:"remarks"`
	Omitted  int                    `json:"omitted" doc:"remarks beyond those listed"`
	Problems []estate.Problem       `json:"problems" doc:"of a document; with any it cannot be imported"`
	Notes    []estate.Problem       `json:"notes" doc:"what reading a document normalised"`
	Sites    int                    `json:"sites" doc:"in the estate afterwards"`
	Findings map[check.Severity]int `json:"findings" doc:"in the estate afterwards"`
}

func previewOf(p *desk.Preview) ImportPreview {
	out := ImportPreview{
		Sheets: []estate.SheetCount{}, Remarks: []estate.Remark{}, Problems: []estate.Problem{}, Notes: []estate.Problem{},
		Sites: p.Sites, Findings: map[check.Severity]int{},
	}
	maps.Copy(out.Findings, p.Findings)
	out.Problems = append(out.Problems, p.Problems...)
	out.Notes = append(out.Notes, p.Notes...)
	if p.Reading != nil {
		out.Sheets = append(out.Sheets, p.Reading.Sheets...)
		out.Remarks = append(out.Remarks, p.Reading.Remarks...)
		out.Omitted = p.Reading.Omitted
	}
	return out
}

// large describes an operation that takes whole documents.
func large(id, path, summary string) huma.Operation {
	op := operation(id, http.MethodPost, path, summary)
	op.MaxBodyBytes = MaxBody
	return op
}

func transfer(a huma.API, d *desk.Desk) {
	huma.Register(a, large("preview-import", "/api/estates/{estate}/drafts/{draft}/import/preview", "Read sheets or a document and change nothing"),
		func(ctx context.Context, in *struct {
			InDraft
			Body Parcel
		}) (*struct{ Body ImportPreview }, error) {
			p, err := d.PreviewImport(ctx, in.place(), in.Body.parcel())
			if err != nil {
				return nil, refusal(err)
			}
			return &struct{ Body ImportPreview }{previewOf(p)}, nil
		})
	huma.Register(a, large("import", "/api/estates/{estate}/drafts/{draft}/import", "Take sheets or a document into the estate"),
		func(ctx context.Context, in *struct {
			Editing
			Body Parcel
		}) (*answer[EstateHead], error) {
			return edited(ctx, in.Editing, func(o desk.Order) (*desk.View, error) {
				v, _, err := d.Import(ctx, o, in.Body.parcel(), in.Body.LeaveBad)
				return v, err
			})
		})
	huma.Register(a, files(operation("export", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/document", "Export the estate document"), "application/yaml", "application/json"),
		func(ctx context.Context, in *struct {
			InDraft
			Format string `query:"format" enum:"yaml,json" default:"yaml"`
		}) (*file, error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			write, kind := estate.WriteYAML, "application/yaml"
			if in.Format == "json" {
				write, kind = estate.WriteJSON, "application/json"
			}
			text, err := write(v.Estate)
			return attached(kind, in.Estate+"."+in.Format, text), refusal(err)
		})
	huma.Register(a, files(operation("export-sheet", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/sheets/{sheet}", "Export one of the three sheets as CSV"), "text/csv"),
		func(ctx context.Context, in *struct {
			InDraft
			Sheet string `path:"sheet" enum:"sites,links,subnets"`
			Blank bool   `query:"blank" doc:"the heading only, as a template"`
		}) (*file, error) {
			v, err := d.View(ctx, in.place())
			if err != nil {
				return nil, refusal(err)
			}
			e := v.Estate
			if in.Blank {
				e = &estate.Estate{}
			}
			sheets := estate.WriteSheets(e)
			text := map[string]string{"sites": sheets.Sites, "links": sheets.Links, "subnets": sheets.Subnets}[in.Sheet]
			return attached("text/csv; charset=utf-8", in.Sheet+".csv", []byte(text)), nil
		})
}
