package desk

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"wideknot/core/diff"
	"wideknot/core/estate"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// released returns a desk whose demo estate is released.
func released(t *testing.T) *Desk {
	t.Helper()
	d, _, _ := opened(t)
	if err := d.Seed(context.Background(), At("demo", First), "as it is"); err != nil {
		t.Fatal(err)
	}
	return d
}

func as(name string) context.Context {
	return identity.WithActor(context.Background(), identity.Actor{Name: name})
}

// changed edits a site of a draft.
func changed(t *testing.T, d *Desk, ctx context.Context, draft, site string, do func(*estate.Site)) *View {
	t.Helper()
	v, err := d.View(ctx, Place{"demo", draft})
	if err != nil {
		t.Fatal(err)
	}
	s := *v.Estate.Clone().Site(site)
	do(&s)
	if v, err = d.SaveSite(ctx, At("demo", draft), site, s); err != nil {
		t.Fatal(err)
	}
	return v
}

func demand(mbps float64) func(*estate.Site) {
	return func(s *estate.Site) { s.DemandMbps = mbps }
}

func branch(t *testing.T, d *Desk, name, from string) {
	t.Helper()
	if _, err := d.NewDraft(as("ada"), "demo", name, from); err != nil {
		t.Fatal(err)
	}
}

func TestReleasesAreNumberedAndStay(t *testing.T) {
	d := released(t)
	ctx := as("ada")
	branch(t, d, "Two", "")
	v := changed(t, d, ctx, "two", "tarnhollow", demand(99))
	before, err := d.Consequences(ctx, Place{"demo", "two"})
	if err != nil || before.Parts != 1 || before.RoutesMoved != 0 || before.Base != 1 {
		t.Fatalf("%+v, %v", before, err)
	}
	o := At("demo", "two")
	var held *Held
	if _, err := d.Release(ctx, o, "More for Tarn Hollow", ""); !errors.As(err, &held) || len(held.Errors) != 0 || len(held.Asks) == 0 {
		t.Errorf("errors stand, and no reason was asked: %v", err)
	}
	if _, err := d.Release(ctx, o, " ", "r"); err == nil {
		t.Error("a release without message was made")
	}
	o.Request, o.IfMatch = "once", v.Revision
	made, err := d.Release(ctx, o, "More for Tarn Hollow", "they stood before")
	if err != nil || made.Number != 2 || made.Author != "ada" {
		t.Fatalf("%+v, %v", made, err)
	}
	again, err := d.Release(ctx, o, "More for Tarn Hollow", "they stood before")
	if err != nil || again.Number != 2 {
		t.Errorf("the same request again: %+v, %v", again, err)
	}
	if _, err := d.Release(ctx, At("demo", "two"), "Again", "r"); !errors.Is(err, ErrNothing) {
		t.Errorf("releasing what is released: %v", err)
	}
	// The first draft is behind now, and says so.
	if _, err := d.Release(ctx, At("demo", First), "Late", "r"); !errors.Is(err, ErrBehind) {
		t.Errorf("releasing from an old base: %v", err)
	}
	for place, want := range map[string]float64{"release-1": 40, Released: 99, "release-2": 99} {
		v, err := d.View(ctx, Place{"demo", place})
		if err != nil || !v.Fixed || v.Estate.Site("tarnhollow").DemandMbps != want {
			t.Errorf("%s: %v", place, err)
		}
		if _, err := d.SaveSite(ctx, At("demo", place), "tarnhollow", *v.Estate.Site("tarnhollow")); !errors.Is(err, ErrFixed) {
			t.Errorf("%s was edited: %v", place, err)
		}
	}
	list, err := d.Releases(ctx, "demo")
	if err != nil || len(list) != 3 || list[0].Reason != "they stood before" || list[2].Number != 0 {
		t.Errorf("%+v, %v", list, err)
	}
	// An earlier one as a draft: what differs is what going back would do.
	branch(t, d, "Back", "release-1")
	back, err := d.Consequences(ctx, Place{"demo", "back"})
	if err != nil || back.Base != 2 || back.Parts != 1 || back.Changes.Sites.Changed[0].What[0] != "demand_mbps: 99 became 40" {
		t.Errorf("%+v, %v", back, err)
	}
	changes, files, err := d.Compare(ctx, Place{"demo", "release-1"}, Place{"demo", "two"}, "tarnhollow")
	if err != nil || len(changes.Sites.Changed) != 1 || len(files) > 1 {
		t.Errorf("%+v, %d files, %v", changes.Sites, len(files), err)
	}
}

// Errors that a draft adds hold it back; no reason helps.
func TestNewErrorsHoldARelease(t *testing.T) {
	d := released(t)
	ctx := as("ada")
	branch(t, d, "Clash", "")
	v, _ := d.View(ctx, Place{"demo", "clash"})
	taken := v.Estate.Site("mossgill").Subnets[0]
	changed(t, d, ctx, "clash", "tarnhollow", func(s *estate.Site) { s.Subnets = append(s.Subnets, taken) })
	var held *Held
	if _, err := d.Release(ctx, At("demo", "clash"), "m", "because"); !errors.As(err, &held) || len(held.Errors) == 0 {
		t.Errorf("%v", err)
	}
}

