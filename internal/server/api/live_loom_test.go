package api

import (
	"strings"
	"testing"

	"wideknot/internal/server/desk"
)

// released releases the demo estate without the sites whose errors would hold it.
func released(s *server, base string) {
	s.t.Helper()
	for _, key := range []string{"crossfold", "wintermere"} {
		must[EstateHead](s, "DELETE", base+"/sites/"+key, nil)
	}
	must[struct{}](s, "POST", base+"/release", map[string]any{"message": "as it is", "reason": "the demo's findings stand"})
}

// The live loom is of the release in force, and says that nothing is known where no gateway is there.
func TestTheLiveLoomWithoutGateways(t *testing.T) {
	s := start(t)
	base := s.demo()
	estate := strings.TrimSuffix(base, "/drafts/first")
	empty := must[desk.Summary](s, "POST", "/api/estates", map[string]string{"name": "Empty"})
	if is := must[desk.LiveLoom](s, "GET", "/api/estates/"+empty.Key+"/loom", nil); is.Release != 0 || is.Overlay != "" || len(is.Rows) != 0 {
		t.Errorf("nothing is released: %+v", is)
	}
	released(s, base)
	is := must[desk.LiveLoom](s, "GET", estate+"/loom", nil)
	if is.Overlay != "ops" || len(is.Rows) != 38 || is.ByRegion || is.Sum.Pairs == 0 || is.Sum.Unseen != is.Sum.Pairs {
		t.Errorf("%s: %d rows, %+v", is.Overlay, len(is.Rows), is.Sum)
	}
	mesh := must[desk.LiveLoom](s, "GET", estate+"/loom?overlay=works-mesh", nil)
	if mesh.Overlay != "works-mesh" || len(mesh.Columns) != len(mesh.Rows) || mesh.Sum.Pairs != len(mesh.Rows)*(len(mesh.Rows)-1)/2 {
		t.Errorf("%d columns, %d rows, %+v", len(mesh.Columns), len(mesh.Rows), mesh.Sum)
	}
	s.refused(404, "GET", estate+"/loom?overlay=nowhere", nil)
}

// Sessions are told in a window of maintenance only, of tunnels that are in force.
func TestSessionsNeedAWindow(t *testing.T) {
	s := start(t)
	base := s.demo()
	estate := strings.TrimSuffix(base, "/drafts/first")
	released(s, base)
	ask := map[string]any{"site": "tarnhollow", "interface": "harrowmere-1"}
	if p := s.refused(422, "POST", estate+"/sessions", ask); !strings.Contains(p.Detail, "in a window of maintenance only") {
		t.Errorf("%+v", p)
	}
	ask["interface"] = "nowhere-9"
	if p := s.refused(422, "POST", estate+"/sessions", ask); !strings.Contains(p.Detail, "no tunnel") {
		t.Errorf("%+v", p)
	}
	ask["reset"] = "all"
	s.refused(422, "POST", estate+"/sessions", ask)
}
