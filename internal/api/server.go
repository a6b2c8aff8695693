// Package api serves the use cases over HTTP, with the document that
// describes it and the front end.
package api

import (
	"embed"
	"errors"
	"io/fs"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/compress"
	recovering "github.com/gofiber/fiber/v3/middleware/recover"
	"github.com/gofiber/fiber/v3/middleware/requestid"

	"wideknot/core/estate"
	"wideknot/internal/desk"
)

// site is the built front end; "make build" puts it here.
//
//go:embed all:site
var site embed.FS

// MaxBody is the largest request taken, in bytes: the largest document, and
// room for it to be quoted in JSON.
const MaxBody = estate.MaxDocument + estate.MaxDocument/2

// policy lets pages load nothing but what this server serves.
const policy = "default-src 'self'; img-src 'self' data:; style-src 'self'; script-src 'self'; font-src 'self'; " +
	"connect-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// New returns the server's application.
func New(d *desk.Desk, version string) *fiber.App {
	app := fiber.New(fiber.Config{
		AppName:      "Wide Knot",
		BodyLimit:    MaxBody,
		ReadTimeout:  30 * time.Second,
		IdleTimeout:  2 * time.Minute,
		ErrorHandler: problem,
	})
	app.Use(requestid.New(), logged, recovering.New(), guard, compress.New(compress.Config{Level: compress.LevelBestSpeed}))
	config := huma.DefaultConfig("Wide Knot", version)
	config.Info.Description = "Design and operate tunnel overlays across many sites."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", ""
	config.CreateHooks = nil // no $schema property in answers
	config.Formats = huma.DefaultFormats
	describe(huma.NewAPI(config, adapter{app}), d)
	app.Get("/api/*", func(c fiber.Ctx) error { return fiber.NewError(http.StatusNotFound, "there is no "+c.Path()) })
	app.Get("/*", frontEnd)
	return app
}

// Describe registers every operation; it serves nothing by itself, so that
// the document can be written without a database.
func Describe(version string) *huma.OpenAPI {
	config := huma.DefaultConfig("Wide Knot", version)
	config.Info.Description = "Design and operate tunnel overlays across many sites."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "", "", ""
	config.CreateHooks = nil
	a := huma.NewAPI(config, adapter{fiber.New()})
	describe(a, nil)
	return a.OpenAPI()
}

// guard sets the headers that keep pages safe, and refuses what another site's
// page sends: a foreign Origin, or a name that is not this machine's.
func guard(c fiber.Ctx) error {
	c.Set("Content-Security-Policy", policy)
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Cross-Origin-Opener-Policy", "same-origin")
	c.Set("Cross-Origin-Resource-Policy", "same-origin")
	if local := c.RequestCtx().LocalIP(); local != nil && local.IsLoopback() && !loopbackName(c.Host()) {
		return fiber.NewError(http.StatusMisdirectedRequest, "this server answers to the name it was started under only")
	}
	if origin := c.Get("Origin"); origin != "" && origin != c.Scheme()+"://"+c.Host() {
		return fiber.NewError(http.StatusForbidden, "a page of another origin may not use this server")
	}
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
	if errors.As(err, &known) {
		status, detail = known.Code, known.Message
	} else {
		slog.Error("request failed", "id", requestid.FromContext(c), "error", err)
	}
	return c.Status(status).JSON(huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail}, "application/problem+json")
}

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
