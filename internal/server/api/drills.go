package api

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/csv"
	"fmt"
	"html/template"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/drill"
	"wideknot/core/outage"
	"wideknot/internal/server/drills"
)

// DrillForesight is what a drill would do, by the release in force.
type DrillForesight struct {
	Release uint64 `json:"release"`
	drill.Prediction
}

// InDrill is a drill of an estate.
type InDrill struct {
	InEstate
	Drill uint64 `path:"drill"`
}

// Long as a list of operations is.
func (s *Server) drills(a huma.API) {
	office := &drills.Office{Store: s.Store, Desk: s.Desk}
	huma.Register(a, operation("foresee-drill", http.MethodGet, "/api/estates/{estate}/drills/next", "Say what a drill of a part would do"),
		func(ctx context.Context, in *struct {
			InEstate
			Part string `query:"part" required:"true" maxLength:"200"`
		}) (*struct{ Body DrillForesight }, error) {
			p, release, err := office.Predict(ctx, in.Estate, in.Part)
			if err != nil {
				return nil, refusal(err)
			}
			for i := range p.Sites {
				p.Sites[i].Ways = nil
			}
			return &struct{ Body DrillForesight }{DrillForesight{release, *p}}, nil
		})
	huma.Register(a, operation("start-drill", http.MethodPost, "/api/estates/{estate}/drills", "Let gateways hold a part's tunnels down for a time, or take them for slow or lossy, in a window of maintenance"),
		func(ctx context.Context, in *struct {
			InEstate
			Body drills.Order
		}) (*struct{ Body *drills.Drill }, error) {
			out, err := office.Start(ctx, in.Estate, in.Body)
			return &struct{ Body *drills.Drill }{out}, refusal(err)
		})
	huma.Register(a, operation("list-drills", http.MethodGet, "/api/estates/{estate}/drills", "List drills, the newest first"),
		func(ctx context.Context, in *InEstate) (*struct{ Body []drills.Drill }, error) {
			out, err := office.List(ctx, in.Estate)
			return &struct{ Body []drills.Drill }{out}, refusal(err)
		})
	huma.Register(a, operation("get-drill", http.MethodGet, "/api/estates/{estate}/drills/{drill}", "Tell what was seen in a drill, second by second"),
		func(ctx context.Context, in *InDrill) (*struct{ Body *drills.Detail }, error) {
			out, err := office.Get(ctx, in.Estate, in.Drill)
			return &struct{ Body *drills.Detail }{out}, refusal(err)
		})
	huma.Register(a, operation("stop-drill", http.MethodPost, "/api/estates/{estate}/drills/{drill}/stop", "Let go what a drill holds down"),
		func(ctx context.Context, in *InDrill) (*struct{}, error) {
			return nil, refusal(office.Stop(ctx, in.Estate, in.Drill))
		})
	huma.Register(a, files(operation("export-drill", http.MethodGet, "/api/estates/{estate}/drills/{drill}/points.csv", "Take what was seen in a drill away as a sheet"), "text/csv"),
		func(ctx context.Context, in *InDrill) (*file, error) {
			d, err := office.Get(ctx, in.Estate, in.Drill)
			if err != nil {
				return nil, refusal(err)
			}
			data, err := drillSheet(d)
			return attached("text/csv; charset=utf-8", fmt.Sprintf("%s-drill-%d.csv", in.Estate, d.Number), data), refusal(err)
		})
	huma.Register(a, files(operation("report-drill", http.MethodGet, "/api/estates/{estate}/drills/{drill}/report.html", "Take a drill away as a page of HTML, to print or to send"), "text/html"),
		func(ctx context.Context, in *InDrill) (*file, error) {
			d, err := office.Get(ctx, in.Estate, in.Drill)
			if err != nil {
				return nil, refusal(err)
			}
			var out bytes.Buffer
			err = drillReport.Execute(&out, struct {
				Estate string
				*drills.Detail
			}{in.Estate, d})
			return attached("text/html; charset=utf-8", fmt.Sprintf("%s-drill-%d.html", in.Estate, d.Number), out.Bytes()), refusal(err)
		})
}

//go:embed drill.html
var drillText string

var drillReport = template.Must(template.New("drill").Funcs(template.FuncMap{
	"style": func() template.CSS { return template.CSS(reportStyle) }, // ours
	"known": func(n *int) bool { return n != nil },
	"join":  func(list []string) string { return strings.Join(list, "; ") },
}).Parse(drillText))

func drillSheet(d *drills.Detail) ([]byte, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	are := "dead"
	if d.Prediction.Degree != outage.Dead {
		are = "beyond limits"
	}
	if err := w.Write([]string{"second", "ends " + are, "ends to be " + are, "ways as predicted", "ways", "other ends " + are, "gateways unheard", "differs"}); err != nil {
		return nil, err
	}
	for i := range d.Points {
		p := &d.Points[i]
		var line []string
		for _, n := range []int{p.Second, p.Dead, p.Ends, p.Ways, p.AllWays, p.Others, p.Unheard} {
			line = append(line, strconv.Itoa(n))
		}
		if err := w.Write(append(line, strings.Join(p.Wrong, "; "))); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return out.Bytes(), w.Error()
}
