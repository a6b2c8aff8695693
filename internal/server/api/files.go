package api

import (
	"bufio"
	"context"
	"io"
	"log/slog"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/internal/server/identity"
)

type file struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	CacheNot    string `header:"Cache-Control"`
	Body        []byte
}

func attached(kind, name string, text []byte) *file {
	return &file{ContentType: kind, Disposition: disposition(name), CacheNot: "no-store", Body: text}
}

// disposition has browsers keep an answer as a file. Names are made of keys.
func disposition(name string) string { return `attachment; filename="` + name + `"` }

// files describes an operation that answers with a file of one of these kinds.
func files(op huma.Operation, kinds ...string) huma.Operation {
	answer := &huma.Response{Description: "the file", Content: map[string]*huma.MediaType{}, Headers: map[string]*huma.Param{
		"Content-Disposition": {Schema: &huma.Schema{Type: huma.TypeString}},
	}}
	for _, kind := range kinds {
		answer.Content[kind] = &huma.MediaType{Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}}
	}
	op.Responses = map[string]*huma.Response{"200": answer}
	return op
}

// streamed answers with a file that is written as it is made, at most a few at
// once and each within its time.
func (s *Server) streamed(ctx context.Context, kind, name string, write func(context.Context, io.Writer) error) (*huma.StreamResponse, error) {
	c := accessOf(ctx).c
	leave, ok := s.archives.take()
	if !ok {
		return nil, refusal(busy(c, "other archives are being made; try again in a few seconds"))
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), archiveFor)
	request := identity.ActorOf(ctx).Request
	connection := c.RequestCtx().Conn()
	return &huma.StreamResponse{Body: func(h huma.Context) {
		h.SetHeader("Content-Type", kind)
		h.SetHeader("Content-Disposition", disposition(name))
		h.SetHeader("Cache-Control", "no-store, no-transform")
		err := c.SendStreamWriter(func(w *bufio.Writer) {
			defer func() { cancel(); leave(); s.relax() }()
			out := patient{w, connection}
			defer out.done()
			if err := write(ctx, out); err != nil {
				slog.Warn("a file was not sent to its end", "request", request, "file", name, "error", err)
				_ = connection.Close() // so that half a file is not taken for a whole one
			}
		})
		if err != nil {
			cancel()
			leave()
		}
	}}, nil
}
