package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/internal/server/events"
)

// NewListener is a listener with the secret that signs what it is sent, told once.
type NewListener struct {
	ID     uint64 `json:"id"`
	Secret string `json:"secret,omitempty"`
}

// mostEvents is how many events a sheet holds.
const mostEvents = 100_000

// EventQuery says which events are wanted.
type EventQuery struct {
	InEstate
	After  uint64 `query:"after" doc:"a number: the next events after it, oldest first"`
	Before uint64 `query:"before" doc:"a number: the events before it, newest first"`
	Kind   string `query:"kind" enum:",began,ended,joined"`
	Code   string `query:"code" maxLength:"32"`
	Site   string `query:"site" maxLength:"40"`
}

func (q *EventQuery) query(most int) events.Query {
	return events.Query{After: q.After, Before: q.Before, Kind: q.Kind, Code: q.Code, Site: q.Site, Most: most}
}

// Long as a list of operations is.
func (s *Server) listeners(a huma.API) {
	huma.Register(a, operation("list-events", http.MethodGet, "/api/estates/{estate}/events", "List what was not as designed, one event for one cause"),
		func(ctx context.Context, in *struct {
			EventQuery
			Most int `query:"most" minimum:"1" maximum:"1000" default:"200"`
		}) (*struct{ Body []events.Event }, error) {
			out, err := events.List(ctx, s.Store, accessOf(ctx).estate.ID, in.query(in.Most))
			return &struct{ Body []events.Event }{out}, refusal(err)
		})
	huma.Register(a, files(operation("export-events", http.MethodGet, "/api/estates/{estate}/events.csv", "Take events away as a sheet"), "text/csv"),
		func(ctx context.Context, in *EventQuery) (*file, error) {
			list, err := events.List(ctx, s.Store, accessOf(ctx).estate.ID, in.query(mostEvents))
			if err != nil {
				return nil, refusal(err)
			}
			data, err := events.CSV(list)
			return attached("text/csv; charset=utf-8", in.Estate+"-events.csv", data), refusal(err)
		})
	huma.Register(a, operation("list-listeners", http.MethodGet, "/api/estates/{estate}/listeners", "List who is told of events"),
		func(ctx context.Context, in *InEstate) (*struct{ Body []events.Listening }, error) {
			out, err := events.Listeners(ctx, s.Store, accessOf(ctx).estate.ID)
			return &struct{ Body []events.Listening }{out}, refusal(err)
		})
	huma.Register(a, operation("add-listener", http.MethodPost, "/api/estates/{estate}/listeners", "Let a webhook or a mailbox be told of events"),
		func(ctx context.Context, in *struct {
			InEstate
			Body events.ListenerOrder
		}) (*struct{ Body NewListener }, error) {
			id, secret, err := events.Add(ctx, s.Store, s.Teller, s.Sealer, accessOf(ctx).estate.ID, in.Body)
			return &struct{ Body NewListener }{NewListener{id, secret}}, refusal(err)
		})
	huma.Register(a, operation("delete-listener", http.MethodDelete, "/api/estates/{estate}/listeners/{listener}", "Tell a listener nothing more"),
		func(ctx context.Context, in *struct {
			InEstate
			ID uint64 `path:"listener"`
		}) (*struct{}, error) {
			return nil, refusal(events.Drop(ctx, s.Store, accessOf(ctx).estate.ID, in.ID))
		})
	huma.Register(a, operation("list-windows", http.MethodGet, "/api/estates/{estate}/windows", "List windows of maintenance, in which nobody is told"),
		func(ctx context.Context, in *InEstate) (*struct{ Body []events.Window }, error) {
			out, err := events.Windows(ctx, s.Store, accessOf(ctx).estate.ID)
			return &struct{ Body []events.Window }{out}, refusal(err)
		})
	huma.Register(a, operation("add-window", http.MethodPost, "/api/estates/{estate}/windows", "Announce a window of maintenance"),
		func(ctx context.Context, in *struct {
			InEstate
			Body events.Window
		}) (*struct {
			Body struct {
				ID uint64 `json:"id"`
			}
		}, error) {
			if in.Body.Site != "" {
				if err := s.knowsSite(ctx, InGateway{in.InEstate, in.Body.Site}); err != nil {
					return nil, err
				}
			}
			id, err := events.AddWindow(ctx, s.Store, accessOf(ctx).estate.ID, in.Body)
			out := &struct {
				Body struct {
					ID uint64 `json:"id"`
				}
			}{}
			out.Body.ID = id
			return out, refusal(err)
		})
	huma.Register(a, operation("delete-window", http.MethodDelete, "/api/estates/{estate}/windows/{window}", "Take a window of maintenance back"),
		func(ctx context.Context, in *struct {
			InEstate
			Window uint64 `path:"window"`
		}) (*struct{}, error) {
			return nil, refusal(events.DropWindow(ctx, s.Store, accessOf(ctx).estate.ID, in.Window))
		})
}
