package api

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
)

// adapter serves huma's operations with Fiber v3, to those whom the server admits.
type adapter struct {
	app *fiber.App
	s   *Server
}

var paths = strings.NewReplacer("{", ":", "}", "")

func (a adapter) Handle(op *huma.Operation, handler func(huma.Context)) {
	a.add(op, func(c fiber.Ctx) error {
		r := &requestContext{op: op, c: c, body: bodyOf(c)}
		if leave, err := a.s.room(op, c); err != nil {
			return err
		} else if leave != nil {
			defer leave()
		}
		c.Locals(bodyKey{}, r.body)
		handler(r)
		r.notModified()
		return nil
	})
}

// room waits until few enough bodies of the request's size are at work.
func (s *Server) room(op *huma.Operation, c fiber.Ctx) (leave func(), err error) {
	if !announces(c) || permissions[op.OperationID].open {
		return nil, nil
	}
	if int64(c.Request().Header.ContentLength()) > op.MaxBodyBytes {
		return nil, fiber.NewError(http.StatusRequestEntityTooLarge, fmt.Sprintf("the request has more than the %d bytes that are taken here", op.MaxBodyBytes))
	}
	if op.MaxBodyBytes <= smallBody {
		if leave, ok := s.small.take(); ok {
			return leave, nil
		}
		return nil, busy(c, "too many requests are being read at the moment; try again in a few seconds")
	}
	done, ok := s.large.take()
	if !ok {
		return nil, busy(c, "other imports are being worked on; try again in a few seconds")
	}
	return func() { done(); s.relax() }, nil
}

// add registers an operation that answers by itself.
func (a adapter) add(op *huma.Operation, handler fiber.Handler) {
	if _, ok := permissions[op.OperationID]; !ok && op.OperationID != "" {
		panic("nobody said who may call " + op.OperationID)
	}
	a.app.Add([]string{op.Method}, paths.Replace(op.Path), func(c fiber.Ctx) error {
		if op.OperationID != "" { // the document itself is open
			if err := a.s.admit(op, c); err != nil {
				return err
			}
		}
		return handler(c)
	})
}

// ServeHTTP lets tests and huma's own helpers send requests without a socket.
func (a adapter) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	response, err := a.app.Test(r)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer response.Body.Close()
	for name, values := range response.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(response.StatusCode)
	_, _ = io.Copy(w, response.Body) // the client is gone if this fails
}

type tagKey struct{}
type bodyKey struct{}

// keepTag restores the tag of a state, which compressing replaces by one of
// its own making.
func keepTag(c fiber.Ctx) error {
	err := c.Next()
	if tag, ok := c.Locals(tagKey{}).(string); ok {
		c.Set(fiber.HeaderETag, tag)
	}
	return err
}

// requestContext is one request as huma sees it.
type requestContext struct {
	op     *huma.Operation
	c      fiber.Ctx
	body   *body
	status int
}

// volatile are operations whose answers tell more than the state their tag names,
// such as the release in force now.
var volatile = []string{"get-draft", "get-consequences", "get-before-after", "get-outage-changes", "get-estate"}

// notModified answers with nothing but 304 who has the state already
// (RFC 9110, section 13.1.2).
func (r *requestContext) notModified() {
	tag, _ := r.c.Locals(tagKey{}).(string)
	given := r.c.Get(fiber.HeaderIfNoneMatch)
	if given == "" || tag == "" || r.op.Method != http.MethodGet || r.c.Response().StatusCode() != http.StatusOK || slices.Contains(volatile, r.op.OperationID) {
		return
	}
	for one := range strings.SplitSeq(given, ",") {
		if one = strings.TrimSpace(one); one == "*" || strings.TrimPrefix(one, "W/") == tag {
			r.c.Response().ResetBody()
			r.c.Response().Header.Del(fiber.HeaderContentType)
			r.c.Status(http.StatusNotModified)
			return
		}
	}
}

var _ huma.Context = &requestContext{}

func (r *requestContext) Operation() *huma.Operation { return r.op }
func (r *requestContext) Context() context.Context   { return r.c.Context() }
func (r *requestContext) TLS() *tls.ConnectionState  { return r.c.RequestCtx().TLSConnectionState() }
func (r *requestContext) Version() huma.ProtoVersion {
	return huma.ProtoVersion{Proto: r.c.Protocol()}
}
func (r *requestContext) Method() string     { return r.c.Method() }
func (r *requestContext) Host() string       { return r.c.Host() }
func (r *requestContext) RemoteAddr() string { return r.c.RequestCtx().RemoteAddr().String() }
func (r *requestContext) URL() url.URL {
	u, err := url.ParseRequestURI(string(r.c.Request().RequestURI()))
	if err != nil {
		return url.URL{}
	}
	return *u
}

// Param returns a copy: Fiber's own string lives only as long as the request.
func (r *requestContext) Param(name string) string {
	value, err := url.PathUnescape(r.c.Params(name))
	if err != nil {
		return strings.Clone(r.c.Params(name))
	}
	return strings.Clone(value)
}
func (r *requestContext) Query(name string) string  { return strings.Clone(r.c.Query(name)) }
func (r *requestContext) Header(name string) string { return strings.Clone(r.c.Get(name)) }
func (r *requestContext) EachHeader(f func(name, value string)) {
	for name, value := range r.c.Request().Header.All() {
		f(string(name), string(value))
	}
}
func (r *requestContext) BodyReader() io.Reader { return r.body }
func (r *requestContext) GetMultipartForm() (*multipart.Form, error) {
	return r.c.MultipartForm()
}
func (r *requestContext) SetReadDeadline(time.Time) error { return nil } // bodies are read whole, with the server's own limit
func (r *requestContext) SetStatus(code int)              { r.status = code; r.c.Status(code) }
func (r *requestContext) Status() int                     { return r.status }
func (r *requestContext) SetHeader(name, value string) {
	if name == fiber.HeaderETag {
		r.c.Locals(tagKey{}, value)
	}
	r.c.Set(name, value)
}
func (r *requestContext) AppendHeader(name, value string) { r.c.Append(name, value) }
func (r *requestContext) BodyWriter() io.Writer           { return r.c.Response().BodyWriter() }
