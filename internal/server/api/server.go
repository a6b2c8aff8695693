// Package api serves the use cases over HTTP, with the document that
// describes it and the front end.
package api

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/compress"
	"github.com/gofiber/fiber/v3/middleware/limiter"
	recovering "github.com/gofiber/fiber/v3/middleware/recover"
	"github.com/gofiber/fiber/v3/middleware/requestid"

	"wideknot/core/estate"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/enrol"
	"wideknot/internal/server/events"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// site is the built front end; "make build" puts it here.
//
//go:embed all:site
var site embed.FS

// MaxBody is the largest request taken, in bytes: the largest document, and
// room for it to be quoted in JSON. Only imports may be that large.
const MaxBody = estate.MaxDocument + estate.MaxDocument/2

// policy lets pages load nothing but what this server serves.
const policy = "default-src 'self'; img-src 'self' data:; style-src 'self'; script-src 'self'; font-src 'self'; " +
	"connect-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// A Server is what the application is made of and how it is set.
type Server struct {
	Desk           *desk.Desk
	Office         *identity.Office
	Sealer         *identity.Sealer
	Store          *store.Store
	Provider       *identity.Provider // nil without OpenID Connect
	Demo           *DemoAccount       // nil but in the demo
	Enrol          *enrol.Office      // nil where no gateways are taken
	Teller         *events.Teller     // who tells people of events; nil where no gateways are taken
	Version        string
	PublicURL      string // how browsers reach the server, when not by the address it listens on
	TLS            bool
	TrustedProxies []string // addresses that may say whom a request is from
	MetricsFrom    []string // addresses, besides loopback ones, that may read /metrics
	Rate           int      // requests a second from one address; 0 for no limit

	stopping atomic.Bool
	metrics  *metrics
	standing standings
	bounds
}

// DemoAccount is shown on the entrance of the demo.
type DemoAccount struct {
	Email    string   `json:"email"`
	Password string   `json:"password"`
	Others   []string `json:"others" doc:"further accounts with the same password"`
}

// rateWindow is the time over which requests are counted.
const rateWindow = 10 * time.Second

// App returns the server's application.
func (s *Server) App() *fiber.App {
	s.bind()
	app := fiber.New(fiber.Config{
		AppName:                      "Wide Knot",
		StreamRequestBody:            true, // nothing is read before it is known who sends it
		DisablePreParseMultipartForm: true,
		BodyLimit:                    MaxBody,
		Concurrency:                  mostRequests,
		CaseSensitive:                true,
		StrictRouting:                true,
		ReadTimeout:                  30 * time.Second,
		IdleTimeout:                  2 * time.Minute,
		ErrorHandler:                 problem,
		TrustProxy:                   len(s.TrustedProxies) > 0, // for the scheme and the name
		TrustProxyConfig:             fiber.TrustProxyConfig{Proxies: s.TrustedProxies},
	})
	s.metrics = newMetrics(s)
	app.Get("/healthz", func(c fiber.Ctx) error { return c.SendString("alive\n") })
	app.Get("/readyz", s.ready)
	app.Get("/metrics", s.metrics.serve)
	app.Use(ownRequestID, requestid.New(), s.metrics.measure, logged, framing, recovering.New(), s.guard)
	if s.Rate > 0 {
		app.Use(limiter.New(limiter.Config{
			Max: s.Rate * int(rateWindow.Seconds()), Expiration: rateWindow,
			KeyGenerator: s.client,
			LimitReached: func(c fiber.Ctx) error {
				return fiber.NewError(http.StatusTooManyRequests, "too many requests from this address; wait a few seconds")
			},
		}))
	}
	app.Use(keepTag, compress.New(compress.Config{
		Level: compress.LevelBestSpeed,
		Next: func(c fiber.Ctx) bool { // what is written as it is made
			return slices.ContainsFunc([]string{"/events", "/archive", "/audit.csv", "/audit.json"}, func(end string) bool { return strings.HasSuffix(c.Path(), end) })
		},
	}))
	config := s.config()
	config.OpenAPIPath = "/api/openapi"
	s.describe(huma.NewAPI(config, adapter{app, s}))
	app.Get("/api/*", func(c fiber.Ctx) error { return fiber.NewError(http.StatusNotFound, "there is no "+c.Path()) })
	app.Get("/*", frontEnd)
	return app
}

func (s *Server) config() huma.Config {
	config := huma.DefaultConfig("Wide Knot", s.Version)
	config.Info.Description = "Design and operate tunnel overlays across many sites."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "", "", ""
	config.CreateHooks = nil // no $schema property in answers
	config.RejectUnknownQueryParameters = true
	config.Servers = []*huma.Server{{URL: "/", Description: "this server"}}
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"session": {Type: "apiKey", In: "cookie", Name: "wideknot", Description: "what signing in with a browser gives"},
		"token":   {Type: "http", Scheme: "bearer", Description: "an API token"},
	}
	return config
}

// Describe registers every operation; it serves nothing by itself, so that
// the document can be written without a database.
func Describe(version string) *huma.OpenAPI {
	s := &Server{Version: version}
	a := huma.NewAPI(s.config(), adapter{fiber.New(), s})
	s.describe(a)
	return a.OpenAPI()
}

