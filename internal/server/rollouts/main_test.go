package rollouts

import (
	"context"
	"path/filepath"
	"testing"

	"wideknot/core/estate"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

func TestMain(m *testing.M) { store.TestMain(m) }

// released makes an estate of which documents can be put in force.
func released(t testing.TB) (db *store.Store, sealer *identity.Sealer, d *desk.Desk, key string, release func(*estate.Estate)) {
	t.Helper()
	db, _ = store.Testing(t)
	sealer, err := identity.NewSealer(filepath.Join(t.TempDir(), "master.key"))
	if err != nil {
		t.Fatal(err)
	}
	d = desk.New(db, sealer)
	t.Cleanup(d.Close)
	ctx := context.Background()
	made, err := d.Create(ctx, "Sample")
	if err != nil {
		t.Fatal(err)
	}
	return db, sealer, d, made.Key, func(e *estate.Estate) {
		t.Helper()
		document, err := estate.WriteYAML(e)
		if err != nil {
			t.Fatal(err)
		}
		at := desk.At(made.Key, desk.First)
		if _, _, err := d.Import(ctx, at, desk.Parcel{Document: string(document)}, false); err != nil {
			t.Fatal(err)
		}
		if err := d.Seed(ctx, at, "as it is"); err != nil {
			t.Fatal(err)
		}
	}
}
