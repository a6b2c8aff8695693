package fleet

import (
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"time"

	"wideknot/internal/gateway/memory"
)

//go:embed page.html page.js page.css
var page embed.FS

const mostChange = 64 << 10 // bytes of a request

// Handler lets people and programs look at the world and change it: GET /world, POST
// /changes with one Change or a list of them, GET /ask for what a host sees, and a page.
func (w *World) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /world", func(out http.ResponseWriter, _ *http.Request) { answerJSON(out, w.View()) })
	mux.HandleFunc("POST /changes", func(out http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Content-Type") != "application/json" { // no page of another origin sends that unasked
			http.Error(out, "a change is application/json", http.StatusUnsupportedMediaType)
			return
		}
		text, err := io.ReadAll(http.MaxBytesReader(out, r.Body, mostChange))
		if err != nil {
			http.Error(out, "the change is too long", http.StatusRequestEntityTooLarge)
			return
		}
		var list []Change
		if err := json.Unmarshal(text, &list); err != nil {
			list = make([]Change, 1)
			if err := json.Unmarshal(text, &list[0]); err != nil {
				http.Error(out, "this is no change: "+err.Error(), http.StatusBadRequest)
				return
			}
		}
		for i := range list {
			if err := w.Do(list[i]); err != nil {
				http.Error(out, fmt.Sprintf("change %d: %v", i+1, err), http.StatusUnprocessableEntity)
				return
			}
		}
		out.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("GET /ask", func(out http.ResponseWriter, r *http.Request) {
		result, err := w.answerAsk(r)
		if err != nil {
			http.Error(out, err.Error(), http.StatusBadRequest)
			return
		}
		answerJSON(out, result)
	})
	for path, name := range map[string]string{"GET /{$}": "page.html", "GET /page.js": "page.js", "GET /page.css": "page.css"} {
		mux.HandleFunc(path, func(out http.ResponseWriter, r *http.Request) { http.ServeFileFS(out, r, page, name) })
	}
	return guard(mux)
}

// guard keeps pages of other origins out, and names that are not this machine's.
func guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.Host)
		if err != nil {
			host = r.Host
		}
		if at, err := netip.ParseAddr(host); host != "localhost" && (err != nil || !at.IsLoopback()) {
			http.Error(w, "stand-ins are for this machine alone", http.StatusMisdirectedRequest)
			return
		}
		if origin := r.Header.Get("Origin"); origin != "" && origin != "http://"+r.Host {
			http.Error(w, "a page of another origin may not change the world", http.StatusForbidden)
			return
		}
		w.Header().Set("Content-Security-Policy", "default-src 'self'; base-uri 'none'; frame-ancestors 'none'")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		next.ServeHTTP(w, r)
	})
}

// answerAsk lets a host ask: site, from, to, and by wish protocol, port, size and ttl.
func (w *World) answerAsk(r *http.Request) (Result, error) {
	from, err := netip.ParseAddr(r.FormValue("from"))
	if err != nil {
		return Result{}, errors.New("from is an address of a host")
	}
	to, err := netip.ParseAddr(r.FormValue("to"))
	if err != nil {
		return Result{}, errors.New("to is an address")
	}
	number := func(name string, usual, most int) (int, error) {
		text := r.FormValue(name)
		if text == "" {
			return usual, nil
		}
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > most {
			return 0, fmt.Errorf("%s is a number from 1 to %d", name, most)
		}
		return n, nil
	}
	port, errPort := number("port", 7, 65535)
	size, errSize := number("size", 100, 9000)
	ttl, errTTL := number("ttl", 64, 255)
	if err := errors.Join(errPort, errSize, errTTL); err != nil {
		return Result{}, err
	}
	protocol, known := map[string]byte{"": memory.ProtoICMP, "icmp": memory.ProtoICMP, "udp": memory.ProtoUDP, "tcp": memory.ProtoTCP}[r.FormValue("protocol")]
	if !known {
		return Result{}, errors.New("protocol is icmp, udp or tcp")
	}
	ctx, done := context.WithTimeout(r.Context(), 3*time.Second)
	defer done()
	return w.Ask(ctx, r.FormValue("site"), from, to, protocol, uint16(port), size, ttl)
}

func answerJSON(w http.ResponseWriter, value any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(value) // who went away is told nothing
}
