package sample

import (
	"reflect"
	"testing"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

func sampled(t *testing.T, o Options) *estate.Estate {
	t.Helper()
	e, err := Estate(o)
	if err != nil {
		t.Fatal(err)
	}
	if problems := estate.Validate(e); len(problems) > 0 {
		t.Fatalf("%+v: %v", o, problems[0])
	}
	return e
}

func TestSamplesAreDeterministicAndClean(t *testing.T) {
	for _, o := range []Options{{}, {Sites: 1}, {Sites: 300, Links: 3, Subnets: 4, Seed: 7}, {Sites: 40, Shape: estate.FullMesh}, {Sites: 30, Shape: estate.Custom}, {Sites: MaxSites, Links: 1}} {
		e := sampled(t, o)
		if o.Sites < 1000 && !reflect.DeepEqual(e, sampled(t, o)) {
			t.Errorf("%+v: made differently the second time", o)
		}
		if o.Sites > 1000 {
			continue
		}
		p := tunnel.Derive(e)
		found := check.Run(p, route.Build(p))
		if n := check.Count(found)[check.Error]; n > 0 {
			t.Errorf("%+v: %d errors, the first %q", o, n, found[0].Title)
		}
	}
	if reflect.DeepEqual(sampled(t, Options{Seed: 1}), sampled(t, Options{Seed: 2})) {
		t.Error("the seed makes no difference")
	}
}

func TestTroubleIsPlanted(t *testing.T) {
	e := sampled(t, Options{Sites: 500, Trouble: true})
	p := tunnel.Derive(e)
	if counts := check.Count(check.Run(p, route.Build(p))); counts[check.Error] == 0 || counts[check.Warning] == 0 {
		t.Errorf("%v", counts)
	}
}

func TestImpossibleSamplesAreRefused(t *testing.T) {
	for _, o := range []Options{{Sites: -1}, {Sites: MaxSites + 1}, {Links: 4}, {Subnets: 5}, {Hubs: 17}} {
		if _, err := Estate(o); err == nil {
			t.Errorf("%+v was made", o)
		}
	}
}

func TestMixedEstatesAreValidAndDeterministic(t *testing.T) {
	for seed := range uint64(500) {
		e := Mixed(seed)
		if problems := estate.Validate(e); len(problems) > 0 {
			t.Fatalf("seed %d: %v", seed, problems)
		}
		if seed < 50 && !reflect.DeepEqual(e, Mixed(seed)) {
			t.Errorf("seed %d: made differently the second time", seed)
		}
	}
}
