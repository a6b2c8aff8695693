package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/internal/server/desk"
	"wideknot/internal/server/events"
	"wideknot/internal/server/identity"
)

// BenchOrder is a tunnel by its interface at a site's gateway.
type BenchOrder struct {
	Site      string `json:"site" maxLength:"48"`
	Interface string `json:"interface" maxLength:"15"`
}

func (s *Server) bench(a huma.API) {
	huma.Register(a, operation("bench-tunnel", http.MethodPost, "/api/estates/{estate}/benches", "Load a tunnel, one way and then the other, in a window of maintenance of one of its ends"),
		func(ctx context.Context, in *struct {
			InEstate
			Body BenchOrder
		}) (*struct{ Body []desk.BenchRun }, error) {
			b, err := s.Desk.BenchOf(ctx, in.Estate, in.Body.Site, in.Body.Interface)
			if err != nil {
				return nil, refusal(err)
			}
			open, err := events.IsOpen(ctx, s.Store, accessOf(ctx).estate.ID, b.Ends[0].Site, b.Ends[1].Site)
			if err != nil {
				return nil, refusal(err)
			}
			if !open {
				return nil, refusal(&identity.Refused{Field: "site", Text: "what is sent takes the place of other traffic for some seconds: announce a window of maintenance of " + b.Ends[0].Site + " or " + b.Ends[1].Site + " first, on the page of events"})
			}
			out, err := s.Desk.Bench(ctx, b)
			return &struct{ Body []desk.BenchRun }{out}, refusal(err)
		})
	huma.Register(a, operation("get-bench", http.MethodGet, "/api/estates/{estate}/benches/next", "Say how a tunnel would be loaded"),
		func(ctx context.Context, in *struct {
			InEstate
			Site      string `query:"site" required:"true" maxLength:"48"`
			Interface string `query:"interface" required:"true" maxLength:"15"`
		}) (*struct{ Body BenchNext }, error) {
			b, err := s.Desk.BenchOf(ctx, in.Estate, in.Site, in.Interface)
			if err != nil {
				return nil, refusal(err)
			}
			open, err := events.IsOpen(ctx, s.Store, accessOf(ctx).estate.ID, b.Ends[0].Site, b.Ends[1].Site)
			return &struct{ Body BenchNext }{BenchNext{b.Ends[:], open}}, refusal(err)
		})
	huma.Register(a, operation("list-benches", http.MethodGet, "/api/estates/{estate}/benches", "List what tunnels from or towards a site passed, the newest first"),
		func(ctx context.Context, in *struct {
			InEstate
			Site string `query:"site" required:"true" maxLength:"48"`
		}) (*struct{ Body []desk.BenchRun }, error) {
			out, err := s.Desk.Benches(ctx, in.Estate, in.Site, benchDays)
			return &struct{ Body []desk.BenchRun }{out}, refusal(err)
		})
}

// benchDays is how far back benches are listed.
const benchDays = 365

// BenchNext is how a tunnel would be loaded.
type BenchNext struct {
	Ends []desk.BenchRun `json:"ends" doc:"one way, then the other"`
	Open bool            `json:"open" doc:"a window of maintenance of one of its ends is open"`
}
