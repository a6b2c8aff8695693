package line

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"wideknot/core/gateway"
)

// A fake is a device that keeps what it was told.
type fake struct {
	is     *gateway.Config
	tried  string
	fails  error
	list   []Event
	shared map[string][32]byte
	more   chan struct{}
}

func (f *fake) Running(context.Context) (*gateway.Config, error) { return f.is, nil }
func (f *fake) State(context.Context) (*gateway.State, error) {
	return &gateway.State{Site: "tarn"}, nil
}
func (f *fake) Try(_ context.Context, c *gateway.Config, _ int, token string, _ int) error {
	if f.fails != nil {
		return f.fails
	}
	f.is, f.tried = c, token
	return nil
}
func (f *fake) Offers(context.Context) (*gateway.Offers, error) { return &gateway.Offers{}, f.fails }
func (f *fake) Share(_ context.Context, keys map[string][32]byte) error {
	f.shared = keys
	return f.fails
}
func (f *fake) Echo(_ context.Context, list []gateway.Echo) (out []gateway.Echoed, err error) {
	for _, e := range list {
		out = append(out, gateway.Echoed{From: e.From, To: e.To, Answered: e.Size})
	}
	return out, f.fails
}
func (f *fake) Look(_ context.Context, l *gateway.Look) (*gateway.Looked, error) {
	return &gateway.Looked{For: l.For}, f.fails
}
func (f *fake) Bench(context.Context, *gateway.Bench) (*gateway.Benched, error) {
	return &gateway.Benched{}, nil
}
func (f *fake) Hold(context.Context, *gateway.Hold) error { return nil }
func (f *fake) Sessions(_ context.Context, o *gateway.SessionsOrder) (*gateway.Sessions, error) {
	return &gateway.Sessions{Words: o.Interface + " " + string(o.Reset)}, f.fails
}
func (f *fake) Samples(_ context.Context, epoch string, has gateway.Counter) (*gateway.Samples, error) {
	return &gateway.Samples{Epoch: "e1", Now: "2026-11-30T12:00:00Z", List: []gateway.Sample{{Sequence: has + 1, At: "2026-11-30T11:59:50Z", Seconds: 10, Digest: epoch}}}, f.fails
}
func (f *fake) NewKey(context.Context) (string, error) {
	return "AQIDBAUGBwgJCgsMDQ4PEBESExQVFhcYGRobHB0eHyA=", f.fails
}
func (f *fake) Confirm(context.Context, string) error { return f.fails }
func (f *fake) Back(context.Context, string) error    { return f.fails }
func (f *fake) Events(after uint64, most int) (string, []Event, <-chan struct{}, error) {
	var out []Event
	for _, e := range f.list {
		if e.Sequence > after && len(out) < most {
			out = append(out, e)
		}
	}
	return "e1", out, f.more, nil
}

