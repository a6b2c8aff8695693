package line

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"net/http"
	"strings"

	"wideknot/core/gateway"
)

// Trials: how long one lasts where the request does not say (RFC 6241, 8.4.5.1), and the
// longest.
const (
	usualTrial   = 600
	longestTrial = 7 * 24 * 3600
)

// mostInput is the largest input of an operation, in bytes; sharing keys takes more.
const (
	mostInput = 1 << 16
	mostKeys  = 4 << 20
)

// known are the operations by their names.
func (h *handler) known() map[string]answering {
	return map[string]answering{
		"ietf-netconf:commit":          h.commit,
		"ietf-netconf:cancel-commit":   h.cancel,
		"ietf-netconf:discard-changes": h.discard,
		"wideknot-gateway:share-keys":  h.share,
		"wideknot-gateway:echo":        h.echo,
		"wideknot-gateway:look":        h.look,
		"wideknot-gateway:bench":       h.bench,
		"wideknot-gateway:hold":        h.hold,
		"wideknot-gateway:sessions":    h.sessions,
		"wideknot-gateway:new-key":     h.newKey,
		"wideknot-gateway:samples":     h.samples,
	}
}

// operate carries an operation out.
func (h *handler) operate(w http.ResponseWriter, r *http.Request) error {
	if err := noQuery(r); err != nil {
		return err
	}
	name := r.PathValue("operation")
	f, there := h.known()[name]
	if !there {
		return refusal(http.StatusNotFound, InvalidValue, "there is no operation %q", name)
	}
	return f(w, r)
}

// empty is YANG's type of a leaf without a value: [null].
type empty []*struct{}

func (e empty) set() bool { return len(e) == 1 && e[0] == nil }

// input reads the input of an operation; one without a body has none.
func input[T any](r *http.Request) (in T, err error) {
	if r.ContentLength == 0 && r.Header.Get("Content-Type") == "" {
		return in, nil
	}
	text, err := body(r, mostInput)
	if err != nil || len(text) == 0 {
		return in, err
	}
	var d struct {
		Input *T `json:"ietf-netconf:input"`
	}
	if err := strict(text, &d); err != nil {
		return in, err
	}
	if d.Input == nil {
		return in, refusal(http.StatusBadRequest, MissingElement, "the input stands in ietf-netconf:input")
	}
	return *d.Input, nil
}

// committing is the input of commit.
type committing struct {
	Confirmed empty  `json:"confirmed,omitempty"`
	Timeout   int    `json:"confirm-timeout,omitempty"` // seconds
	Persist   string `json:"persist,omitempty"`         // the trial's token
	PersistID string `json:"persist-id,omitempty"`
	Candidate string `json:"wideknot-gateway:candidate,omitempty"` // digest of what is to be committed
	Release   int    `json:"wideknot-gateway:release,omitempty"`
}

// commit makes the candidate run, on trial or for good, or confirms a trial.
func (h *handler) commit(w http.ResponseWriter, r *http.Request) error {
	in, err := input[committing](r)
	if err != nil {
		return err
	}
	for _, token := range []string{in.Persist, in.PersistID} {
		if len(token) > 255 || strings.ContainsFunc(token, func(c rune) bool { return c < '!' || c > '~' }) {
			return refusal(http.StatusBadRequest, InvalidValue, "a token is up to 255 visible characters")
		}
	}
	switch {
	case in.PersistID != "" && in.Confirmed.set():
		return refusal(http.StatusBadRequest, NotSupported, "a trial cannot be made longer: confirm it, or cancel it and commit again")
	case in.PersistID != "":
		h.mu.Lock()
		early := h.began[in.PersistID]
		h.mu.Unlock()
		if early {
			return refusal(http.StatusConflict, OperationFailed, "what was tried over this line is confirmed over one that was dialled after it was applied")
		}
		if err := h.device.Confirm(r.Context(), in.PersistID); err != nil {
			return err
		}
		w.WriteHeader(http.StatusNoContent)
		return nil
	case !in.Confirmed.set() && (in.Timeout != 0 || in.Persist != ""):
		return refusal(http.StatusBadRequest, MissingElement, "confirm-timeout and persist go with confirmed")
	}
	seconds := 0
	if in.Confirmed.set() {
		if seconds = cmp.Or(in.Timeout, usualTrial); seconds < 1 || seconds > longestTrial {
			return refusal(http.StatusBadRequest, InvalidValue, "a trial is from 1 to %d seconds long", longestTrial)
		}
	}
	if in.Release < 0 {
		return refusal(http.StatusBadRequest, InvalidValue, "a release is a number from 1")
	}
	return h.apply(w, r, &in, seconds)
}

