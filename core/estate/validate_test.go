package estate_test

import (
	"math/rand/v2"
	"net/netip"
	"reflect"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
)

// What is wrong with replaced sites is found by looking at them alone.
func TestValidateSitesFindsWhatValidateFinds(t *testing.T) {
	spoil := []func(s *estate.Site){
		func(s *estate.Site) { s.Region = "nowhere" },
		func(s *estate.Site) { s.DemandMbps = -1 },
		func(s *estate.Site) { s.Links[0].MTU = 20 },
		func(s *estate.Site) { s.Links[0].Reach = "by pigeon" },
		func(s *estate.Site) { s.Links = append(s.Links, s.Links[0]) },
		func(s *estate.Site) { s.Links = make([]estate.Link, 100) },
		func(s *estate.Site) { s.Gateway.UsedPorts = []int{70000} },
		func(s *estate.Site) { s.Subnets = append(s.Subnets, estate.Subnet{Share: []string{"nowhere"}}) },
		func(s *estate.Site) {
			s.Subnets = append(s.Subnets, estate.Subnet{Prefix: netip.MustParsePrefix("10.0.0.0/8"), Zone: "A zone"})
		},
		func(*estate.Site) {}, // nothing
	}
	for seed := range uint64(40) {
		random := rand.New(rand.NewPCG(seed, 12))
		e := sample.Mixed(seed).Clone()
		replaced := map[string]bool{}
		for range 1 + random.IntN(3) {
			s := &e.Sites[random.IntN(len(e.Sites))]
			replaced[s.Key] = true
			spoil[random.IntN(len(spoil))](s)
		}
		all, some := estate.Validate(e), estate.ValidateSites(e, replaced)
		if len(all) == 0 && len(some) == 0 {
			continue
		}
		if !reflect.DeepEqual(all, some) {
			t.Errorf("seed %d: of the whole estate\n%v\nof the replaced sites\n%v", seed, all, some)
		}
	}
}
