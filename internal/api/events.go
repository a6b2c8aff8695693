package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"wideknot/internal/desk"
	"wideknot/internal/identity"
)

// stillEvery is how often a stream shows that it is alive, and asks whether
// who listens still may.
const stillEvery = 5 * time.Second

func (s *Server) events(a huma.API) {
	op := operation("watch-draft", http.MethodGet, "/api/estates/{estate}/drafts/{draft}/events", "Stream what happens to a draft (server-sent events)")
	schemas := a.OpenAPI().Components.Schemas
	describe := map[desk.EventKind]*huma.Schema{
		desk.Stepped: schemas.Schema(reflect.TypeFor[desk.Step](), true, "Step"),
		desk.Weighed: schemas.Schema(reflect.TypeFor[desk.Tally](), true, "Tally"),
		desk.People:  {Type: huma.TypeArray, Items: schemas.Schema(reflect.TypeFor[desk.Presence](), true, "Presence")},
	}
	op.Description = "Events step (an edit, undo or redo; its id is the draft's revision), consequences, people (who has the draft open) and lost " +
		"(too much was missed: load everything anew). After a gap, Last-Event-ID has the steps that were missed repeated."
	op.Responses = map[string]*huma.Response{"200": {
		Description: "a stream; the data of its events",
		Content:     map[string]*huma.MediaType{"text/event-stream": {Schema: &huma.Schema{OneOf: []*huma.Schema{describe[desk.Stepped], describe[desk.Weighed], describe[desk.People]}}}},
	}}
	op.Parameters = []*huma.Param{
		{Name: "estate", In: "path", Required: true, Schema: &huma.Schema{Type: huma.TypeString}},
		{Name: "draft", In: "path", Required: true, Schema: &huma.Schema{Type: huma.TypeString}},
		{Name: "Last-Event-ID", In: "header", Schema: &huma.Schema{Type: huma.TypeInteger}},
	}
	a.OpenAPI().AddOperation(&op)
	a.Adapter().(adapter).add(&op, s.stream)
}

func (s *Server) stream(c fiber.Ctx) error {
	after, _ := strconv.ParseUint(c.Get("Last-Event-ID"), 10, 64) // what is no number is no gap
	at := desk.Place{Estate: strings.Clone(c.Params("estate")), Draft: strings.Clone(c.Params("draft"))}
	ctx := context.WithoutCancel(c.Context())
	who, estate := identity.ActorOf(ctx), accessOf(ctx).estate.ID
	events, leave, err := s.Desk.Watch(ctx, at, after)
	if err != nil {
		problem := refusal(err)
		if status, ok := problem.(huma.StatusError); ok {
			return fiber.NewError(status.GetStatus(), err.Error())
		}
		return err
	}
	c.Set("Content-Type", "text/event-stream")
	c.Set("Cache-Control", "no-store")
	c.Set("X-Accel-Buffering", "no") // proxies must not hold events back
	s.metrics.streams.Inc()
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer s.metrics.streams.Dec()
		defer leave()
		fmt.Fprint(w, "retry: 1000\n\n")
		still := time.NewTicker(stillEvery)
		defer still.Stop()
		for w.Flush() == nil {
			select {
			case e, open := <-events:
				if !open || write(w, e) != nil {
					return
				}
			case <-still.C:
				if role, err := s.Office.Still(ctx, who, estate); err == nil && !role.Includes(identity.Reader) || isNoAccess(err) {
					return
				}
				fmt.Fprint(w, ": still here\n\n")
			}
		}
	})
}

func write(w *bufio.Writer, e desk.Event) error {
	data, err := json.Marshal(e.Data)
	if err != nil {
		return err
	}
	if e.ID != 0 {
		fmt.Fprintf(w, "id: %d\n", e.ID)
	}
	_, err = fmt.Fprintf(w, "event: %s\ndata: %s\n\n", e.Kind, data)
	return err
}
