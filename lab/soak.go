package main

import (
	"errors"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"strings"
	"syscall"
	"time"

	"wideknot/core/outage"
	"wideknot/core/route"
	"wideknot/core/sample"
	"wideknot/core/tunnel"
)

// A use is what an agent's process has.
type use struct{ kilobytes, descriptors, threads int }

func (k *keeper) use() (u use, err error) {
	folder := fmt.Sprintf("/proc/%d/", k.command.Process.Pid)
	status, err := os.ReadFile(folder + "status")
	if err != nil {
		return u, err
	}
	for line := range strings.Lines(string(status)) {
		_, _ = fmt.Sscanf(line, "VmRSS: %d kB", &u.kilobytes)
		_, _ = fmt.Sscanf(line, "Threads: %d", &u.threads)
	}
	list, err := os.ReadDir(folder + "fd")
	u.descriptors = len(list)
	return u, err
}

// Soak lets random faults happen to an estate of agents for a time: parts of it fail, a
// link flaps, an agent is ended or killed and started anew. After each it compares what
// packets do with what is predicted; in the end, what agents that were never restarted
// use with what they used at first.
func Soak(seed uint64, lasts time.Duration) error {
	e := sample.Mixed(seed)
	probed(e, true)
	limited(e, seed)
	keys := keysFor(e)
	m := route.Build(tunnel.Derive(e))
	w, err := newWorld(m, keys, true)
	defer w.close()
	if err != nil {
		return err
	}
	f, err := newField(w)
	defer f.close()
	if err != nil {
		return err
	}
	random := rand.New(rand.NewPCG(seed, 78))
	r := &round{w: w, f: f, m: m, random: random}
	all := r.questions()
	model := outage.New(m)
	parts := model.Parts()
	if len(parts) == 0 {
		return errors.New("nothing can fail in this estate")
	}
	before := map[int]use{}
	took := map[string]int{}
	for began := time.Now(); time.Since(began) < lasts; {
		part := parts[random.IntN(len(parts))]
		failing, err := model.Kills(part)
		if err != nil {
			return err
		}
		more, err := w.disturb(random, failing)
		if err != nil {
			return err
		}
		what := more + part.String()
		took[more]++
		w.watched.forget()
		if err := w.fail(failing); err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		took["failures"]++
		if err := r.hold(r.predict(all, failing), failing, what+" failed"); err != nil {
			return err
		}
		if len(r.wrong) > 0 {
			return errors.New(strings.Join(r.wrong, "\n"))
		}
		for i, k := range w.keepers {
			if _, known := before[i]; !known && time.Since(began) > min(lasts/5, 2*time.Minute) && i > 0 {
				if before[i], err = k.use(); err != nil {
					return err
				}
			}
		}
	}
	log.Printf("%v: %v, %+v", lasts, took, r.counts)
	return w.level(before)
}

// disturb does what may happen besides a failure, and names it: nothing, what fails
// flaps before, or the agent of the first site is restarted or killed.
func (w *world) disturb(random *rand.Rand, failing route.Failing) (what string, err error) {
	switch random.IntN(5) {
	case 0:
		for range 4 {
			w.cut(failing.Dead)
			time.Sleep(time.Duration(100+random.IntN(900)) * time.Millisecond)
			w.cut(nil)
			time.Sleep(time.Duration(100+random.IntN(900)) * time.Millisecond)
		}
		return "flapping ", nil
	case 1:
		w.keepers[0].end(syscall.SIGTERM)
		return "agent restarted, ", w.restart(0)
	case 2:
		w.keepers[0].end(syscall.SIGKILL)
		return "agent killed, ", w.restart(0)
	}
	return "", nil
}

// level compares what agents use with what they used before.
func (w *world) level(before map[int]use) error {
	for i, was := range before {
		site := w.routes.Plan.Site(i).Key
		is, err := w.keepers[i].use()
		if err != nil {
			return err
		}
		log.Printf("%s: %+v at first, %+v in the end", site, was, is)
		if is.kilobytes > was.kilobytes*3/2+8<<10 || is.descriptors > was.descriptors+4 || is.threads > was.threads+6 {
			return fmt.Errorf("the agent of %s grew from %+v to %+v", site, was, is)
		}
	}
	return nil
}