func send(h http.Handler, method, path, kind, body string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	if kind != "" {
		r.Header.Set("Content-Type", kind)
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	return w
}

const smallest = `{"ietf-restconf:data":{"wideknot-gateway:gateway":{"site":"tarn"}}}`

// What a device cannot do is told by the tag that belongs to it, and the candidate stays.
func TestFailuresHaveTags(t *testing.T) {
	d := &fake{}
	h := Handler(d)
	if w := send(h, "PUT", "/restconf/ds/"+candidate, yangJSON, smallest); w.Code != 204 {
		t.Fatalf("%d %s", w.Code, w.Body)
	}
	for _, test := range []struct {
		fails  error
		status int
		tag    ErrorTag
	}{{ErrInUse, 409, InUse}, {fmt.Errorf("so: %w", ErrInUse), 409, InUse}, {errors.New("the kernel says no"), 409, OperationFailed}} {
		d.fails = test.fails
		w := send(h, "POST", "/restconf/operations/ietf-netconf:commit", "", "")
		var got errorDocument
		if err := json.Unmarshal(w.Body.Bytes(), &got); err != nil || w.Code != test.status || got.Errors.Error[0].Tag != test.tag {
			t.Errorf("%v: %d %s", test.fails, w.Code, w.Body)
		}
	}
	d.fails = errors.New("the disk is full")
	if w := send(h, "POST", "/restconf/operations/ietf-netconf:cancel-commit", yangJSON, `{"ietf-netconf:input":{"persist-id":"x"}}`); w.Code != 500 {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	d.fails = nil
	if w := send(h, "POST", "/restconf/operations/ietf-netconf:commit", "", ""); w.Code != 204 || d.is == nil || d.tried == "" {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	if w := send(h, "PUT", "/restconf/ds/"+candidate, yangJSON, strings.Repeat(" ", gateway.MaxDocument+1)); w.Code != http.StatusRequestEntityTooLarge {
		t.Errorf("%d", w.Code)
	}
}

// A reader that was away is told which events were lost, once, before the next.
func TestLostEventsAreTold(t *testing.T) {
	at := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	d := &fake{more: make(chan struct{})}
	for n := uint64(7); n <= 8; n++ {
		d.list = append(d.list, Event{"e1", n, at, "trouble", "", "words"})
	}
	server := httptest.NewServer(Handler(d))
	defer server.Close()
	read := func(last string, lines int) (out []string) {
		t.Helper()
		ctx, stop := context.WithTimeout(t.Context(), 5*time.Second)
		defer stop()
		r, err := http.NewRequestWithContext(ctx, "GET", server.URL+"/restconf/streams/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		if last != "" {
			r.Header.Set("Last-Event-ID", last)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		for text := bufio.NewScanner(answer.Body); len(out) < lines && text.Scan(); {
			if text.Text() != "" {
				out = append(out, text.Text())
			}
		}
		return out
	}
	got := strings.Join(read("e1.3", 5), "\n")
	if !strings.HasPrefix(got, `data: {"ietf-restconf:notification":{"eventTime":`) || !strings.Contains(got, `"wideknot-gateway:events-lost":{"epoch":"e1","first":"4","last":"6"}`) ||
		!strings.Contains(got, "id: e1.7\ndata: ") || !strings.Contains(got, "id: e1.8\n") {
		t.Error(got)
	}
	if got := strings.Join(read("e1.6", 4), "\n"); strings.Contains(got, "lost") || !strings.HasPrefix(got, "id: e1.7\n") {
		t.Error(got)
	}
	if got := strings.Join(read("", 2), "\n"); !strings.HasPrefix(got, "id: e1.7\n") {
		t.Error(got)
	}
}

// Whatever is sent is answered, and only a configuration that can be applied is taken.
func FuzzBodies(f *testing.F) {
	for _, text := range []string{smallest, `{`, `{"ietf-netconf:input":{"confirmed":[null],"persist":"a"}}`, `{"ietf-netconf:input":{"persist-id":"a"}}`, `[]`, `{"ietf-restconf:data":null}`} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		d := &fake{}
		h := Handler(d)
		for _, path := range []string{"/restconf/operations/ietf-netconf:commit", "/restconf/operations/ietf-netconf:cancel-commit", "/restconf/operations/ietf-netconf:discard-changes"} {
			if w := send(h, "POST", path, yangJSON, text); w.Code != 204 && (w.Code < 400 || w.Code > 499) {
				t.Errorf("%s: %d", path, w.Code)
			}
		}
		if w := send(h, "PUT", "/restconf/ds/"+candidate, yangJSON, text); w.Code == 204 {
			send(h, "POST", "/restconf/operations/ietf-netconf:commit", "", "")
			if d.is == nil || d.is.Check() != nil {
				t.Errorf("%q is applied", text)
			}
		} else if w.Code < 400 || w.Code > 499 {
			t.Errorf("%d", w.Code)
		}
	})
}

func FuzzPosition(f *testing.F) {
	f.Add("e1.7")
	f.Add("..")
	f.Fuzz(func(t *testing.T, text string) {
		epoch, sequence, ok := parsePosition(text)
		if again, n, fine := parsePosition(position(epoch, sequence)); ok && (!fine || n != sequence && !strings.Contains(epoch, ".") || again != epoch && !strings.Contains(epoch, ".")) {
			t.Errorf("%q: %q %d, then %q %d", text, epoch, sequence, again, n)
		}
	})
}
