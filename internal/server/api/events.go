package api

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"golang.org/x/sync/singleflight"

	"wideknot/internal/server/desk"
	"wideknot/internal/server/identity"
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
	done, ok := s.streams.open(who.Account)
	if !ok {
		c.Set("Retry-After", "5")
		return fiber.NewError(http.StatusTooManyRequests, fmt.Sprintf("you have too many pages open (at most %d), or everybody together has; close some", mostOwnStreams))
	}
	events, leave, err := s.Desk.Watch(ctx, at, after)
	if err != nil {
		done()
		problem := refusal(err)
		if status, ok := problem.(huma.StatusError); ok {
			return fiber.NewError(status.GetStatus(), err.Error())
		}
		return err
	}
	c.Set("Content-Type", "text/event-stream")
	c.Set("Cache-Control", "no-store, no-transform") // who compresses it would hold events back
	c.Set("X-Accel-Buffering", "no")                 // so would a proxy that gathers
	s.metrics.streams.Inc()
	connection := c.RequestCtx().Conn()
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer s.metrics.streams.Dec()
		defer done()
		defer leave()
		out := patient{w, connection}
		still := time.NewTicker(stillEvery)
		defer still.Stop()
		if _, err := out.Write([]byte("retry: 1000\n\n")); err != nil {
			return
		}
		for {
			text := []byte(": still here\n\n")
			select {
			case e, open := <-events:
				if !open {
					return
				}
				var err error
				if text, err = written(e); err != nil {
					return
				}
			case <-still.C:
				if !s.standing.good(ctx, s.Office, who, estate) {
					return
				}
			}
			if _, err := out.Write(text); err != nil {
				return
			}
		}
	})
}

func written(e desk.Event) ([]byte, error) {
	data, err := e.JSON()
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if e.ID != 0 {
		fmt.Fprintf(&out, "id: %d\n", e.ID)
	}
	fmt.Fprintf(&out, "event: %s\ndata: %s\n\n", e.Kind, data)
	return out.Bytes(), nil
}

// standings remember for a moment whether who listens still may: an account may
// have many streams, and each asks.
type standings struct {
	asking singleflight.Group
	mu     sync.Mutex
	known  map[string]standing
}

type standing struct {
	good bool
	at   time.Time
}

func (k *standings) good(ctx context.Context, office *identity.Office, who identity.Actor, estate uint64) bool {
	id := fmt.Sprintf("%d %d %d %d", who.Account, who.Session, who.Token, estate)
	k.mu.Lock()
	last, known := k.known[id]
	k.mu.Unlock()
	if known && time.Since(last.at) < stillEvery/2 {
		return last.good
	}
	good, _, _ := k.asking.Do(id, func() (any, error) {
		role, err := office.Still(ctx, who, estate)
		good := !isNoAccess(err) && (err != nil || role.Includes(identity.Reader)) // while the database is away, nobody is sent off
		k.mu.Lock()
		defer k.mu.Unlock()
		if k.known == nil || len(k.known) > mostStreams {
			k.known = map[string]standing{}
		}
		k.known[id] = standing{good, time.Now()}
		return good, nil
	})
	return good.(bool)
}