func TestUndoIsPerDraft(t *testing.T) {
	d := released(t)
	ctx := as("ada")
	branch(t, d, "One", "")
	branch(t, d, "Two", "")
	changed(t, d, ctx, "one", "tarnhollow", demand(1))
	changed(t, d, ctx, "two", "tarnhollow", demand(2))
	changed(t, d, ctx, "one", "mossgill", demand(3))
	if v, err := d.Undo(ctx, At("demo", "two")); err != nil || v.Estate.Site("tarnhollow").DemandMbps != 40 {
		t.Errorf("%v", err)
	}
	if v, _ := d.View(ctx, Place{"demo", "one"}); v.Estate.Site("tarnhollow").DemandMbps != 1 || v.Estate.Site("mossgill").DemandMbps != 3 {
		t.Error("undo in one draft changed another")
	}
	if err := d.Shelve(ctx, Place{"demo", "one"}, true); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Undo(ctx, At("demo", "one")); !errors.Is(err, ErrShelved) {
		t.Errorf("editing a discarded draft: %v", err)
	}
	if err := d.Shelve(ctx, Place{"demo", "one"}, false); err != nil {
		t.Fatal(err)
	}
	if v, err := d.Undo(ctx, At("demo", "one")); err != nil || v.Estate.Site("tarnhollow").DemandMbps != 1 {
		t.Errorf("taken up again: %v", err)
	}
	steps, err := d.History(ctx, Place{"demo", "one"}, 10)
	if err != nil || len(steps) != 3 || steps[0].Kind != store.Undone || steps[0].Author != "ada" {
		t.Errorf("%+v, %v", steps, err)
	}
	for _, name := range []string{"One", "Released", "release-7", "???", strings.Repeat("x", 201)} {
		if _, err := d.NewDraft(ctx, "demo", name, ""); err == nil {
			t.Errorf("a draft %.20q was made", name)
		}
	}
}

// Two drafts from one release: the first goes out, the second is brought up to
// date, conflict by conflict, and that can be undone.
func TestBringingADraftUpToDate(t *testing.T) {
	d := released(t)
	ctx := as("ada")
	branch(t, d, "Ours", "")
	branch(t, d, "Theirs", "")
	changed(t, d, ctx, "theirs", "tarnhollow", demand(50)) // both, differently
	changed(t, d, ctx, "theirs", "mossgill", demand(51))   // only they
	changed(t, d, ctx, "theirs", "eelgate", demand(52))    // both, alike
	if _, err := d.DeleteSite(ctx, At("demo", "theirs"), "van-3"); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Release(ctx, At("demo", "theirs"), "Theirs", "r"); err != nil {
		t.Fatal(err)
	}
	changed(t, d, ctx, "ours", "tarnhollow", demand(60))
	changed(t, d, ctx, "ours", "eelgate", demand(52))
	changed(t, d, ctx, "ours", "van-3", demand(61)) // they deleted it
	changed(t, d, ctx, "ours", "alderfold", demand(62))
	behind, err := d.Behind(ctx, Place{"demo", "ours"})
	if err != nil || behind.From != 1 || behind.To != 2 || len(behind.Conflicts) != 2 {
		t.Fatalf("%+v, %v", behind, err)
	}
	var open *Unsettled
	choices := map[string]diff.Choice{"site tarnhollow": diff.Mine}
	if _, err := d.CatchUp(ctx, At("demo", "ours"), choices); !errors.As(err, &open) || len(open.Conflicts) != 1 || open.Conflicts[0].Part != "site van-3" {
		t.Fatalf("%v", err)
	}
	if open.Conflicts[0].Theirs[0] != "deleted" || !strings.Contains(open.Conflicts[0].Mine[0], "became 61") {
		t.Errorf("%+v", open.Conflicts)
	}
	before, _ := d.View(ctx, Place{"demo", "ours"})
	choices["site van-3"] = diff.Theirs
	v, err := d.CatchUp(ctx, At("demo", "ours"), choices)
	if err != nil {
		t.Fatal(err)
	}
	for site, want := range map[string]float64{"tarnhollow": 60, "mossgill": 51, "eelgate": 52, "alderfold": 62} {
		if got := v.Estate.Site(site).DemandMbps; got != want {
			t.Errorf("%s has a demand of %v, want %v", site, got, want)
		}
	}
	if v.Estate.Site("van-3") != nil || v.Base != 2 {
		t.Errorf("base %d", v.Base)
	}
	for _, s := range v.Estate.Overlay("ops").Spokes {
		if s.Site == "van-3" {
			t.Error("the overlay names a site that is gone")
		}
	}
	weighing, err := d.Consequences(ctx, Place{"demo", "ours"})
	if err != nil || weighing.Parts != 2 {
		t.Errorf("%+v, %v", weighing.Tally, err)
	}
	back, err := d.Undo(ctx, At("demo", "ours"))
	if err != nil || back.Base != 1 || !reflect.DeepEqual(back.Estate.Sites, before.Estate.Sites) {
		t.Errorf("undo: base %d, %v", back.Base, err)
	}
	if v, err = d.Redo(ctx, At("demo", "ours")); err != nil || v.Base != 2 {
		t.Errorf("redo: %v", err)
	}
	if _, err := d.Release(ctx, At("demo", "ours"), "Ours", "r"); err != nil {
		t.Error(err)
	}
}

