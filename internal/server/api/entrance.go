package api

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// Entrance is what a page needs to let someone sign in.
type Entrance struct {
	Version  string       `json:"version"`
	Provider string       `json:"provider" doc:"name of the OpenID Connect provider; empty without one"`
	Demo     *DemoAccount `json:"demo,omitempty"`
}

// journeyCookie keeps the sealed journey while someone is at the provider.
const journeyCookie = "wideknot-journey"

// Long as a list of operations is.
func (s *Server) entrance(a huma.API) {
	huma.Register(a, operation("get-entrance", http.MethodGet, "/api/entrance", "Learn how one can sign in"),
		func(context.Context, *struct{}) (*struct{ Body Entrance }, error) {
			out := Entrance{Version: s.Version, Demo: s.Demo}
			if s.Provider != nil {
				out.Provider = s.Provider.Name
			}
			return &struct{ Body Entrance }{out}, nil
		})
	huma.Register(a, operation("sign-in", http.MethodPost, "/api/session", "Sign in"),
		func(ctx context.Context, in *struct {
			Agent string `header:"User-Agent"`
			Body  struct {
				Email    string `json:"email" maxLength:"200"`
				Password string `json:"password" maxLength:"1000"`
			}
		}) (*struct{}, error) {
			secret, err := s.Office.SignIn(ctx, strings.TrimSpace(in.Body.Email), in.Body.Password, in.Agent)
			if err != nil {
				return nil, refusal(err)
			}
			s.setSession(accessOf(ctx).c, secret)
			return nil, nil
		})
	huma.Register(a, operation("check-link", http.MethodPost, "/api/links/check", "Learn whose password a one-time link sets"),
		func(ctx context.Context, in *struct {
			Body struct {
				Link string `json:"link" maxLength:"100"`
			}
		}) (*struct{ Body Invited }, error) {
			account, err := s.Office.LinkFor(ctx, in.Body.Link)
			return &struct{ Body Invited }{Invited{account.Email, account.Name, account.Email == "administrator"}}, refusal(err)
		})
	huma.Register(a, operation("use-link", http.MethodPost, "/api/links/use", "Set a password by a one-time link, and sign in"),
		func(ctx context.Context, in *struct {
			Agent string `header:"User-Agent"`
			Body  struct {
				Link     string `json:"link" maxLength:"100"`
				Email    string `json:"email,omitempty" maxLength:"200" doc:"of the first administrator; others have one"`
				Name     string `json:"name" maxLength:"200"`
				Password string `json:"password" maxLength:"1000"`
			}
		}) (*struct{}, error) {
			account, err := s.Office.UseLink(ctx, in.Body.Link, in.Body.Email, in.Body.Name, in.Body.Password)
			if err != nil {
				return nil, refusal(err)
			}
			secret, err := s.Office.Open(ctx, account, in.Agent)
			if err != nil {
				return nil, refusal(err)
			}
			s.setSession(accessOf(ctx).c, secret)
			return nil, nil
		})
	redirect := func(id, path, summary string, handler fiber.Handler) {
		op := operation(id, http.MethodGet, path, summary)
		op.Responses = map[string]*huma.Response{"303": {Description: "where to go on"}}
		a.OpenAPI().AddOperation(&op)
		a.Adapter().(adapter).add(&op, handler)
	}
	redirect("depart", "/api/provider/depart", "Go to the OpenID Connect provider to sign in", s.depart)
	redirect("arrive", "/api/provider/arrive", "Come back from the OpenID Connect provider", s.arrive)
}

// Invited is whom a one-time link is for.
type Invited struct {
	Email string `json:"email"`
	Name  string `json:"name"`
	First bool   `json:"first" doc:"the first administrator, who still chooses an e-mail address"`
}

func (s *Server) depart(c fiber.Ctx) error {
	if s.Provider == nil {
		return fiber.NewError(http.StatusNotFound, "no OpenID Connect provider is set")
	}
	address, journey, err := s.Office.Depart(c.Context(), s.Provider, s.Sealer, c.Query("to"))
	if err != nil {
		return problemAtEntrance(c, "away")
	}
	c.Cookie(s.cookie(journeyCookie, journey, "/api/provider", fiber.CookieSameSiteLaxMode, 10*time.Minute))
	return c.Redirect().Status(http.StatusSeeOther).To(address)
}

func (s *Server) arrive(c fiber.Ctx) error {
	if s.Provider == nil {
		return fiber.NewError(http.StatusNotFound, "no OpenID Connect provider is set")
	}
	c.Cookie(s.cookie(journeyCookie, "", "/api/provider", fiber.CookieSameSiteLaxMode, -time.Second))
	if c.Query("error") != "" {
		return problemAtEntrance(c, "refused")
	}
	secret, to, err := s.Office.Arrive(c.Context(), s.Provider, s.Sealer, strings.Clone(c.Cookies(journeyCookie)),
		strings.Clone(c.Query("state")), strings.Clone(c.Query("code")), strings.Clone(c.Get("User-Agent")))
	var refused *identity.Refused
	switch {
	case errors.As(err, &refused):
		return problemAtEntrance(c, refused.Code)
	case errors.Is(err, identity.ErrJourney):
		return problemAtEntrance(c, "journey")
	case errors.Is(err, store.ErrAway):
		return problemAtEntrance(c, "database")
	case err != nil:
		return err
	}
	s.setSession(c, secret)
	return c.Redirect().Status(http.StatusSeeOther).To(to)
}

// problemAtEntrance sends a browser back to the page where one signs in, which
// has words of its own for each of a few codes: a link cannot put any there.
func problemAtEntrance(c fiber.Ctx, code string) error {
	return c.Redirect().Status(http.StatusSeeOther).To("/sign-in?problem=" + url.QueryEscape(code))
}
