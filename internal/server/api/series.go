package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/gateway"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/series"
)

// SeriesQuery asks for one end of a tunnel, or for a WAN link.
type SeriesQuery struct {
	InEstate
	Site      string    `query:"site" required:"true" maxLength:"48"`
	Interface string    `query:"interface" maxLength:"15" doc:"of a tunnel at the site's gateway"`
	Link      string    `query:"link" maxLength:"48" doc:"a WAN link of the site, in place of interface"`
	From      time.Time `query:"from" required:"true"`
	To        time.Time `query:"to" required:"true"`
}

func (s *Server) readSeries(ctx context.Context, in *SeriesQuery) (*series.Series, error) {
	if (in.Interface == "") == (in.Link == "") {
		return nil, &identity.Refused{Field: "interface", Text: "a series is of an interface or of a link"}
	}
	out, err := series.Read(ctx, s.Store, accessOf(ctx).estate.ID, series.Query{Site: in.Site, Interface: in.Interface, Link: in.Link, From: in.From, To: in.To})
	return out, refusedTime(err)
}

func refusedTime(err error) error {
	if errors.Is(err, series.ErrQuery) {
		return &identity.Refused{Field: "from", Text: err.Error()}
	}
	return err
}

func (s *Server) series(a huma.API) {
	huma.Register(a, operation("get-series", http.MethodGet, "/api/estates/{estate}/series", "Tell what was measured of a tunnel or of a WAN link over time"),
		func(ctx context.Context, in *SeriesQuery) (*struct{ Body *series.Series }, error) {
			out, err := s.readSeries(ctx, in)
			return &struct{ Body *series.Series }{out}, refusal(err)
		})
	huma.Register(a, files(operation("export-series", http.MethodGet, "/api/estates/{estate}/series.csv", "Take what was measured away as a sheet"), "text/csv"),
		func(ctx context.Context, in *SeriesQuery) (*file, error) {
			out, err := s.readSeries(ctx, in)
			if err != nil {
				return nil, refusal(err)
			}
			data, err := out.CSV()
			return attached("text/csv; charset=utf-8", in.Estate+"-"+in.Site+"-"+in.Interface+in.Link+".csv", data), refusal(err)
		})
	huma.Register(a, operation("get-carried", http.MethodGet, "/api/estates/{estate}/carried", "Tell which tunnels carried packets from a site to another, and when"),
		func(ctx context.Context, in *struct {
			InEstate
			Site  string    `query:"site" required:"true" maxLength:"48"`
			Other string    `query:"other" required:"true" maxLength:"48"`
			From  time.Time `query:"from" required:"true"`
			To    time.Time `query:"to" required:"true"`
		}) (*struct{ Body *series.Carried }, error) {
			target, err := s.Desk.Target(ctx, in.Estate, in.Other)
			if err != nil {
				return nil, refusal(err)
			}
			ran := func(site, digest string) (*gateway.Config, error) { return s.Desk.RanAt(ctx, in.Estate, site, digest) }
			out, err := series.ReadPair(ctx, s.Store, accessOf(ctx).estate.ID, series.PairQuery{Site: in.Site, Other: in.Other, Target: target, From: in.From, To: in.To, Ran: ran})
			return &struct{ Body *series.Carried }{out}, refusal(refusedTime(err))
		})
}
