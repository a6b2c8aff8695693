package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// AccountLine is an account of the server.
type AccountLine struct {
	ID            uint64 `json:"id"`
	Email         string `json:"email"`
	Name          string `json:"name"`
	Administrator bool   `json:"administrator"`
	Closed        bool   `json:"closed"`
	Ready         bool   `json:"ready" doc:"has a password, or signed in by the provider before"`
}

// WithLink is an answer with a one-time link to hand on.
type WithLink struct {
	Link string `json:"link" doc:"path of the page where the holder sets a password, once, within 72 hours; empty when none is needed"`
}

// Person is a member of an estate.
type Person struct {
	Account uint64        `json:"account"`
	Email   string        `json:"email"`
	Name    string        `json:"name"`
	Role    identity.Role `json:"role" enum:"reader,planner,operator,owner"`
	Closed  bool          `json:"closed"`
}

// linkPath is the page of a one-time link. Its secret is in the fragment,
// which browsers send to nobody.
func linkPath(secret string) string {
	if secret == "" {
		return ""
	}
	return "/welcome#" + secret
}

func lineOf(a store.Account) AccountLine {
	return AccountLine{a.ID, a.Email, a.Name, a.Administrator, a.ClosedAt != nil, a.Password != "" || a.Subject != nil}
}

func (s *Server) accounts(a huma.API) {
	huma.Register(a, operation("list-accounts", http.MethodGet, "/api/accounts", "List all accounts of the server"),
		func(ctx context.Context, in *Page) (*linked[AccountLine], error) {
			list, err := s.Office.Accounts(ctx)
			if err != nil {
				return nil, refusal(err)
			}
			out := make([]AccountLine, len(list))
			for i, one := range list {
				out[i] = lineOf(one)
			}
			return linkedTo(ctx, *in, out, func(a AccountLine) string { return a.Email })
		})
	huma.Register(a, making("add-account", "/api/accounts", "Make an account, and a link for its holder to set a password"),
		func(ctx context.Context, in *struct {
			Body struct {
				Email         string `json:"email" maxLength:"200"`
				Name          string `json:"name,omitempty" maxLength:"200"`
				Administrator bool   `json:"administrator,omitempty"`
			}
		}) (*made[WithLink], error) {
			account, secret, err := s.Office.AddAccount(ctx, in.Body.Email, in.Body.Name, in.Body.Administrator)
			return madeAt(fmt.Sprintf("/api/accounts/%d", account.ID), WithLink{linkPath(secret)}, err)
		})
	huma.Register(a, operation("set-account", http.MethodPut, "/api/accounts/{account}", "Close or open an account, or make it an administrator"),
		func(ctx context.Context, in *struct {
			Account uint64 `path:"account"`
			Body    struct {
				Closed        bool `json:"closed"`
				Administrator bool `json:"administrator"`
			}
		}) (*struct{ Body AccountLine }, error) {
			account, err := s.Office.SetAccount(ctx, in.Account, in.Body.Closed, in.Body.Administrator)
			return &struct{ Body AccountLine }{lineOf(account)}, refusal(err)
		})
	huma.Register(a, operation("make-link", http.MethodPost, "/api/accounts/{account}/link", "Make a new link for the holder of an account to set a password"),
		func(ctx context.Context, in *struct {
			Account uint64 `path:"account"`
		}) (*struct{ Body WithLink }, error) {
			secret, err := s.Office.NewLink(ctx, in.Account)
			return &struct{ Body WithLink }{WithLink{linkPath(secret)}}, refusal(err)
		})
}

func (s *Server) people(a huma.API) {
	huma.Register(a, operation("list-people", http.MethodGet, "/api/estates/{estate}/people", "List who may see an estate"),
		func(ctx context.Context, _ *InEstate) (*struct{ Body []Person }, error) {
			list, err := s.Office.Members(ctx, accessOf(ctx).estate.ID)
			out := make([]Person, len(list))
			for i, m := range list {
				out[i] = Person{m.ID, m.Email, m.Name, identity.Role(m.Role), m.ClosedAt != nil}
			}
			return &struct{ Body []Person }{out}, refusal(err)
		})
	huma.Register(a, operation("set-person", http.MethodPut, "/api/estates/{estate}/people", "Give someone a role; an account is made where there is none"),
		func(ctx context.Context, in *struct {
			InEstate
			Body struct {
				Email string        `json:"email" maxLength:"200"`
				Role  identity.Role `json:"role" enum:"reader,planner,operator,owner"`
			}
		}) (*struct{ Body WithLink }, error) {
			secret, err := s.Office.SetMember(ctx, accessOf(ctx).estate.ID, in.Body.Email, in.Body.Role)
			return &struct{ Body WithLink }{WithLink{linkPath(secret)}}, refusal(err)
		})
	huma.Register(a, operation("remove-person", http.MethodDelete, "/api/estates/{estate}/people/{account}", "Take someone's role away"),
		func(ctx context.Context, in *struct {
			InEstate
			Account uint64 `path:"account"`
		}) (*struct{}, error) {
			return nil, refusal(s.Office.DeleteMember(ctx, accessOf(ctx).estate.ID, in.Account))
		})
}
