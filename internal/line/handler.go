package line

import (
	"encoding/json"
	"io"
	"mime"
	"net/http"
	"slices"
	"strings"
	"sync"

	"wideknot/core/gateway"
)

// A handler answers for a device. The candidate is the line's: it is lost with the agent,
// as a trial is not.
type handler struct {
	device    Device
	mu        sync.Mutex
	candidate *gateway.Config // nil while it is as the running one
	// Of a line to a server: the trials that began on it, and what is called when one does.
	began   map[string]bool
	applied func()
}

// Handler is a gateway's RESTCONF server on the machine itself.
func Handler(d Device) http.Handler { return (&handler{device: d}).mux() }

// OnLine is the same on one line to a server. What is tried over it can be confirmed only
// over a later one: that the server still reaches the gateway is what confirming proves.
// applied is called when a trial begins.
func OnLine(d Device, applied func()) http.Handler {
	return (&handler{device: d, began: map[string]bool{}, applied: applied}).mux()
}

func (h *handler) mux() http.Handler {
	mux := http.NewServeMux()
	for path, methods := range map[string]map[string]answering{
		"/.well-known/host-meta":           {"GET": hostMeta},
		"/restconf":                        {"GET": h.root},
		"/restconf/yang-library-version":   {"GET": h.libraryVersion},
		"/restconf/operations":             {"GET": h.operations},
		"/restconf/data":                   {"GET": h.data},
		"/restconf/data/{node}":            {"GET": h.data},
		"/restconf/ds/{store}":             {"GET": h.read, "PUT": h.write},
		"/restconf/ds/{store}/{node}":      {"GET": h.read, "PUT": h.write},
		"/restconf/operations/{operation}": {"POST": h.operate},
		"/restconf/streams/events":         {"GET": h.events},
		"/restconf/{rest...}":              {},
	} {
		mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) { dispatch(w, r, methods) })
	}
	return mux
}

// answering answers one request, or errs.
type answering func(w http.ResponseWriter, r *http.Request) error

// dispatch finds who answers a method. HEAD is GET without a body, and OPTIONS tells the
// methods.
func dispatch(w http.ResponseWriter, r *http.Request, methods map[string]answering) {
	if len(methods) == 0 {
		refuse(w, refusal(http.StatusNotFound, InvalidValue, "there is no resource %s", r.URL.Path))
		return
	}
	allowed := []string{"OPTIONS"}
	for m := range methods {
		if allowed = append(allowed, m); m == http.MethodGet {
			allowed = append(allowed, http.MethodHead)
		}
	}
	slices.Sort(allowed)
	method := r.Method
	if method == http.MethodHead {
		method = http.MethodGet
	}
	answer := methods[method]
	if answer == nil {
		w.Header().Set("Allow", strings.Join(allowed, ", "))
		if r.Method == http.MethodOptions {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		refuse(w, refusal(http.StatusMethodNotAllowed, NotSupported, "%s is not for %s", r.Method, r.URL.Path))
		return
	}
	if err := answer(w, r); err != nil {
		refuse(w, err)
	}
}

// reply writes a document. Accept must let it through.
func reply(w http.ResponseWriter, r *http.Request, document any) error {
	if !accepts(r, yangJSON) {
		return refusal(http.StatusNotAcceptable, InvalidValue, "this gateway answers with %s", yangJSON)
	}
	text, err := json.Marshal(document)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", yangJSON)
	w.Header().Set("Cache-Control", "no-cache")
	if r.Method != http.MethodHead {
		_, _ = w.Write(append(text, '\n')) // who went away is told nothing
	}
	return nil
}

// accepts reports whether a media type is among those that are accepted.
func accepts(r *http.Request, kind string) bool {
	list := strings.Join(r.Header.Values("Accept"), ",")
	if strings.TrimSpace(list) == "" {
		return true
	}
	for one := range strings.SplitSeq(list, ",") {
		t, parameters, err := mime.ParseMediaType(one)
		if err == nil && parameters["q"] != "0" && (t == kind || t == "*/*" || t == strings.Split(kind, "/")[0]+"/*") {
			return true
		}
	}
	return false
}

// body reads what was sent, as JSON of RFC 7951.
func body(r *http.Request, most int64) ([]byte, error) {
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil || kind != yangJSON {
		return nil, refusal(http.StatusUnsupportedMediaType, InvalidValue, "this gateway takes %s", yangJSON)
	}
	text, err := io.ReadAll(io.LimitReader(r.Body, most+1))
	if err != nil {
		return nil, refusal(http.StatusBadRequest, Malformed, "%v", err)
	}
	if int64(len(text)) > most {
		return nil, refusal(http.StatusRequestEntityTooLarge, TooBig, "at most %d bytes are taken", most)
	}
	return text, nil
}

// strict reads a JSON document that has nothing but what the value has.
func strict(text []byte, into any) error {
	decoder := json.NewDecoder(strings.NewReader(string(text)))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(into); err != nil {
		return refusal(http.StatusBadRequest, Malformed, "%v", err)
	}
	if decoder.More() {
		return refusal(http.StatusBadRequest, Malformed, "something follows the document")
	}
	return nil
}

// noQuery refuses parameters that are not known, as RFC 8040, 4.8 wants.
func noQuery(r *http.Request, known ...string) error {
	for name := range r.URL.Query() {
		if !slices.Contains(known, name) {
			return refusal(http.StatusBadRequest, InvalidValue, "the query parameter %q is not supported here", name)
		}
	}
	return nil
}

// hostMeta tells where the root is (RFC 6415, RFC 8040, 3.1).
func hostMeta(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Content-Type", "application/xrd+xml")
	if r.Method != http.MethodHead {
		_, _ = io.WriteString(w, `<XRD xmlns="http://docs.oasis-open.org/ns/xri/xrd-1.0"><Link rel="restconf" href="/restconf"/></XRD>`+"\n")
	}
	return nil
}

func (h *handler) root(w http.ResponseWriter, r *http.Request) error {
	return reply(w, r, map[string]any{"ietf-restconf:restconf": map[string]any{"data": struct{}{}, "operations": struct{}{}, "yang-library-version": libraryRevision}})
}

func (h *handler) libraryVersion(w http.ResponseWriter, r *http.Request) error {
	return reply(w, r, map[string]any{"ietf-restconf:yang-library-version": libraryRevision})
}

func (h *handler) operations(w http.ResponseWriter, r *http.Request) error {
	list := map[string]any{}
	for name := range h.known() {
		list[name] = []any{nil}
	}
	return reply(w, r, map[string]any{"ietf-restconf:operations": list})
}
