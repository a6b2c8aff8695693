// Command mutate asks how well tests hold the rules: it makes small wrong
// changes to the code of core, one at a time, and runs the tests that should
// notice. The code on disk is never changed; the compiler is shown the wrong
// file in the place of the right one.
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"os/signal"
	"sync"
	"time"
)

func main() {
	seed := flag.Uint64("seed", 1, "which sample")
	sample := flag.Int("n", 100, "how many changes that compile")
	root := flag.String("in", "core", "folder whose code is changed")
	skip := flag.String("skip", "core/sample", "folder below it that is left alone: it makes data for tests and holds no rule")
	jobs := flag.Int("jobs", 2, "changes at work at once")
	limit := flag.Duration("timeout", 3*time.Minute, "a package's tests that take longer count as failed")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, *root, *skip, *seed, *sample, *jobs, *limit); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, root, skip string, seed uint64, sample, jobs int, limit time.Duration) error {
	sites, err := find(root, skip)
	if err != nil {
		return err
	}
	known, err := readEquivalent("mutate/equivalent.txt")
	if err != nil {
		return err
	}
	packages, err := list(ctx, root)
	if err != nil {
		return err
	}
	random := rand.New(rand.NewPCG(seed, 0))
	random.Shuffle(len(sites), func(i, j int) { sites[i], sites[j] = sites[j], sites[i] })
	fmt.Printf("%d places to change under %s; a sample of %d by seed %d\n", len(sites), root, sample, seed)

	t := trial{judge: judge{packages: packages, limit: limit}, known: known, sites: sites, sample: sample, counts: map[verdict]int{}}
	var all sync.WaitGroup
	for range jobs {
		all.Add(1)
		go func() {
			defer all.Done()
			for t.one(ctx) {
			}
		}()
	}
	all.Wait()
	if ctx.Err() != nil {
		fmt.Println("interrupted; the figures are of what was done")
	}
	asked := t.counts[killed] + t.counts[survived]
	fmt.Printf("%d killed of %d that change something (%.0f %%), %d known to change nothing, %d did not compile\n",
		t.counts[killed], asked, 100*float64(t.counts[killed])/float64(max(asked, 1)), t.counts[equivalent], t.counts[uncompiled])
	return nil
}

// A trial judges mutants one after another until a sample of them is judged.
type trial struct {
	judge  judge
	known  map[string]bool
	sites  []mutant
	sample int

	mu     sync.Mutex
	next   int
	counts map[verdict]int
}

// one judges the next mutant; false says that there is none to judge.
func (t *trial) one(ctx context.Context) bool {
	t.mu.Lock()
	judged := t.counts[killed] + t.counts[survived] + t.counts[equivalent]
	if judged >= t.sample || t.next == len(t.sites) || ctx.Err() != nil {
		t.mu.Unlock()
		return false
	}
	m := t.sites[t.next]
	t.next++
	t.mu.Unlock()
	v := equivalent
	if !t.known[m.key()] {
		v = t.judge.of(ctx, m)
	}
	if ctx.Err() != nil {
		return false // its tests did not end by themselves
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.counts[v]++
	if v == survived {
		fmt.Printf("survived  %s\n", m)
	}
	return true
}
