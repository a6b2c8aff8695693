package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// Me is who asks.
type Me struct {
	Account       uint64 `json:"account"`
	Email         string `json:"email"`
	Administrator bool   `json:"administrator"`
}

// OpenSession is a browser that is signed in.
type OpenSession struct {
	ID      uint64    `json:"id"`
	This    bool      `json:"this" doc:"the one that asks"`
	Opened  time.Time `json:"opened"`
	Seen    time.Time `json:"seen"`
	Expires time.Time `json:"expires"`
	Address string    `json:"address"`
	Agent   string    `json:"agent"`
}

// APIToken is a token without its secret.
type APIToken struct {
	ID      uint64        `json:"id"`
	Name    string        `json:"name"`
	Role    identity.Role `json:"role" enum:"reader,planner,operator,owner" doc:"what it is good for at most"`
	Estate  string        `json:"estate" doc:"key of its only estate; empty for all of its holder"`
	Created time.Time     `json:"created"`
	Expires time.Time     `json:"expires"`
	Used    *time.Time    `json:"used,omitempty"`
}

// NewToken is a token that was just made.
type NewToken struct {
	APIToken
	Secret string `json:"secret" doc:"told now and never again"`
}

func tokenOf(t store.Token, estates map[uint64]string) APIToken {
	out := APIToken{ID: t.ID, Name: t.Name, Role: identity.Role(t.Role), Created: t.CreatedAt, Expires: t.ExpiresAt, Used: t.UsedAt}
	if t.EstateID != nil {
		out.Estate = estates[*t.EstateID]
	}
	return out
}

// Long as a list of operations is.
func (s *Server) me(a huma.API) {
	type none struct{}
	huma.Register(a, operation("get-me", http.MethodGet, "/api/me", "Learn who you are"),
		func(ctx context.Context, _ *none) (*struct{ Body Me }, error) {
			who := identity.ActorOf(ctx)
			return &struct{ Body Me }{Me{who.Account, who.Name, who.Administrator}}, nil
		})
	huma.Register(a, operation("sign-out", http.MethodDelete, "/api/session", "Sign out"),
		func(ctx context.Context, _ *none) (*none, error) {
			err := s.Office.SignOut(ctx, identity.ActorOf(ctx).Session)
			if err == nil {
				s.endSession(accessOf(ctx).c)
			}
			return nil, refusal(err)
		})
	huma.Register(a, operation("list-sessions", http.MethodGet, "/api/me/sessions", "List where you are signed in"),
		func(ctx context.Context, _ *none) (*struct{ Body []OpenSession }, error) {
			list, err := s.Office.Sessions(ctx)
			out := make([]OpenSession, len(list))
			for i, one := range list {
				out[i] = OpenSession{
					ID: one.ID, This: one.ID == identity.ActorOf(ctx).Session, Opened: one.CreatedAt, Seen: one.SeenAt,
					Expires: one.ExpiresAt, Address: one.Address, Agent: one.Agent,
				}
			}
			return &struct{ Body []OpenSession }{out}, refusal(err)
		})
	huma.Register(a, operation("end-session", http.MethodDelete, "/api/me/sessions/{session}", "Sign out somewhere else"),
		func(ctx context.Context, in *struct {
			Session uint64 `path:"session" minimum:"1"`
		}) (*none, error) {
			return nil, refusal(s.Office.SignOut(ctx, in.Session))
		})
	huma.Register(a, operation("end-sessions", http.MethodDelete, "/api/me/sessions", "Sign out everywhere"),
		func(ctx context.Context, _ *none) (*none, error) {
			err := s.Office.SignOut(ctx, 0)
			if err == nil {
				s.endSession(accessOf(ctx).c)
			}
			return nil, refusal(err)
		})
	huma.Register(a, operation("set-password", http.MethodPut, "/api/me/password", "Change your password; you are signed out everywhere else, and your API tokens end"),
		func(ctx context.Context, in *struct {
			Body struct {
				Now  string `json:"now" maxLength:"1000"`
				Next string `json:"next" maxLength:"1000"`
			}
		}) (*none, error) {
			return nil, refusal(s.Office.SetPassword(ctx, in.Body.Now, in.Body.Next))
		})
	huma.Register(a, operation("list-tokens", http.MethodGet, "/api/me/tokens", "List your API tokens"),
		func(ctx context.Context, _ *none) (*struct{ Body []APIToken }, error) {
			list, err := s.Office.Tokens(ctx)
			if err != nil {
				return nil, refusal(err)
			}
			keys, err := s.estateKeys(ctx)
			out := make([]APIToken, len(list))
			for i, t := range list {
				out[i] = tokenOf(t, keys)
			}
			return &struct{ Body []APIToken }{out}, refusal(err)
		})
	huma.Register(a, making("add-token", "/api/me/tokens", "Make an API token"),
		func(ctx context.Context, in *struct {
			Body struct {
				Name    string        `json:"name" maxLength:"100"`
				Role    identity.Role `json:"role" enum:"reader,planner,operator,owner"`
				Estate  string        `json:"estate,omitempty" maxLength:"40"`
				Expires time.Time     `json:"expires"`
			}
		}) (*made[NewToken], error) {
			row, secret, err := s.Office.AddToken(ctx, in.Body.Name, in.Body.Role, in.Body.Estate, in.Body.Expires)
			if err != nil {
				return nil, refusal(err)
			}
			out := NewToken{tokenOf(row, nil), secret}
			out.Estate = in.Body.Estate
			return madeAt(fmt.Sprintf("/api/me/tokens/%d", row.ID), out, nil)
		})
	huma.Register(a, operation("delete-token", http.MethodDelete, "/api/me/tokens/{token}", "End an API token"),
		func(ctx context.Context, in *struct {
			Token uint64 `path:"token"`
		}) (*none, error) {
			return nil, refusal(s.Office.DeleteToken(ctx, in.Token))
		})
}

func (s *Server) estateKeys(ctx context.Context) (map[uint64]string, error) {
	list, err := s.Office.Estates(ctx)
	out := make(map[uint64]string, len(list))
	for _, e := range list {
		out[e.ID] = e.Key
	}
	return out, err
}
