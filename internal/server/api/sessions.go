package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/gateway"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/events"
	"wideknot/internal/server/identity"
)

// SessionsOrder is a tunnel by its interface at a site's gateway, and what of its sessions is ended.
type SessionsOrder struct {
	Site      string        `json:"site" maxLength:"48"`
	Interface string        `json:"interface" maxLength:"15"`
	Reset     gateway.Reset `json:"reset,omitempty" enum:",keys,flows" doc:"nothing when it is not given: sessions are listed only"`
}

func (s *Server) sessions(a huma.API) {
	huma.Register(a, operation("list-tunnel-sessions", http.MethodPost, "/api/estates/{estate}/sessions", "Let a gateway tell what is open by one of its tunnels, or end it, in a window of maintenance of one of the tunnel's ends"),
		func(ctx context.Context, in *struct {
			InEstate
			Body SessionsOrder
		}) (*struct{ Body *desk.Sessions }, error) {
			peer, err := s.Desk.PeerOf(ctx, in.Estate, in.Body.Site, in.Body.Interface)
			if err != nil {
				return nil, refusal(err)
			}
			open, err := events.IsOpen(ctx, s.Store, accessOf(ctx).estate.ID, in.Body.Site, peer)
			if err != nil {
				return nil, refusal(err)
			}
			if !open {
				return nil, refusal(&identity.Refused{Field: "site", Text: "sessions are listed and reset in a window of maintenance only: announce one of " + in.Body.Site + " or " + peer + " first, on the page of events"})
			}
			out, err := s.Desk.Sessions(ctx, in.Estate, in.Body.Site, peer, gateway.SessionsOrder{Interface: in.Body.Interface, Reset: in.Body.Reset})
			return &struct{ Body *desk.Sessions }{out}, refusal(err)
		})
}
