// Command lab brings random estates up in network namespaces, with the bundles
// that the product writes, and compares every packet's way with what the product
// predicts of it. It needs root and a Linux kernel with tunnel devices.
package main

import (
	"crypto/ecdh"
	"encoding/base64"
	"flag"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"wideknot/core/estate"
	"wideknot/core/render/linux"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

func main() {
	log.SetFlags(0)
	seeds := flag.String("seeds", "0-19", "the first and the last seed")
	failures := flag.Int("failures", 1000, "how many of the single failures of each estate are caused")
	agents := flag.Bool("agents", false, "let agents keep the gateways, in place of bundles: they see failures by themselves")
	planes := flag.Bool("planes", false, "let hosts say the same on kernels and on stand-ins, and compare what arrives")
	soak := flag.Duration("soak", 0, "for how long random faults happen to the estate of the first seed, kept by agents")
	parallel := flag.Int("parallel", 4, "how many estates are up at once")
	flag.Parse()
	var first, last uint64
	if n, err := fmt.Sscanf(*seeds, "%d-%d", &first, &last); err != nil || n != 2 || last < first {
		log.Fatalf("%q is not a range of seeds such as 0-19", *seeds)
	}
	if *soak > 0 {
		if err := Soak(first, *soak); err != nil {
			log.Fatal(err)
		}
		return
	}
	var total Counts
	wrong := 0
	start := time.Now()
	var mu sync.Mutex
	var group errgroup.Group
	group.SetLimit(*parallel) // most of the time they wait
	for seed := first; seed <= last; seed++ {
		group.Go(func() error {
			began := time.Now()
			var counts Counts
			var differences []string
			var err error
			if *planes {
				counts.Packets, differences, err = Planes(seed, 4)
			} else {
				counts, differences, err = Try(seed, *failures, *agents)
			}
			if err != nil {
				return fmt.Errorf("seed %d: %w", seed, err)
			}
			mu.Lock()
			defer mu.Unlock()
			total.add(counts)
			if len(differences) > 0 {
				wrong++
			}
			log.Printf("seed %d: %+v in %.1f s, %d differences", seed, counts, time.Since(began).Seconds(), len(differences))
			for _, d := range differences {
				log.Print("  ", d)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		log.Fatal(err)
	}
	log.Printf("%d estates: %+v in %.0f s, %d estates with differences", last-first+1, total, time.Since(start).Seconds(), wrong)
	if wrong > 0 {
		os.Exit(1)
	}
}

// Try brings the estate of a seed up and returns where it differs from what is
// predicted: while nothing fails, in so many failures, and in those that are named.
func Try(seed uint64, failures int, agents bool, named ...string) (Counts, []string, error) {
	e := sample.Mixed(seed)
	if agents {
		probed(e, seed%2 == 0)
		if seed%4 == 1 {
			limited(e, seed)
		}
	}
	keys := keysFor(e)
	m := route.Build(tunnel.Derive(e))
	w, err := newWorld(m, keys, agents)
	defer w.close()
	if err != nil {
		return Counts{}, nil, err
	}
	f, err := newField(w)
	defer f.close()
	if err != nil {
		return Counts{}, nil, err
	}
	r := &round{w: w, f: f, m: m, random: rand.New(rand.NewPCG(seed, 77))}
	err = r.compare(failures, named)
	r.counts.Slowest = w.slowest
	return r.counts, r.wrong, err
}

// keysFor makes the keys of all sites, the same for the same estate.
func keysFor(e *estate.Estate) linux.Keys {
	private := map[string]string{}
	e.Allocations.Keys = map[string]string{}
	for i := range e.Sites {
		raw := make([]byte, 32)
		raw[0], raw[31] = 8, byte(i+1)|64
		key, err := ecdh.X25519().NewPrivateKey(raw)
		if err != nil {
			panic(err) // any 32 bytes are a key
		}
		private[e.Sites[i].Key] = base64.StdEncoding.EncodeToString(raw)
		e.Allocations.Keys[e.Sites[i].Key] = base64.StdEncoding.EncodeToString(key.PublicKey().Bytes())
	}
	secret := make([]byte, 32)
	return linux.Keys{
		Private: func(site string) (string, bool) { key, ok := private[site]; return key, ok },
		Shared: func(overlay, ident string) (string, bool) {
			key, err := tunnel.SharedKey(secret, overlay, ident)
			return key, err == nil
		},
	}
}
