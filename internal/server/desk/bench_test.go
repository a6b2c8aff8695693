package desk

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
	"wideknot/internal/server/store"
)

// One edit of a draft with 1,000 sites and three links each, until it is stored.
func BenchmarkEdit(b *testing.B) {
	db, _ := store.Testing(b)
	d := New(db, sealer(b))
	ctx := context.Background()
	if _, err := d.Create(ctx, "Demo"); err != nil {
		b.Fatal(err)
	}
	e, err := sample.Estate(sample.Options{Sites: 1000, Links: 3, Subnets: 3})
	if err != nil {
		b.Fatal(err)
	}
	document, err := estate.WriteJSON(e)
	if err != nil {
		b.Fatal(err)
	}
	at := At("demo", First)
	if _, _, err := d.Import(ctx, at, Parcel{Document: string(document)}, false); err != nil {
		b.Fatal(err)
	}
	for i := 0; b.Loop(); i++ {
		v, err := d.View(ctx, at.Place)
		if err != nil {
			b.Fatal(err)
		}
		site := v.Estate.Sites[i%len(v.Estate.Sites)]
		site.Links = slices.Clone(site.Links)
		site.Links[0].Provider = fmt.Sprint("Provider ", i)
		if _, err := d.SaveSite(ctx, at, site.Key, site); err != nil {
			b.Fatal(err)
		}
	}
}
