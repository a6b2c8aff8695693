package outage

import (
	"testing"

	"wideknot/core/sample"
)

// Courses that are followed once for all pairs of two kinds are those of each
// pair followed by itself.
func TestCoursesFitTheirKinds(t *testing.T) {
	for _, o := range []sample.Options{{Sites: 60, Links: 3, Seed: 1}, {Sites: 40, Hubs: 4, Links: 2, Seed: 2}} {
		m := sampled(t, o)
		for i := range m.Plan.Estate.Sites { // some share the load, some not
			if links := m.Plan.Site(i).Links; i%3 == 0 && len(links) > 1 {
				links[0].Rank, links[0].Weight, links[1].Rank, links[1].Weight = 1, 2, 1, 1
			}
		}
		m = modelOf(m.Plan.Estate)
		b, alone := m.bench(), course{}
		judged, reused := 0, 0
		for _, part := range m.Parts() {
			f, err := m.failing([]Part{part})
			if err != nil {
				t.Fatal(err)
			}
			b.fail(&f)
			b.touch(&f)
			b.pairs(b.list, b.touched, b.direct, func(i, j int) {
				l := &m.lanesOf(i, j)[0]
				c := b.course(i, j, l)
				b.follow(i, j, l, &alone)
				same := c.ok == alone.ok && c.moved == alone.moved && c.atA == alone.atA && c.atB == alone.atB && c.was.same(&alone.was)
				if !same || c.ok && !c.now.same(&alone.now) || c.ok && c.moved && m.narrowed && !c.nowBack.same(&alone.nowBack) {
					t.Fatalf("%s, %s to %s:\n%+v\n%+v", part, m.key(i), m.key(j), *c, alone)
				}
				judged++
				if c != &b.courses.single {
					reused++
				}
			})
			b.reset(&f)
		}
		if reused < judged/2 {
			t.Errorf("%d courses, of which %d are of a kind", judged, reused)
		}
	}
}
