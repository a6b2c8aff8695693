package api

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/requestid"

	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// cookieName is what the browser keeps the session's secret under. The prefix
// makes browsers refuse it from anywhere but this very host, over TLS.
func (s *Server) cookieName() string {
	if s.secure() {
		return "__Host-wideknot"
	}
	return "wideknot"
}

func (s *Server) secure() bool { return s.TLS || strings.HasPrefix(s.PublicURL, "https://") }

// cookie makes a cookie that scripts cannot read. A strict one is sent with
// nothing that another site caused.
func (s *Server) cookie(name, value, path string, sameSite string, age time.Duration) *fiber.Cookie {
	return &fiber.Cookie{
		Name: name, Value: value, Path: path, MaxAge: int(age.Seconds()),
		HTTPOnly: true, Secure: s.secure(), SameSite: sameSite,
	}
}

func (s *Server) setSession(c fiber.Ctx, secret string) {
	c.Cookie(s.cookie(s.cookieName(), secret, "/", fiber.CookieSameSiteStrictMode, sessionFor))
}

// sessionFor is how long the browser keeps the cookie; the server may end the
// session earlier.
const sessionFor = 14 * 24 * time.Hour

func (s *Server) endSession(c fiber.Ctx) {
	c.Cookie(s.cookie(s.cookieName(), "", "/", fiber.CookieSameSiteStrictMode, -time.Second))
}

type accessKey struct{}

// access is what a request was let in with.
type access struct {
	estate store.Estate
	role   identity.Role
	c      fiber.Ctx // for cookies; only while the request lasts
}

// digest is the SHA-256 of what the request asks for: where, and with what body.
func (a access) digest() []byte {
	sum := sha256.New()
	fmt.Fprintf(sum, "%s %s\n", a.c.Method(), a.c.Path())
	if b, ok := a.c.Locals(bodyKey{}).(*body); ok {
		sum.Write(b.digest.Sum(nil))
	}
	return sum.Sum(nil)
}

func accessOf(ctx context.Context) access {
	a, _ := ctx.Value(accessKey{}).(access)
	return a
}

// admit decides whether a request may call an operation, and tells the
// operation who calls it.
func (s *Server) admit(op *huma.Operation, c fiber.Ctx) error {
	n := permissions[op.OperationID]
	ctx := identity.WithActor(c.Context(), identity.Actor{
		Name: "stranger", Origin: s.client(c), Request: strings.Clone(requestid.FromContext(c)),
	})
	a := access{c: c}
	if !n.open {
		who, err := s.recognise(ctx, c)
		if err != nil {
			return err
		}
		ctx = identity.WithActor(ctx, who)
		switch {
		case n.session && who.Session == 0:
			return fiber.NewError(http.StatusForbidden, "a token cannot do this; sign in with a browser")
		case n.administrator && !who.Administrator:
			return fiber.NewError(http.StatusForbidden, "only an administrator may do this")
		}
		if n.role != identity.Stranger {
			if a.estate, a.role, err = s.Office.RoleIn(ctx, strings.Clone(c.Params("estate"))); errors.Is(err, store.ErrNotFound) {
				return fiber.NewError(http.StatusNotFound, "there is no such estate, or you are not a member of it")
			} else if err != nil {
				return err
			}
			if !a.role.Includes(n.role) {
				return fiber.NewError(http.StatusForbidden, "you are a "+string(a.role)+" of this estate; this takes a "+string(n.role)+". An owner can change that")
			}
		}
	}
	c.SetContext(context.WithValue(ctx, accessKey{}, a))
	return nil
}

// recognise finds out who sends a request: the holder of a token, or of a
// session. What a browser sends by itself must come from a page of ours.
func (s *Server) recognise(ctx context.Context, c fiber.Ctx) (identity.Actor, error) {
	if kind, token, ok := strings.Cut(c.Get("Authorization"), " "); ok {
		if !strings.EqualFold(kind, "Bearer") {
			return identity.Actor{}, fiber.NewError(http.StatusUnauthorized, "only bearer tokens are taken")
		}
		who, err := s.Office.ByToken(ctx, strings.TrimSpace(token))
		if errors.Is(err, identity.ErrNoAccess) {
			return who, fiber.NewError(http.StatusUnauthorized, "this token is unknown, has expired or was ended")
		}
		return who, err
	}
	secret := c.Cookies(s.cookieName())
	if secret == "" {
		return identity.Actor{}, fiber.NewError(http.StatusUnauthorized, "sign in first")
	}
	if !safe(c.Method()) && c.Get("Origin") == "" && c.Get("Sec-Fetch-Site") != "same-origin" {
		return identity.Actor{}, fiber.NewError(http.StatusForbidden, "the request does not say that it comes from a page of this server; programs use a token")
	}
	who, fresh, err := s.Office.BySession(ctx, secret)
	if errors.Is(err, identity.ErrNoAccess) {
		s.endSession(c)
		return who, fiber.NewError(http.StatusUnauthorized, "your session has ended; sign in again. What you entered is still here")
	}
	if fresh != "" {
		s.setSession(c, fresh)
	}
	return who, err
}

func safe(method string) bool {
	return method == http.MethodGet || method == http.MethodHead || method == http.MethodOptions
}

func isNoAccess(err error) bool {
	return errors.Is(err, identity.ErrNoAccess) || errors.Is(err, store.ErrNotFound)
}