// apply makes the candidate run for so many seconds, or for good with 0.
func (h *handler) apply(w http.ResponseWriter, r *http.Request, in *committing, seconds int) error {
	h.mu.Lock()
	c := h.candidate
	h.mu.Unlock()
	if c == nil { // the candidate is as what runs; so it may have been committed before
		var err error
		if c, err = h.device.Running(r.Context()); err != nil {
			return err
		}
	}
	switch {
	case c == nil:
		return refusal(http.StatusBadRequest, InvalidValue, "there is nothing to commit")
	case in.Candidate != "" && in.Candidate != c.Digest():
		return refusal(http.StatusConflict, OperationFailed, "the candidate is %s, not %s", c.Digest(), in.Candidate)
	}
	token := in.Persist
	if token == "" {
		room := make([]byte, 8)
		_, _ = rand.Read(room) // never fails
		token = hex.EncodeToString(room)
	}
	before, err := h.device.State(r.Context())
	if err != nil {
		return err
	}
	if err := h.device.Try(r.Context(), c, in.Release, token, seconds); err != nil {
		if !errors.Is(err, ErrInUse) {
			err = refusal(http.StatusConflict, OperationFailed, "%v", err)
		}
		return err
	}
	h.forget(c)
	if h.applied != nil && seconds > 0 && before.Trial.Token != token { // not the same again
		h.mu.Lock()
		h.began[token] = true
		h.mu.Unlock()
		defer h.applied()
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// forget lets the candidate be as what runs, unless it was written anew meanwhile.
func (h *handler) forget(c *gateway.Config) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.candidate == c {
		h.candidate = nil
	}
}

// cancel goes back from a trial.
func (h *handler) cancel(w http.ResponseWriter, r *http.Request) error {
	in, err := input[struct {
		PersistID string `json:"persist-id,omitempty"`
	}](r)
	if err != nil {
		return err
	}
	if in.PersistID == "" {
		return refusal(http.StatusBadRequest, MissingElement, "persist-id says which trial is cancelled")
	}
	if err := h.device.Back(r.Context(), in.PersistID); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// discard makes the candidate what runs.
func (h *handler) discard(w http.ResponseWriter, r *http.Request) error {
	if _, err := input[struct{}](r); err != nil {
		return err
	}
	h.mu.Lock()
	h.candidate = nil
	h.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// ours reads the input of an operation of our own module.
func ours[T any](r *http.Request, most int64) (*T, error) {
	text, err := body(r, most)
	if err != nil {
		return nil, err
	}
	var d struct {
		Input *T `json:"wideknot-gateway:input"`
	}
	if err := strict(text, &d); err != nil {
		return nil, err
	}
	if d.Input == nil {
		return nil, refusal(http.StatusBadRequest, MissingElement, "the input stands in wideknot-gateway:input")
	}
	return d.Input, nil
}

// sharing is the input of share-keys.
type sharing struct {
	Keys []sharedKey `json:"key"`
}

type sharedKey struct {
	Interface string `json:"interface"`
	Key       []byte `json:"key"` // base64, by YANG's binary
}

// share keeps keys that the gateway shares with far ends. They are never read back.
func (h *handler) share(w http.ResponseWriter, r *http.Request) error {
	in, err := ours[sharing](r, mostKeys)
	if err != nil {
		return err
	}
	keys := make(map[string][32]byte, len(in.Keys))
	for _, k := range in.Keys {
		if len(k.Key) != 32 || !gateway.IsInterface(k.Interface) {
			return refusal(http.StatusBadRequest, InvalidValue, "a key is of an interface, and of 32 bytes")
		}
		keys[k.Interface] = [32]byte(k.Key)
	}
	if err := h.device.Share(r.Context(), keys); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// newKey lets the gateway make another key.
func (h *handler) newKey(w http.ResponseWriter, r *http.Request) error {
	if _, err := input[struct{}](r); err != nil {
		return err
	}
	public, err := h.device.NewKey(r.Context())
	if err != nil {
		return err
	}
	return reply(w, r, map[string]any{"wideknot-gateway:output": map[string]any{"public-key": public}})
}

// asking is the input of echo.
type asking struct {
	Asks []gateway.Echo `json:"ask"`
}

// echo lets the gateway ask for echoes, and tells how they ended.
func (h *handler) echo(w http.ResponseWriter, r *http.Request) error {
	in, err := ours[asking](r, mostInput)
	if err != nil {
		return err
	}
	if err := gateway.CheckEchoes(in.Asks); err != nil {
		return refusal(http.StatusBadRequest, InvalidValue, "%v", err)
	}
	answers, err := h.device.Echo(r.Context(), in.Asks)
	if err != nil {
		return err
	}
	return reply(w, r, map[string]any{"wideknot-gateway:output": map[string]any{"answer": answers}})
}

// look looks closely at tunnels.
func (h *handler) look(w http.ResponseWriter, r *http.Request) error {
	in, err := ours[gateway.Look](r, mostInput)
	if err != nil {
		return err
	}
	if err := in.Check(); err != nil {
		return refusal(http.StatusBadRequest, InvalidValue, "%v", err)
	}
	seen, err := h.device.Look(r.Context(), in)
	if err != nil {
		return err
	}
	return reply(w, r, map[string]any{"wideknot-gateway:output": seen})
}

// having is the input of samples.
type having struct {
	Epoch string          `json:"epoch,omitempty"`
	Has   gateway.Counter `json:"has,omitempty"`
}

// samples tells what was measured and nobody has yet.
func (h *handler) samples(w http.ResponseWriter, r *http.Request) error {
	in := &having{}
	if r.ContentLength != 0 || r.Header.Get("Content-Type") != "" {
		var err error
		if in, err = ours[having](r, mostInput); err != nil {
			return err
		}
	}
	out, err := h.device.Samples(r.Context(), in.Epoch, in.Has)
	if err != nil {
		return err
	}
	return reply(w, r, map[string]any{"wideknot-gateway:output": out})
}

// bench loads a tunnel.
func (h *handler) bench(w http.ResponseWriter, r *http.Request) error {
	in, err := ours[gateway.Bench](r, mostInput)
	if err != nil {
		return err
	}
	if err := in.Check(); err != nil {
		return refusal(http.StatusBadRequest, InvalidValue, "%v", err)
	}
	out, err := h.device.Bench(r.Context(), in)
	if err != nil {
		return err
	}
	return reply(w, r, map[string]any{"wideknot-gateway:output": out})
}

// sessions tells what is open by a tunnel, or ends it.
func (h *handler) sessions(w http.ResponseWriter, r *http.Request) error {
	in, err := ours[gateway.SessionsOrder](r, mostInput)
	if err != nil {
		return err
	}
	if err := in.Check(); err != nil {
		return refusal(http.StatusBadRequest, InvalidValue, "%v", err)
	}
	out, err := h.device.Sessions(r.Context(), in)
	if err != nil {
		return err
	}
	return reply(w, r, map[string]any{"wideknot-gateway:output": out})
}

// hold holds tunnels down, or lets them go.
func (h *handler) hold(w http.ResponseWriter, r *http.Request) error {
	in, err := ours[gateway.Hold](r, mostInput)
	if err != nil {
		return err
	}
	if err := in.Check(); err != nil {
		return refusal(http.StatusBadRequest, InvalidValue, "%v", err)
	}
	if err := h.device.Hold(r.Context(), in); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
