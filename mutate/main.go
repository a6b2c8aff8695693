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

	judge := judge{packages: packages, limit: limit}
	counts := map[verdict]int{}
	var mu sync.Mutex
	var all sync.WaitGroup
	next := 0
	for range jobs {
		all.Add(1)
		go func() {
			defer all.Done()
			for {
				mu.Lock()
				judged := counts[killed] + counts[survived] + counts[equivalent]
				if judged >= sample || next == len(sites) || ctx.Err() != nil {
					mu.Unlock()
					return
				}
				m := sites[next]
				next++
				mu.Unlock()
				v := equivalent
				if !known[m.key()] {
					v = judge.of(ctx, m)
				}
				if ctx.Err() != nil {
					return // its tests did not end by themselves
				}
				mu.Lock()
				counts[v]++
				if v == survived {
					fmt.Printf("survived  %s\n", m)
				}
				mu.Unlock()
			}
		}()
	}
	all.Wait()
	if ctx.Err() != nil {
		fmt.Println("interrupted; the figures are of what was done")
	}
	asked := counts[killed] + counts[survived]
	fmt.Printf("%d killed of %d that change something (%.0f %%), %d known to change nothing, %d did not compile\n",
		counts[killed], asked, 100*float64(counts[killed])/float64(max(asked, 1)), counts[equivalent], counts[uncompiled])
	return nil
}