// Two drafts give new tunnels the same numbers; the one that is released
// first keeps them, the other gets new ones on its way, and no released tunnel
// ever moves.
func TestNumbersOfTwoDraftsDoNotMeet(t *testing.T) {
	d := released(t)
	ctx := as("ada")
	for _, name := range []string{"ours", "theirs"} {
		branch(t, d, name, "")
		key := "new-" + name
		site := estate.Site{Key: key, Name: key, Links: []estate.Link{{Key: "wan", Reach: estate.NAT}}}
		if _, err := d.SaveSite(ctx, At("demo", name), key, site); err != nil {
			t.Fatal(err)
		}
		v, _ := d.View(ctx, Place{"demo", name})
		overlay := *v.Estate.Clone().Overlay("ops")
		overlay.Spokes = append(append([]estate.Spoke{}, overlay.Spokes...), estate.Spoke{Site: key})
		if _, err := d.SaveOverlay(ctx, At("demo", name), "ops", overlay); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := d.Release(ctx, At("demo", "theirs"), "Theirs", "r"); err != nil {
		t.Fatal(err)
	}
	run, _ := d.View(ctx, Place{"demo", Released})
	v, err := d.CatchUp(ctx, At("demo", "ours"), map[string]diff.Choice{"overlay ops": diff.Theirs})
	if err != nil {
		t.Fatal(err)
	}
	overlay := *v.Estate.Clone().Overlay("ops")
	overlay.Spokes = append(append([]estate.Spoke{}, overlay.Spokes...), estate.Spoke{Site: "new-ours"})
	if v, err = d.SaveOverlay(ctx, At("demo", "ours"), "ops", overlay); err != nil {
		t.Fatal(err)
	}
	seen := map[string]string{}
	for overlay, lots := range v.Estate.Allocations.Tunnels {
		for ident, lot := range lots {
			if was, ran := run.Estate.Allocations.Tunnels[overlay][ident]; ran && !reflect.DeepEqual(was, lot) {
				t.Errorf("%s runs with %v and was given %v", ident, was, lot)
			}
			for _, block := range lot.Transit {
				if other := seen[block.String()]; other != "" {
					t.Errorf("%s and %s both have %s", ident, other, block)
				}
				seen[block.String()] = ident
			}
		}
	}
	if !strings.Contains(fmt.Sprint(v.Estate.Allocations.Tunnels["ops"]), "new-ours/wan") {
		t.Error("the draft's own site has no tunnel")
	}
}

// The audit has every edit with what it was before and after, by whom; and
// never a secret.
func TestEverythingIsRecorded(t *testing.T) {
	d, db, _ := opened(t)
	ctx := as("piet")
	changed(t, d, ctx, First, "tarnhollow", demand(77))
	if _, err := d.Undo(as("ada"), At("demo", First)); err != nil {
		t.Fatal(err)
	}
	key, err := d.PrivateKey(as("olive"), Place{"demo", First}, "tarnhollow")
	if err != nil {
		t.Fatal(err)
	}
	err = db.Snapshot(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate("demo", false)
		if err != nil {
			return err
		}
		rows, err := tx.Records(store.RecordFilter{Estate: e.ID, Limit: 100})
		if err != nil {
			return err
		}
		var got []string
		for _, r := range rows {
			got = append(got, r.Who+" "+r.Action)
			if (r.AfterIt != nil && strings.Contains(*r.AfterIt, key)) || strings.Contains(r.Object, key) {
				t.Error("the audit holds a private key")
			}
		}
		want := "olive secret.reveal, ada draft.undo, piet draft.edit, wideknot draft.edit, wideknot estate.create"
		if strings.Join(got, ", ") != want {
			t.Errorf("%s, want %s", strings.Join(got, ", "), want)
		}
		edit := rows[2]
		if !strings.Contains(*edit.BeforeIt, `"demand_mbps":40`) || !strings.Contains(*edit.AfterIt, `"demand_mbps":77`) {
			t.Errorf("before %s, after %s", *edit.BeforeIt, *edit.AfterIt)
		}
		return nil
	})
	if err != nil {
		t.Error(err)
	}
}
