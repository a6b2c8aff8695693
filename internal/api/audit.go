package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/internal/store"
)

// AuditRecord says who did what.
type AuditRecord struct {
	ID      uint64          `json:"id"`
	At      time.Time       `json:"at"`
	Who     string          `json:"who"`
	Origin  string          `json:"origin" doc:"network address, and the token's name"`
	Request string          `json:"request"`
	Action  string          `json:"action" doc:"family.verb"`
	Draft   string          `json:"draft"`
	Object  string          `json:"object"`
	Before  json.RawMessage `json:"before,omitempty"`
	After   json.RawMessage `json:"after,omitempty"`
}

// AuditFilter chooses records.
type AuditFilter struct {
	Who    string    `query:"who" maxLength:"200"`
	Action string    `query:"action" maxLength:"40" doc:"an action, or a family with its dot, such as draft."`
	Text   string    `query:"text" maxLength:"200" doc:"in the object, or the draft's key"`
	Since  time.Time `query:"since"`
	Until  time.Time `query:"until"`
	Before uint64    `query:"before" doc:"ID below which to go on"`
}

func (f AuditFilter) of(estate uint64, limit int) store.RecordFilter {
	return store.RecordFilter{
		Estate: estate, Who: f.Who, Action: f.Action, Text: f.Text, Since: f.Since.UTC(), Until: f.Until.UTC(), Before: f.Before, Limit: limit,
	}
}

func recordOf(r store.Record) AuditRecord {
	out := AuditRecord{ID: r.ID, At: r.At, Who: r.Who, Origin: r.Origin, Request: r.Request, Action: r.Action, Draft: r.Draft, Object: r.Object}
	if r.BeforeIt != nil {
		out.Before = json.RawMessage(*r.BeforeIt)
	}
	if r.AfterIt != nil {
		out.After = json.RawMessage(*r.AfterIt)
	}
	return out
}

func recordsOf(rows []store.Record) []AuditRecord {
	out := make([]AuditRecord, len(rows))
	for i, r := range rows {
		out[i] = recordOf(r)
	}
	return out
}

// page is how many records are listed at once; mostExported how many an export
// holds.
const (
	page         = 100
	mostExported = 50000
)

func (s *Server) audit(a huma.API) {
	huma.Register(a, operation("list-audit", http.MethodGet, "/api/estates/{estate}/audit", "List what was done to an estate, newest first, a hundred at a time"),
		func(ctx context.Context, in *struct {
			InEstate
			AuditFilter
		}) (*struct{ Body []AuditRecord }, error) {
			rows, err := s.Office.Records(ctx, in.of(accessOf(ctx).estate.ID, page))
			return &struct{ Body []AuditRecord }{recordsOf(rows)}, refusal(err)
		})
	huma.Register(a, operation("list-server-audit", http.MethodGet, "/api/audit", "List what was done to accounts and sessions, newest first"),
		func(ctx context.Context, in *AuditFilter) (*struct{ Body []AuditRecord }, error) {
			rows, err := s.Office.Records(ctx, in.of(0, page))
			return &struct{ Body []AuditRecord }{recordsOf(rows)}, refusal(err)
		})
	huma.Register(a, operation("export-audit", http.MethodGet, "/api/estates/{estate}/audit.{format}", "Export the audit"),
		func(ctx context.Context, in *struct {
			InEstate
			AuditFilter
			Format string `path:"format" enum:"csv,json"`
		}) (*file, error) {
			rows, err := s.Office.Records(ctx, in.of(accessOf(ctx).estate.ID, mostExported))
			if err != nil {
				return nil, refusal(err)
			}
			name := in.Estate + "-audit." + in.Format
			if in.Format == "json" {
				text, err := json.MarshalIndent(recordsOf(rows), "", "  ")
				return attached("application/json", name, text), refusal(err)
			}
			return attached("text/csv; charset=utf-8", name, auditSheet(rows)), nil
		})
}

// auditSheet writes records as RFC 4180 CSV.
func auditSheet(rows []store.Record) []byte {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	_ = w.Write([]string{"id", "at", "who", "origin", "request", "action", "draft", "object", "before", "after"}) // a bytes.Buffer takes every write
	for _, r := range rows {
		text := func(s *string) string {
			if s == nil {
				return ""
			}
			return *s
		}
		cells := []string{strconv.FormatUint(r.ID, 10), r.At.Format(time.RFC3339Nano), r.Who, r.Origin, r.Request, r.Action, r.Draft, r.Object, text(r.BeforeIt), text(r.AfterIt)}
		for i, c := range cells {
			cells[i] = plain(c)
		}
		_ = w.Write(cells)
	}
	w.Flush()
	return out.Bytes()
}

// plain keeps a spreadsheet from taking a cell for a formula.
func plain(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
		return "'" + cell
	}
	return cell
}
