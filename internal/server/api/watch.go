package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/internal/server/desk"
)

// WhyOrder asks why a packet does not arrive.
type WhyOrder struct {
	From     string `json:"from" maxLength:"64" doc:"an address, or a site: then its gateway's own address"`
	To       string `json:"to" maxLength:"64"`
	Protocol string `json:"protocol,omitempty" enum:",tcp,udp,icmp" doc:"icmp when it is not given"`
	Port     int    `json:"port,omitempty" minimum:"0" maximum:"65535"`
}

func (s *Server) watch(a huma.API) {
	huma.Register(a, operation("get-now", http.MethodGet, "/api/estates/{estate}/now", "Say what is not as designed at present, by its causes"),
		func(ctx context.Context, in *InEstate) (*struct{ Body *desk.Now }, error) {
			out, err := s.Desk.Now(ctx, in.Estate)
			return &struct{ Body *desk.Now }{out}, refusal(err)
		})
	huma.Register(a, operation("get-live-loom", http.MethodGet, "/api/estates/{estate}/loom", "Say how each pair of sites is joined at present"),
		func(ctx context.Context, in *struct {
			InEstate
			Overlay string `query:"overlay" maxLength:"40" doc:"the first one when none is given"`
			Region  string `query:"region" maxLength:"40" doc:"whose sites have rows of their own where rows are regions"`
		}) (*struct{ Body *desk.LiveLoom }, error) {
			out, err := s.Desk.LiveLoom(ctx, in.Estate, in.Overlay, in.Region)
			return &struct{ Body *desk.LiveLoom }{out}, refusal(err)
		})
	why := func(ctx context.Context, estate string, in WhyOrder, look bool) (*struct{ Body *desk.WhyAnswer }, error) {
		if in.Protocol == "" {
			in.Protocol = "icmp"
		}
		out, err := s.Desk.Why(ctx, estate, desk.Why{From: in.From, To: in.To, Protocol: in.Protocol, Port: in.Port, Look: look})
		return &struct{ Body *desk.WhyAnswer }{out}, refusal(err)
	}
	huma.Register(a, operation("get-why", http.MethodGet, "/api/estates/{estate}/why", "Say why a packet does not arrive, by what gateways reported last"),
		func(ctx context.Context, in *struct {
			InEstate
			From     string `query:"from" required:"true" maxLength:"64"`
			To       string `query:"to" required:"true" maxLength:"64"`
			Protocol string `query:"protocol" enum:",tcp,udp,icmp"`
			Port     int    `query:"port" minimum:"0" maximum:"65535"`
		}) (*struct{ Body *desk.WhyAnswer }, error) {
			return why(ctx, in.Estate, WhyOrder{in.From, in.To, in.Protocol, in.Port}, false)
		})
	huma.Register(a, operation("look-why", http.MethodPost, "/api/estates/{estate}/why", "Let gateways look, and say why a packet does not arrive"),
		func(ctx context.Context, in *struct {
			InEstate
			Body WhyOrder
		}) (*struct{ Body *desk.WhyAnswer }, error) {
			return why(ctx, in.Estate, in.Body, true)
		})
}
