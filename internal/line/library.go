package line

// libraryRevision is that of ietf-yang-library which the gateway speaks (RFC 8525).
const libraryRevision = "2019-01-04"

// GatewayRevision is that of wideknot-gateway: what a gateway of another revision is sent
// nothing by.
const GatewayRevision = "2026-12-01"

// A Module is one that the gateway implements, or that others import.
type Module struct {
	Name      string   `json:"name"`
	Revision  string   `json:"revision"`
	Namespace string   `json:"namespace"`
	Features  []string `json:"feature,omitempty"`
}

var implemented = []Module{
	{"ietf-datastores", "2018-02-14", "urn:ietf:params:xml:ns:yang:ietf-datastores", nil},
	{"ietf-netconf", "2011-06-01", "urn:ietf:params:xml:ns:netconf:base:1.0", []string{"candidate", "confirmed-commit"}},
	{"ietf-restconf-monitoring", "2017-01-26", "urn:ietf:params:xml:ns:yang:ietf-restconf-monitoring", nil},
	{"ietf-yang-library", libraryRevision, "urn:ietf:params:xml:ns:yang:ietf-yang-library", nil},
	{"wideknot-gateway", GatewayRevision, "urn:wideknot:yang:wideknot-gateway", nil},
}

var imported = []Module{
	{"ietf-inet-types", "2013-07-15", "urn:ietf:params:xml:ns:yang:ietf-inet-types", nil},
	{"ietf-netconf-acm", "2018-02-14", "urn:ietf:params:xml:ns:yang:ietf-netconf-acm", nil},
	{"ietf-yang-types", "2013-07-15", "urn:ietf:params:xml:ns:yang:ietf-yang-types", nil},
}

// A Library is what a gateway says of its modules.
type Library struct {
	ContentID string      `json:"content-id"`
	Sets      []moduleSet `json:"module-set"`
	Schemas   []schema    `json:"schema"`
	Stores    []datastore `json:"datastore"`
}

type moduleSet struct {
	Name     string   `json:"name"`
	Modules  []Module `json:"module,omitempty"`
	Imported []Module `json:"import-only-module,omitempty"`
}

type schema struct {
	Name string   `json:"name"`
	Sets []string `json:"module-set"`
}

type datastore struct {
	Name   string `json:"name"`
	Schema string `json:"schema"`
}

// library is the ietf-yang-library:yang-library of a gateway.
func library() *Library {
	out := &Library{
		ContentID: GatewayRevision, Sets: []moduleSet{{"all", implemented, imported}}, Schemas: []schema{{"gateway", []string{"all"}}},
	}
	for _, store := range []string{running, candidate, operational} {
		out.Stores = append(out.Stores, datastore{store, "gateway"})
	}
	return out
}

// Implements reports whether a gateway has a module in a revision.
func (l *Library) Implements(name, revision string) bool {
	for _, set := range l.Sets {
		for _, m := range set.Modules {
			if m.Name == name && m.Revision == revision {
				return true
			}
		}
	}
	return false
}

// monitoring is the ietf-restconf-monitoring:restconf-state of a gateway.
func monitoring() any {
	return map[string]any{
		"capabilities": map[string]any{"capability": []string{"urn:ietf:params:restconf:capability:defaults:1.0?basic-mode=explicit", "urn:ietf:params:restconf:capability:replay:1.0"}},
		"streams": map[string]any{"stream": []any{map[string]any{
			"name": "events", "description": "The gateway's journal; Last-Event-ID goes on where a reader stopped.", "replay-support": true,
			"access": []any{map[string]any{"encoding": "json", "location": "/restconf/streams/events"}},
		}}},
	}
}
