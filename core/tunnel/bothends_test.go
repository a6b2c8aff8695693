package tunnel

import (
	"slices"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
)

// Every tunnel of a sound plan mirrors: what the one dials the other listens
// on; and an end without key is marked.
func TestBothEndsMirror(t *testing.T) {
	e, err := sample.Estate(sample.Options{Sites: 5, Hubs: 2, Links: 2, Seed: 3})
	if err != nil {
		t.Fatal(err)
	}
	wrongs := func(p *Plan, without string) (n int) {
		for i := range p.Estate.Sites {
			for _, peer := range p.Peers(i) {
				sheet, ok := p.BothEnds(peer.Overlay.Spec.Key, p.Ident(peer.Tunnel))
				if !ok || sheet.Rank != peer.Rank {
					t.Fatalf("%s: %+v", p.Ident(peer.Tunnel), sheet)
				}
				for _, l := range sheet.Lines {
					if l.Mirror == "same" && l.A != l.B {
						t.Errorf("%+v", l)
					}
					if l.Wrong != "" && l.What != without {
						n++
					}
				}
			}
		}
		return n
	}
	if n := wrongs(Derive(e), "the peer's public key"); n != 0 {
		t.Errorf("%d lines of a sound plan do not fit", n)
	}
	if wrongs(Derive(e), "") == 0 {
		t.Error("ends without keys are not marked")
	}
	e.Overlays[0].Probe = &estate.Probe{IntervalMs: 500, Misses: 4, TimeoutMs: 300, Successes: 6}
	p := Derive(e)
	sheet, _ := p.BothEnds(e.Overlays[0].Key, p.Ident(p.Peers(0)[0].Tunnel))
	for what, want := range map[string]string{"declared down": "after 1.8 to 2.3 s", "declared up": "after 3 s"} {
		if i := slices.IndexFunc(sheet.Lines, func(l EndLine) bool { return l.What == what }); i < 0 || sheet.Lines[i].A != want {
			t.Errorf("%s: %+v", what, sheet.Lines)
		}
	}
	e.Overlays[0].Transport = estate.IPsec
	p = Derive(e)
	sheet, _ = p.BothEnds(e.Overlays[0].Key, p.Ident(p.Peers(0)[0].Tunnel))
	var names []string
	for _, l := range sheet.Lines {
		names = append(names, l.What)
		if l.Mirror == "same" && l.A != l.B || l.Wrong != "" {
			t.Errorf("%+v", l)
		}
	}
	for what, want := range map[string]bool{"own public key": false, "listens on UDP port": false, "allowed prefixes": false, "own identity": true, "IKE proposals": true, "pre-shared key": true, "child SA is rekeyed": true} {
		if slices.Contains(names, what) != want {
			t.Errorf("%s is there: %v, in %v", what, !want, names)
		}
	}
	if wrongs(p, "") != 0 {
		t.Error("IPsec ends need no keys of WireGuard")
	}
	if _, ok := Derive(e).BothEnds("ops", "a/b c/d"); ok {
		t.Error("a tunnel that there is not has two ends")
	}
}
