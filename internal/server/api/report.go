package api

import (
	"bytes"
	_ "embed"
	"html/template"
	"strings"
	"time"

	"wideknot/core/outage"

	"wideknot/internal/server/desk"
)

//go:embed report.html
var reportText string

//go:embed report.css
var reportStyle string

var report = template.Must(template.New("report").Funcs(template.FuncMap{
	"style": func() template.CSS { return template.CSS(reportStyle) }, // ours
	"join":  func(list []string) string { return strings.Join(list, ", ") },
	"gain":  func(s outage.Suggested) float64 { return s.Now - s.Then },
}).Parse(reportText))

// reportOf writes what failures do as one page of HTML, to print or to send.
func reportOf(v *desk.View, now time.Time) ([]byte, error) {
	m, failures := v.Outages()
	o := m.Grid(failures, outage.Choice{}, 100)
	var points []outage.GridRow
	for _, r := range o.Rows {
		if len(r.Lost) > 0 {
			points = append(points, r)
		}
	}
	s := m.Standing()
	s.Sites = s.Sites[:min(len(s.Sites), 100)]
	var out bytes.Buffer
	err := report.Execute(&out, struct {
		Estate, Draft string
		Revision      uint64
		At            string
		Outages       outage.Grid
		Points        []outage.GridRow
		Standing      outage.Standing
		Repair        int
		NewLink       float64
	}{v.Estate.About.Name, v.DraftName, v.Revision, now.UTC().Format("2006-01-02 15:04 UTC"), o, points, s, outage.RepairHours, outage.NewLink})
	return out.Bytes(), err
}
