package line

import (
	"encoding/json"
	"net/http"

	"wideknot/core/gateway"
)

// The datastores of a gateway (RFC 8342).
const (
	running     = "ietf-datastores:running"
	candidate   = "ietf-datastores:candidate"
	operational = "ietf-datastores:operational"
)

// The top nodes of a gateway's data.
const (
	gatewayNode    = "wideknot-gateway:gateway"
	stateNode      = "wideknot-gateway:state"
	offersNode     = "wideknot-gateway:offers"
	libraryNode    = "ietf-yang-library:yang-library"
	monitoringNode = "ietf-restconf-monitoring:restconf-state"
)

// content is a datastore's: values by the names of their nodes.
type content map[string]any

// in reads a datastore; tag is the entity tag of its configuration.
func (h *handler) in(r *http.Request, store string) (out content, tag string, err error) {
	is, err := h.device.Running(r.Context())
	if err != nil {
		return nil, "", err
	}
	if store == candidate {
		h.mu.Lock()
		if h.candidate != nil {
			is = h.candidate
		}
		h.mu.Unlock()
	}
	out = content{}
	if is != nil {
		out[gatewayNode] = is
	}
	switch store {
	case running, candidate:
	case operational:
		s, err := h.device.State(r.Context())
		if err != nil {
			return nil, "", err
		}
		out[stateNode] = s
		if node := r.PathValue("node"); node == "" || node == offersNode { // they take asking around
			if out[offersNode], err = h.device.Offers(r.Context()); err != nil {
				return nil, "", err
			}
		}
		out[libraryNode], out[monitoringNode] = library(), monitoring()
	default:
		return nil, "", refusal(http.StatusNotFound, InvalidValue, "there is no datastore %q; there are %s, %s and %s", store, running, candidate, operational)
	}
	return out, tagOf(is), nil
}

// read answers with a datastore (RFC 8527), or a node of it.
func (h *handler) read(w http.ResponseWriter, r *http.Request) error {
	if err := noQuery(r); err != nil {
		return err
	}
	found, tag, err := h.in(r, r.PathValue("store"))
	if err != nil {
		return err
	}
	if r.PathValue("store") != operational {
		w.Header().Set("ETag", tag)
	}
	return h.node(w, r, found)
}

// node answers with one node, or with all where the request names none.
func (h *handler) node(w http.ResponseWriter, r *http.Request, found content) error {
	name := r.PathValue("node")
	if name == "" {
		return reply(w, r, map[string]any{"ietf-restconf:data": found})
	}
	value, there := found[name]
	if !there {
		return refusal(http.StatusNotFound, InvalidValue, "there is no %q here", name)
	}
	return reply(w, r, content{name: value})
}

// data answers with the conventional datastores in one (RFC 8040, 3.3.1): what runs, and
// what is reported. It is edited by the candidate alone.
func (h *handler) data(w http.ResponseWriter, r *http.Request) error {
	if err := noQuery(r, "content"); err != nil {
		return err
	}
	found, tag, err := h.in(r, operational)
	if err != nil {
		return err
	}
	switch kind := r.URL.Query().Get("content"); kind {
	case "", "all":
	case "config":
		found = content{gatewayNode: found[gatewayNode]}
	case "nonconfig":
		delete(found, gatewayNode)
	default:
		return refusal(http.StatusBadRequest, InvalidValue, "content is config, nonconfig or all, not %q", kind)
	}
	if found[gatewayNode] == nil {
		delete(found, gatewayNode)
	}
	w.Header().Set("ETag", tag)
	return h.node(w, r, found)
}

// write replaces the candidate. If-Match names the running configuration that it was made
// from: another means that somebody changed the gateway meanwhile.
func (h *handler) write(w http.ResponseWriter, r *http.Request) error {
	if err := noQuery(r); err != nil {
		return err
	}
	if store := r.PathValue("store"); store != candidate {
		w.Header().Set("Allow", "GET, HEAD, OPTIONS")
		return refusal(http.StatusMethodNotAllowed, NotSupported, "%s is written by commit alone; write %s", store, candidate)
	}
	text, err := body(r, gateway.MaxDocument)
	if err != nil {
		return err
	}
	is, err := h.device.Running(r.Context())
	if err != nil {
		return err
	}
	if match := r.Header.Get("If-Match"); match != "" && match != "*" && match != tagOf(is) {
		w.Header().Set("ETag", tagOf(is))
		return refusal(http.StatusPreconditionFailed, OperationFailed, "what runs here is %s, not %s", tagOf(is), match)
	}
	switch r.PathValue("node") {
	case "":
		var d struct {
			Data json.RawMessage `json:"ietf-restconf:data"`
		}
		if err := strict(text, &d); err != nil {
			return err
		}
		if d.Data == nil {
			return refusal(http.StatusBadRequest, MissingElement, "the datastore stands in ietf-restconf:data")
		}
		text = d.Data
	case gatewayNode:
	default:
		return refusal(http.StatusBadRequest, UnknownElement, "%s has %s and nothing else", candidate, gatewayNode)
	}
	c, err := gateway.Parse(text)
	if err != nil {
		return refusal(http.StatusBadRequest, InvalidValue, "%v", err)
	}
	h.mu.Lock()
	h.candidate = c
	h.mu.Unlock()
	w.Header().Set("ETag", tagOf(c))
	w.WriteHeader(http.StatusNoContent)
	return nil
}
