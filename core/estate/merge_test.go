package estate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
)

func prefixes(list ...string) (out []netip.Prefix) {
	for _, text := range list {
		out = append(out, netip.MustParsePrefix(text))
	}
	return out
}

// A document laid over an estate replaces what has the same key, adds what is new and leaves the
// rest, and changes neither of the two.
func TestMerge(t *testing.T) {
	base := &Estate{
		About: About{Name: "Base", Regions: []Region{{Key: "fen", Blocks: prefixes("10.1.0.0/16")}, {Key: "moor"}}, Reserved: []Reservation{{Prefix: netip.MustParsePrefix("10.0.0.0/24"), For: "old"}}, Shed: []string{"guest"}},
		Sites: []Site{{Key: "a", Name: "A"}, {Key: "b", Name: "B"}}, Overlays: []Overlay{{Key: "ops", KeepaliveS: 10}},
		Allocations: Allocations{Keys: map[string]string{"a": "1"}},
	}
	over := &Estate{
		About: About{Regions: []Region{{Key: "fen", Blocks: prefixes("10.2.0.0/16")}, {Key: "hill"}}, Reserved: []Reservation{{Prefix: netip.MustParsePrefix("10.0.0.0/24"), For: "new"}}},
		Sites: []Site{{Key: "c", Name: "C"}, {Key: "b", Name: "New B"}}, Overlays: []Overlay{{Key: "ops", KeepaliveS: 20}, {Key: "works"}},
		Allocations: Allocations{Keys: map[string]string{"b": "2"}},
	}
	out := Merge(base, over)
	var said []string
	for _, s := range out.Sites {
		said = append(said, s.Key+" "+s.Name)
	}
	for _, r := range out.About.Regions {
		said = append(said, fmt.Sprint(r.Key, " ", r.Blocks))
	}
	for _, o := range out.Overlays {
		said = append(said, o.Key)
	}
	said = append(said, out.About.Name, out.About.Reserved[0].For, out.About.Shed[0], out.Allocations.Keys["a"], out.Allocations.Keys["b"])
	want := []string{"a A", "b New B", "c C", "fen [10.2.0.0/16]", "moor []", "hill []", "ops", "works", "Base", "new", "guest", "1", "2"}
	if !slices.Equal(said, want) || out.Overlays[0].KeepaliveS != 20 {
		t.Errorf("it is %q, want %q", said, want)
	}
	if base.Sites[1].Name != "B" || len(base.Allocations.Keys) != 1 || len(over.Allocations.Keys) != 1 || base.About.Regions[0].Blocks[0] != prefixes("10.1.0.0/16")[0] {
		t.Error("what it was laid over is changed")
	}
	over.About.Name, over.About.Shed, over.Allocations.Keys = "Over", []string{"camera"}, nil
	if out = Merge(base, over); out.About.Name != "Over" || out.About.Shed[0] != "camera" || len(out.Allocations.Keys) != 1 {
		t.Errorf("it is %+v, %v", out.About, out.Allocations.Keys)
	}
	if out = Merge(&Estate{}, base); out.Allocations.Keys["a"] != "1" {
		t.Error("numbers laid over none are lost")
	}
}

// Overlays keep who is there, wherever they name somebody, and subnets the overlays that are.
func TestWithoutStrangers(t *testing.T) {
	in := &Estate{
		Sites: []Site{{Key: "hub"}, {Key: "a", Subnets: []Subnet{{Share: []string{"ops", "gone"}}}}},
		Overlays: []Overlay{{
			Key: "ops", Hubs: []string{"hub", "x1"}, Spokes: []Spoke{{Site: "a", Hubs: []string{"x2", "hub"}}, {Site: "x3"}},
			Direct: [][]string{{"a", "x4"}, {"hub", "a"}}, TunnelOrder: []PairOrder{{Between: []string{"a", "x5"}}, {Between: []string{"a", "hub"}}},
			Pins: []Pin{{Site: "x6", Via: "hub"}, {Site: "a", Via: "x7"}, {Site: "a", Via: "hub"}}, Breakout: &Breakout{Hubs: []string{"x8", "hub"}, Sites: []string{"a", "x9"}},
			Policy: &Policy{Rules: []Rule{{From: Party{Site: "x10"}}, {To: Party{Site: "x11"}}, {From: Party{Site: "a"}}, {}}},
		}},
	}
	out := in.WithoutStrangers()
	o := &out.Overlays[0]
	if len(o.Hubs) != 1 || len(o.Spokes) != 1 || !slices.Equal(o.Spokes[0].Hubs, []string{"hub"}) || len(o.Direct) != 1 || len(o.TunnelOrder) != 1 || len(o.Pins) != 1 ||
		!slices.Equal(o.Breakout.Hubs, []string{"hub"}) || !slices.Equal(o.Breakout.Sites, []string{"a"}) || len(o.Policy.Rules) != 2 {
		t.Errorf("what is left is %+v", o)
	}
	if share := out.Sites[1].Subnets[0].Share; !slices.Equal(share, []string{"ops"}) || len(in.Sites[1].Subnets[0].Share) != 2 || len(in.Overlays[0].Hubs) != 2 {
		t.Errorf("it is shared into %v", share)
	}
}

// A proposal names each kind once, what its use needs, and nothing else.
func TestProposals(t *testing.T) {
	for _, test := range []struct {
		text string
		ike  bool
		want string // part of the complaint; empty for none
	}{
		{"ENCR_AES_GCM_16-256/PRF_HMAC_SHA2_384/GROUP_ECP384", true, "not an IKEv2 transform"},
		{"ENCR_AES_GCM_16-256/PRF_HMAC_SHA2_384/384-bit-random-ECP", true, ""},
		{"ENCR_AES_GCM_16-256/PRF_HMAC_SHA2_384", true, "lacks a PRF or a group"},
		{"ENCR_AES_GCM_16-256/384-bit-random-ECP", true, "lacks a PRF or a group"},
		{"ENCR_AES_GCM_16-256", false, ""},
		{"ENCR_AES_GCM_16-256/AUTH_HMAC_SHA2_256_128", false, "bring their integrity"},
		{"ENCR_AES_CBC-256/AUTH_HMAC_SHA2_256_128", false, ""},
		{"ENCR_AES_GCM_16-256", true, "lacks a PRF or a group"},
		{"ENCR_CHACHA20_POLY1305", false, ""},
		{"ENCR_AES_CBC-256", false, "all others need one"},
		{"ENCR_AES_GCM_16-256/ENCR_AES_CBC-256", false, "two transforms of kind encryption"},
		{"PRF_HMAC_SHA2_256", true, "names no encryption"},
		{"ENCR_AES_GCM_16-256/PRF_HMAC_SHA2_256", false, "which ESP has no use for"},
	} {
		v := &validator{}
		v.proposal("at", test.text, test.ike)
		list := v.problems.all()
		if (test.want == "") != (len(list) == 0) || test.want != "" && !slices.ContainsFunc(list, func(p Problem) bool { return strings.Contains(p.Message, test.want) }) {
			t.Errorf("%s, ike %v: %v, want %q", test.text, test.ike, list, test.want)
		}
	}
	for kind, names := range transforms {
		for _, name := range names {
			if TransformKind(name) != kind {
				t.Errorf("%s is of kind %q, not %q", name, TransformKind(name), kind)
			}
		}
	}
	if TransformKind("ENCR_ROT13") != "" {
		t.Error("an unknown transform is of some kind")
	}
}
