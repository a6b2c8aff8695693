package desk

import (
	"context"
	"errors"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/planning"
	"wideknot/examples"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

func sealer(t testing.TB) *identity.Sealer {
	t.Helper()
	s, err := identity.NewSealer(filepath.Join(t.TempDir(), "master.key"))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// opened returns a desk with the demo estate on it.
func opened(t *testing.T) (*Desk, *store.Store, *identity.Sealer) {
	t.Helper()
	db, _ := store.Testing(t)
	keys := sealer(t)
	d := New(db, keys)
	ctx := context.Background()
	if _, err := d.Create(ctx, "Demo"); err != nil {
		t.Fatal(err)
	}
	if _, _, err := d.Import(ctx, At("demo", First), Parcel{Document: examples.Brindlewater}, false); err != nil {
		t.Fatal(err)
	}
	return d, db, keys
}

func view(t *testing.T, d *Desk) *View {
	t.Helper()
	v, err := d.View(context.Background(), Place{"demo", First})
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// what a site's gateway is told must be the same after it was deleted and came
// back, by undo or by hand.
func TestASiteThatComesBackFindsItsNumbersAndKey(t *testing.T) {
	d, _, _ := opened(t)
	ctx := context.Background()
	before := view(t, d)
	site := *before.Estate.Site("eelgate")
	key, err := d.PrivateKey(ctx, Place{"demo", First}, "eelgate")
	if err != nil {
		t.Fatal(err)
	}
	bundle, err := before.Bundle(before.Plan.SiteIndex("eelgate"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := d.DeleteSite(ctx, At("demo", First), "eelgate"); err != nil {
		t.Fatal(err)
	}
	if _, err := d.PrivateKey(ctx, Place{"demo", First}, "eelgate"); !errors.Is(err, ErrNotFound) {
		t.Errorf("the key of a deleted site: %v", err)
	}
	overlay := *before.Estate.Overlay("ops")
	if _, err := d.SaveSite(ctx, At("demo", First), "eelgate", site); err != nil {
		t.Fatal(err)
	}
	if _, err := d.SaveOverlay(ctx, At("demo", First), "ops", overlay); err != nil {
		t.Fatal(err)
	}
	after := view(t, d)
	if again, err := after.Bundle(after.Plan.SiteIndex("eelgate")); err != nil || !reflect.DeepEqual(bundle, again) {
		t.Error("the site came back with another configuration")
	}
	if again, err := d.PrivateKey(ctx, Place{"demo", First}, "eelgate"); err != nil || again != key {
		t.Errorf("the site came back with another key: %v", err)
	}
}

func TestUndoGoesOnAfterARestart(t *testing.T) {
	d, db, keys := opened(t)
	ctx := context.Background()
	names := []string{"One", "Two", "Three"}
	for _, name := range names {
		site := *view(t, d).Estate.Site("van-1")
		site.Name = name
		if _, err := d.SaveSite(ctx, At("demo", First), "van-1", site); err != nil {
			t.Fatal(err)
		}
	}
	restarted := New(db, keys)
	for i, want := range []string{"Two", "One", "Field Laboratory 1"} {
		v, err := restarted.Undo(ctx, At("demo", First))
		if err != nil || v.Estate.Site("van-1").Name != want || v.Redo != "Edit "+names[2-i] {
			t.Fatalf("undo %d: %v", i, err)
		}
	}
	if _, err := restarted.Redo(ctx, At("demo", First)); err != nil {
		t.Fatal(err)
	}
	site := *view(t, restarted).Estate.Site("van-1")
	site.Name = "Another way"
	if _, err := restarted.SaveSite(ctx, At("demo", First), "van-1", site); err != nil {
		t.Fatal(err)
	}
	if _, err := restarted.Redo(ctx, At("demo", First)); !errors.Is(err, ErrNothing) {
		t.Errorf("redo after a new edit: %v", err)
	}
}

// Two servers on one database behave as one.
func TestTwoDesksSeeEachOthersEdits(t *testing.T) {
	one, db, keys := opened(t)
	two := New(db, keys)
	ctx := context.Background()
	view(t, one)
	view(t, two)
	if _, err := one.DeleteSite(ctx, At("demo", First), "van-3"); err != nil {
		t.Fatal(err)
	}
	if view(t, two).Estate.Site("van-3") != nil {
		t.Error("the other desk still has the site")
	}
	stale := Order{Place: Place{"demo", First}, IfMatch: view(t, two).Revisions[PartID(store.Site, "van-2")]}
	site := *view(t, two).Estate.Site("van-2")
	if _, err := one.SaveSite(ctx, At("demo", First), "van-2", renamed(site, "First")); err != nil {
		t.Fatal(err)
	}
	var refused *Stale
	if _, err := two.SaveSite(ctx, stale, "van-2", renamed(site, "Second")); !errors.As(err, &refused) {
		t.Errorf("an edit of an older state: %v", err)
	}
	if got := view(t, two).Estate.Site("van-2").Name; got != "First" {
		t.Errorf("the site is %q", got)
	}
}

func renamed(s estate.Site, name string) estate.Site {
	s.Name = name
	return s
}

func TestEditsThatChangeNothingAreNone(t *testing.T) {
	d, _, _ := opened(t)
	ctx := context.Background()
	before := view(t, d)
	after, err := d.SaveSite(ctx, At("demo", First), "van-1", *before.Estate.Site("van-1"))
	if err != nil || after.Revision != before.Revision || after.Undo != before.Undo {
		t.Errorf("%v, revision %d of %d", err, after.Revision, before.Revision)
	}
	repair := planning.Repair{Action: planning.Unshare, Site: "van-1", Prefix: before.Estate.Site("van-1").Subnets[0].Prefix, From: "nowhere", Label: "x"}
	if after, err = d.Repair(ctx, At("demo", First), repair); err != nil || after.Revision != before.Revision {
		t.Errorf("%v, revision %d of %d", err, after.Revision, before.Revision)
	}
	repair.Site = "nowhere"
	if _, err = d.Repair(ctx, At("demo", First), repair); err == nil {
		t.Error("a repair at no site was carried out")
	}
}

func TestAnotherMasterKeyOpensNothing(t *testing.T) {
	_, db, _ := opened(t)
	stranger := New(db, sealer(t))
	if key, err := stranger.PrivateKey(context.Background(), Place{"demo", First}, "van-1"); err == nil || key != "" {
		t.Errorf("opened with another master key: %v", err)
	}
}

func TestLabelsAreCutBetweenCharacters(t *testing.T) {
	if got := shorten(strings.Repeat("ü", 200), 255); len(got) != 254 || strings.ContainsRune(got, '\ufffd') {
		t.Errorf("%d bytes", len(got))
	}
}

// Sites stay in the order in which they came, whatever is edited, deleted and
// brought back.
func TestSitesKeepTheirOrder(t *testing.T) {
	db, _ := store.Testing(t)
	d := New(db, sealer(t))
	ctx := context.Background()
	if _, err := d.Create(ctx, "Demo"); err != nil {
		t.Fatal(err)
	}
	o := At("demo", First)
	if _, _, err := d.Import(ctx, o, Parcel{Sheets: estate.Sheets{Sites: "key\nzulu\nyard\nxray\nwharf\n"}}, false); err != nil {
		t.Fatal(err)
	}
	order := func() string {
		var keys []string
		for _, s := range view(t, d).Estate.Sites {
			keys = append(keys, s.Key)
		}
		return strings.Join(keys, " ")
	}
	if _, err := d.DeleteSite(ctx, o, "zulu"); err != nil {
		t.Fatal(err)
	}
	if _, err := d.SaveSite(ctx, o, "xray", estate.Site{Key: "xray", Name: "X"}); err != nil {
		t.Fatal(err)
	}
	if got := order(); got != "yard xray wharf" {
		t.Errorf("after an edit: %s", got)
	}
	if _, err := d.SaveSite(ctx, o, "arch", estate.Site{Key: "arch", Name: "A"}); err != nil {
		t.Fatal(err)
	}
	if got := order(); got != "yard xray wharf arch" {
		t.Errorf("with a new site: %s", got)
	}
	for range 3 {
		if _, err := d.Undo(ctx, At("demo", First)); err != nil {
			t.Fatal(err)
		}
	}
	if got := order(); got != "zulu yard xray wharf" {
		t.Errorf("after undoing all: %s", got)
	}
}
