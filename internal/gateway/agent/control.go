package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strconv"

	"wideknot/core/gateway"
	"wideknot/internal/gateway/socket"
	"wideknot/internal/line"
)

// Serve answers the machine's own programs on a socket until the context ends: the
// same binary's status, events, why, check, apply, confirm, back and remove; and RESTCONF
// as on the line to a server. Who may open the socket is root.
func (a *Agent) Serve(ctx context.Context, path string) error {
	return socket.Serve(ctx, path, a.handler())
}

// handler answers each request with JSON, and an error with its words.
func (a *Agent) handler() http.Handler {
	mux := http.NewServeMux()
	for pattern, f := range map[string]func(*http.Request) (any, error){
		"GET /state":    func(r *http.Request) (any, error) { return a.State(r.Context()) },
		"GET /standing": func(r *http.Request) (any, error) { return a.Standing(r.Context()) },
		"GET /events":   a.answerEvents,
		"GET /why": func(r *http.Request) (any, error) {
			to, err := ParsePlace(r.FormValue("to"))
			if err != nil {
				return nil, err
			}
			return a.Why(r.Context(), to)
		},
		"POST /check":   a.answerCheck,
		"POST /apply":   a.answerApply,
		"POST /confirm": func(r *http.Request) (any, error) { return "kept", a.Confirm(r.Context(), r.FormValue("token")) },
		"POST /back":    func(r *http.Request) (any, error) { return "went back", a.Back(r.Context(), r.FormValue("token")) },
		"POST /forgive": func(r *http.Request) (any, error) {
			return "tunnels that came and went may come back", a.Forgive(r.Context())
		},
		"POST /remove": func(r *http.Request) (any, error) {
			return "everything that was made here is gone", a.Remove(r.Context())
		},
	} {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			value, err := f(r)
			if err != nil {
				status := http.StatusUnprocessableEntity
				if errors.Is(err, ErrBusy) || errors.Is(err, ErrToken) {
					status = http.StatusConflict
				}
				http.Error(w, err.Error(), status)
				return
			}
			write(w, value)
		})
	}
	conversation := line.Handler(a)
	mux.Handle("/restconf", conversation)
	mux.Handle("/restconf/", conversation)
	mux.Handle("/.well-known/", conversation)
	return mux
}

// write writes a state in its own form, and all else as plain JSON. A client that went
// away is told nothing.
func write(w http.ResponseWriter, value any) {
	if s, ok := value.(*gateway.State); ok {
		if text, err := gateway.WriteState(s); err == nil {
			_, _ = w.Write(text)
		}
		return
	}
	_ = json.NewEncoder(w).Encode(value)
}

// answerEvents sends what is behind a sequence number; with wait it waits for it.
func (a *Agent) answerEvents(r *http.Request) (any, error) {
	after, _ := strconv.ParseUint(r.FormValue("after"), 10, 64) // from the first where it is none
	events, more, err := a.journal.After(after, 1000)
	if len(events) == 0 && err == nil && r.FormValue("wait") != "" {
		select {
		case <-more:
			events, _, err = a.journal.After(after, 1000)
		case <-r.Context().Done():
		}
	}
	return events, err
}

func (a *Agent) answerCheck(r *http.Request) (any, error) {
	c, err := readConfig(r)
	if err != nil {
		return nil, err
	}
	return "this configuration can be applied", a.Check(r.Context(), c)
}

func (a *Agent) answerApply(r *http.Request) (any, error) {
	c, err := readConfig(r)
	if err != nil {
		return nil, err
	}
	seconds, err := strconv.Atoi(r.FormValue("try"))
	if err != nil || seconds < 0 || seconds > 7*24*3600 {
		return nil, errors.New("a trial is from 0 to 604800 seconds long")
	}
	release, _ := strconv.Atoi(r.FormValue("release")) // 0 where none is said
	said := "applied and kept"
	if seconds > 0 {
		said = fmt.Sprintf("applied for %d s; wideknot gateway confirm keeps it", seconds)
	}
	return said, a.Try(r.Context(), c, release, r.FormValue("token"), seconds)
}

func readConfig(r *http.Request) (*gateway.Config, error) {
	text, err := io.ReadAll(io.LimitReader(r.Body, gateway.MaxDocument+1))
	if err != nil {
		return nil, err
	}
	return gateway.Parse(text)
}

// ParsePlace reads a prefix or an address.
func ParsePlace(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a.Unmap().WithZone(""), a.Unmap().BitLen()), nil
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return p, fmt.Errorf("%q is neither an address nor a prefix, such as 10.1.2.3 or 10.1.2.0/24", text)
	}
	return p.Masked(), nil
}
