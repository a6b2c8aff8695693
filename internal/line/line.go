// Package line is what gateways and servers speak: RESTCONF (RFC 8040) over datastores
// (RFC 8342, 8527), with a configuration that is confirmed or goes back (RFC 6241,
// 8.4). The gateway is the RESTCONF server: Handler answers for a Device.
package line

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"wideknot/core/gateway"
)

// A Device is what a gateway's side of the line drives.
type Device interface {
	// Running returns what the gateway is to be, on trial or confirmed; nil for nothing.
	Running(ctx context.Context) (*gateway.Config, error)
	State(ctx context.Context) (*gateway.State, error)
	// Try applies a configuration for so many seconds, for good with 0. The same token
	// with the same configuration is answered alike; while another is tried the error is
	// ErrInUse.
	Try(ctx context.Context, c *gateway.Config, release int, token string, seconds int) error
	// Confirm keeps what is tried by that token, and Back goes back; both are answered
	// alike when repeated, and ErrToken is of one that is not the trial's.
	Confirm(ctx context.Context, token string) error
	Back(ctx context.Context, token string) error
	// Offers tells what the gateway sees of itself and around it.
	Offers(ctx context.Context) (*gateway.Offers, error)
	// Share keeps keys that are shared with far ends, by interface.
	Share(ctx context.Context, keys map[string][32]byte) error
	// Echo asks for echoes, and waits for how they end. While others are asked for the error
	// is ErrAsking.
	Echo(ctx context.Context, list []gateway.Echo) ([]gateway.Echoed, error)
	// Look looks closely at tunnels for a while. While another look is taken the error is
	// ErrAsking.
	Look(ctx context.Context, l *gateway.Look) (*gateway.Looked, error)
	// Bench loads a tunnel for some seconds. While another is loaded the error is ErrAsking.
	Bench(ctx context.Context, b *gateway.Bench) (*gateway.Benched, error)
	// Hold holds tunnels down for a time, or lets them go.
	Hold(ctx context.Context, h *gateway.Hold) error
	// Sessions tells what is open by a tunnel, and ends it where that is asked for.
	Sessions(ctx context.Context, o *gateway.SessionsOrder) (*gateway.Sessions, error)
	// Samples forgets the samples of an epoch up to a number, as somebody has them, and returns the
	// first of those that are left. An epoch that is not the present one forgets nothing.
	Samples(ctx context.Context, epoch string, has gateway.Counter) (*gateway.Samples, error)
	// NewKey makes another private key beside the one that is used, and returns its public half.
	NewKey(ctx context.Context) (public string, err error)
	// Events returns those behind a sequence number, at most so many, the epoch of the
	// journal, and a channel that closes with the next.
	Events(after uint64, most int) (epoch string, events []Event, more <-chan struct{}, err error)
}

// ErrInUse is of a second trial while one goes on, and ErrAsking of echoes or
// a look while another is asked for.
var (
	ErrInUse  = errors.New("a configuration is being tried: confirm it or go back first")
	ErrAsking = errors.New("the gateway is being asked for something like it: wait until that has ended")
)

// ErrToken is of a token that is not the trial's.
var ErrToken = errors.New("nothing of that name is being tried")

// An Event is one line of a gateway's journal. Sequence has no gaps within an epoch;
// where lines were dropped for want of room, what is left begins later.
type Event struct {
	Epoch    string    `json:"epoch"`
	Sequence uint64    `json:"sequence"`
	At       time.Time `json:"at"`
	Kind     string    `json:"kind"`
	About    string    `json:"about,omitempty"` // an interface, a way, a link
	Words    string    `json:"words"`
}

// Media types of RFC 8040, 11.3 and RFC 7952.
const (
	yangJSON    = "application/yang-data+json"
	eventStream = "text/event-stream"
)

// ErrorTag is one of RFC 8040, 7.
type ErrorTag string

// The tags that are used.
const (
	InUse           ErrorTag = "in-use"
	InvalidValue    ErrorTag = "invalid-value"
	TooBig          ErrorTag = "too-big"
	MissingElement  ErrorTag = "missing-element"
	UnknownElement  ErrorTag = "unknown-element"
	Malformed       ErrorTag = "malformed-message"
	NotSupported    ErrorTag = "operation-not-supported"
	OperationFailed ErrorTag = "operation-failed"
)

// An Error is what the far end refused, by RFC 8040, 7.1.
type Error struct {
	Status  int // of HTTP
	Tag     ErrorTag
	Message string
}

// Error says what was refused.
func (e *Error) Error() string {
	return fmt.Sprintf("the gateway refuses (%d, %s): %s", e.Status, e.Tag, e.Message)
}

// refusal makes an Error.
func refusal(status int, tag ErrorTag, format string, values ...any) *Error {
	return &Error{status, tag, fmt.Sprintf(format, values...)}
}

// errorDocument is the ietf-restconf:errors of RFC 8040.
type errorDocument struct {
	Errors struct {
		Error []errorEntry `json:"error"`
	} `json:"ietf-restconf:errors"`
}

type errorEntry struct {
	Type    string   `json:"error-type"`
	Tag     ErrorTag `json:"error-tag"`
	Message string   `json:"error-message,omitempty"`
}

// refuse writes an error. One that is no Error is the gateway's own failure.
func refuse(w http.ResponseWriter, err error) {
	var e *Error
	switch {
	case errors.As(err, &e):
	case errors.Is(err, ErrInUse), errors.Is(err, ErrAsking):
		e = refusal(http.StatusConflict, InUse, "%v", err)
	case errors.Is(err, ErrToken):
		e = refusal(http.StatusBadRequest, InvalidValue, "%v", err)
	default:
		e = refusal(http.StatusInternalServerError, OperationFailed, "%v", err)
	}
	var d errorDocument
	kind := "application"
	if e.Tag == Malformed || e.Tag == NotSupported {
		kind = "protocol"
	}
	d.Errors.Error = []errorEntry{{kind, e.Tag, e.Message}}
	w.Header().Set("Content-Type", yangJSON)
	w.WriteHeader(e.Status)
	_ = json.NewEncoder(w).Encode(&d) // who went away is told nothing
}

// tagOf is the entity tag of a configuration: its digest. Of none it is a word of its own.
func tagOf(c *gateway.Config) string {
	if c == nil {
		return `"none"`
	}
	return `"` + c.Digest() + `"`
}
