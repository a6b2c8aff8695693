package api

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/estate"
	"wideknot/internal/server/store"
)

// AuditLine says who did what.
type AuditLine struct {
	ID      uint64    `json:"id"`
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	Origin  string    `json:"origin" doc:"network address, and the token's name"`
	Request string    `json:"request"`
	Action  string    `json:"action" doc:"family.verb"`
	Draft   string    `json:"draft"`
	Object  string    `json:"object"`
}

// AuditRecord is a line with what became of it.
type AuditRecord struct {
	AuditLine
	Before json.RawMessage `json:"before,omitempty" doc:"what the object was, as far as it changed"`
	After  json.RawMessage `json:"after,omitempty" doc:"what it became"`
}

// AuditFilter chooses records.
type AuditFilter struct {
	Who    string    `query:"who" maxLength:"200"`
	Action string    `query:"action" maxLength:"40" doc:"an action, or a family with its dot, such as draft."`
	Text   string    `query:"text" maxLength:"200" doc:"in the object, or the draft's key"`
	Since  time.Time `query:"since"`
	Until  time.Time `query:"until"`
	Before uint64    `query:"before" doc:"ID below which to go on"`
	Limit  int       `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"how many at most"`
}

func (f AuditFilter) of(estate uint64, limit int) store.RecordFilter {
	return store.RecordFilter{
		Estate: estate, Who: f.Who, Action: f.Action, Text: f.Text, Since: f.Since.UTC(), Until: f.Until.UTC(), Before: f.Before, Limit: limit,
	}
}

func lineOfRecord(r store.Record) AuditLine {
	return AuditLine{ID: r.ID, At: r.At, Who: r.Who, Origin: r.Origin, Request: r.Request, Action: r.Action, Draft: r.Draft, Object: r.Object}
}

func recordOf(r store.Record) AuditRecord {
	out := AuditRecord{AuditLine: lineOfRecord(r)}
	if r.BeforeIt != nil {
		out.Before = json.RawMessage(*r.BeforeIt)
	}
	if r.AfterIt != nil {
		out.After = json.RawMessage(*r.AfterIt)
	}
	return out
}

func linesOf(rows []store.Record) []AuditLine {
	out := make([]AuditLine, len(rows))
	for i, r := range rows {
		out[i] = lineOfRecord(r)
	}
	return out
}

// exported is how many records an export reads at once.
const exported = 50

func (s *Server) audit(a huma.API) {
	huma.Register(a, operation("list-audit", http.MethodGet, "/api/estates/{estate}/audit", "List what was done to an estate, newest first, without what it changed"),
		func(ctx context.Context, in *struct {
			InEstate
			AuditFilter
		}) (*struct{ Body []AuditLine }, error) {
			rows, err := s.Office.RecordLines(ctx, in.of(accessOf(ctx).estate.ID, in.Limit))
			return &struct{ Body []AuditLine }{linesOf(rows)}, refusal(err)
		})
	huma.Register(a, operation("get-audit-record", http.MethodGet, "/api/estates/{estate}/audit/{record}", "Read what was changed by something that was done"),
		func(ctx context.Context, in *struct {
			InEstate
			Record uint64 `path:"record" minimum:"1"`
		}) (*struct{ Body AuditRecord }, error) {
			row, err := s.Office.Record(ctx, accessOf(ctx).estate.ID, in.Record)
			return &struct{ Body AuditRecord }{recordOf(row)}, refusal(err)
		})
	huma.Register(a, operation("list-server-audit", http.MethodGet, "/api/audit", "List what was done to accounts and sessions, newest first"),
		func(ctx context.Context, in *AuditFilter) (*struct{ Body []AuditLine }, error) {
			rows, err := s.Office.RecordLines(ctx, in.of(0, in.Limit))
			return &struct{ Body []AuditLine }{linesOf(rows)}, refusal(err)
		})
	huma.Register(a, files(operation("export-audit", http.MethodGet, "/api/estates/{estate}/audit.{format}", "Export the audit"), "text/csv", "application/json"),
		func(ctx context.Context, in *struct {
			InEstate
			Format string    `path:"format" enum:"csv,json"`
			Who    string    `query:"who" maxLength:"200"`
			Action string    `query:"action" maxLength:"40"`
			Text   string    `query:"text" maxLength:"200"`
			Since  time.Time `query:"since"`
			Until  time.Time `query:"until"`
		}) (*huma.StreamResponse, error) {
			filter := AuditFilter{Who: in.Who, Action: in.Action, Text: in.Text, Since: in.Since, Until: in.Until}.of(accessOf(ctx).estate.ID, exported)
			write, kind := auditSheet, "text/csv; charset=utf-8"
			if in.Format == "json" {
				write, kind = auditJSON, "application/json"
			}
			return s.streamed(ctx, kind, in.Estate+"-audit."+in.Format, func(ctx context.Context, w io.Writer) error {
				return write(w, func() ([]store.Record, error) {
					rows, err := s.Office.Records(ctx, filter)
					if len(rows) > 0 {
						filter.Before = rows[len(rows)-1].ID
					}
					return rows, errors.Join(err, ctx.Err())
				})
			})
		})
}

// auditSheet writes records as RFC 4180 CSV, as many as next gives.
func auditSheet(out io.Writer, next func() ([]store.Record, error)) error {
	w := csv.NewWriter(out)
	_ = w.Write([]string{"id", "at", "who", "origin", "request", "action", "draft", "object", "before", "after"}) // Flush tells
	for {
		rows, err := next()
		if err != nil || len(rows) == 0 {
			w.Flush()
			return errors.Join(err, w.Error())
		}
		for _, r := range rows {
			text := func(s *string) string {
				if s == nil {
					return ""
				}
				return *s
			}
			cells := []string{strconv.FormatUint(r.ID, 10), r.At.Format(time.RFC3339Nano), r.Who, r.Origin, r.Request, r.Action, r.Draft, r.Object, text(r.BeforeIt), text(r.AfterIt)}
			for i, c := range cells {
				cells[i] = estate.SafeCell(c)
			}
			_ = w.Write(cells)
		}
		if w.Flush(); w.Error() != nil {
			return w.Error()
		}
	}
}

// auditJSON writes records as a list.
func auditJSON(out io.Writer, next func() ([]store.Record, error)) error {
	before := "[\n"
	for {
		rows, err := next()
		if err != nil {
			return err
		}
		for _, r := range rows {
			text, err := json.Marshal(recordOf(r))
			if err != nil {
				return err
			}
			if _, err := out.Write(append([]byte(before), text...)); err != nil {
				return err
			}
			before = ",\n"
		}
		if len(rows) == 0 {
			break
		}
	}
	end := "\n]\n"
	if before == "[\n" {
		end = "[]\n"
	}
	_, err := io.WriteString(out, end)
	return err
}