// Stop makes the server say that it is not ready, and ends all streams, so
// that it can be shut down.
func (s *Server) Stop() {
	s.stopping.Store(true)
	s.Desk.Close()
}

func (s *Server) ready(c fiber.Ctx) error {
	if s.stopping.Load() {
		return c.Status(http.StatusServiceUnavailable).SendString("stopping\n")
	}
	now, latest, err := s.Store.Version(c.Context())
	if err != nil {
		return c.Status(http.StatusServiceUnavailable).SendString("the database does not answer\n")
	}
	if now != latest {
		return c.Status(http.StatusServiceUnavailable).SendString(fmt.Sprintf("the tables are of version %d, not %d\n", now, latest))
	}
	return c.SendString("ready\n")
}

// guard sets the headers that keep pages safe, and refuses what another site's
// page sends: a foreign Origin, or a name that is not this server's.
func (s *Server) guard(c fiber.Ctx) error {
	c.Set("Content-Security-Policy", policy)
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("X-Frame-Options", "DENY")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=()")
	c.Set("Cross-Origin-Opener-Policy", "same-origin")
	c.Set("Cross-Origin-Resource-Policy", "same-origin")
	if s.secure() {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	if strings.HasPrefix(c.Path(), "/api/") {
		c.Set("Cache-Control", "no-store")
	}
	public, _ := url.Parse(s.PublicURL)
	named := s.PublicURL != "" && public != nil && strings.EqualFold(public.Host, c.Host())
	if local := c.RequestCtx().LocalIP(); !named && (s.PublicURL != "" || local != nil && local.IsLoopback()) && !loopbackName(c.Host()) {
		return fiber.NewError(http.StatusMisdirectedRequest, "this server answers to the name it was started under only")
	}
	own := c.Scheme() + "://" + c.Host()
	if named {
		own = public.Scheme + "://" + c.Host()
	}
	foreign := !safe(c.Method()) && c.Get("Sec-Fetch-Site") != "" && c.Get("Sec-Fetch-Site") != "same-origin"
	if origin := c.Get("Origin"); foreign || origin != "" && !strings.EqualFold(origin, own) {
		return fiber.NewError(http.StatusForbidden, "a page of another origin may not use this server")
	}
	return c.Next()
}

// ownRequestID drops an ID that came with the request: ours tells requests apart
// in the log and the audit, and nobody else chooses it.
func ownRequestID(c fiber.Ctx) error {
	c.Request().Header.Del(fiber.HeaderXRequestID)
	return c.Next()
}

func loopbackName(host string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func logged(c fiber.Ctx) error {
	start := time.Now()
	err := c.Next()
	if err != nil { // answer now, so that the status below is the one sent
		err = c.App().ErrorHandler(c, err)
	}
	level := slog.LevelDebug
	if c.Response().StatusCode() >= 500 {
		level = slog.LevelError
	}
	slog.Log(c.Context(), level, "request", "id", requestid.FromContext(c), "method", c.Method(), "path", c.Path(),
		"status", c.Response().StatusCode(), "took", time.Since(start))
	return err
}

// problem answers errors that come from outside the operations, as RFC 9457
// says.
func problem(c fiber.Ctx, err error) error {
	status, detail := http.StatusInternalServerError, "the server failed; its log says more under request "+requestid.FromContext(c)
	var known *fiber.Error
	switch {
	case errors.As(err, &known):
		status, detail = known.Code, known.Message
		if strings.HasPrefix(detail, "error when reading request") { // which goes on with what was sent
			detail = "the request is not well formed"
		}
	case errors.Is(err, store.ErrAway):
		status, detail = http.StatusServiceUnavailable, store.ErrAway.Error()
		c.Set("Retry-After", "1")
	case errors.Is(err, store.ErrFull):
		status, detail = http.StatusInsufficientStorage, store.ErrFull.Error()
	default:
		slog.Error("request failed", "id", requestid.FromContext(c), "error", err)
	}
	if status == http.StatusUnauthorized {
		c.Set(fiber.HeaderWWWAuthenticate, challenge)
	}
	return c.Status(status).JSON(huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail}, "application/problem+json")
}

// challenge says how a program shows who it is (RFC 6750).
const challenge = `Bearer realm="wideknot"`

// frontEnd serves the built files; any other path is a place in the
// application and gets its page.
func frontEnd(c fiber.Ctx) error {
	files, err := fs.Sub(site, "site/dist")
	if err != nil {
		return err
	}
	name := strings.TrimPrefix(path.Clean("/"+c.Path()), "/")
	text, err := fs.ReadFile(files, name)
	if err != nil {
		if strings.HasPrefix(name, "assets/") {
			return fiber.NewError(http.StatusNotFound, "there is no "+c.Path())
		}
		name = "index.html"
		if text, err = fs.ReadFile(files, name); err != nil {
			return fiber.NewError(http.StatusNotFound, "the front end is not built into this binary; run make build")
		}
	}
	if strings.HasPrefix(name, "assets/") {
		c.Set("Cache-Control", "public, max-age=31536000, immutable") // their names carry a hash
	} else {
		c.Set("Cache-Control", "no-cache")
	}
	c.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
	return c.Send(text)
}
