package watch

import (
	"context"
	"errors"
	"math/rand/v2"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/line"
	"wideknot/internal/server/series"
)

// How often what gateways measured is fetched, and room for it made in the database.
const (
	collectEvery = 10 * time.Second
	roomsEvery   = time.Hour
)

// mostWritten is how many samples are written in one transaction.
const mostWritten = 2000

// measured is what a gateway told and is to be written.
type measured struct {
	batch series.Batch
	wrote chan error
}

// collect fetches what the gateway measured, until the line ends. What is not written stays at the
// gateway: it is told what to forget with the next question.
func (h *held) collect(ctx context.Context) {
	epoch, has := "", gateway.Counter(0)
	wait := rand.N(collectEvery / 2) // gateways measure at one time, and are not asked at one time
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = collectEvery
		if h.client.Err() != nil || h.going.Load() || !h.spoken.Load() {
			continue
		}
		asking, done := context.WithTimeout(ctx, askWithin)
		told, err := h.client.Samples(asking, epoch, has)
		done()
		var refused *line.Error
		if errors.As(err, &refused) {
			return // it knows nothing of samples
		}
		if err != nil {
			h.k.Log.Debug("what a gateway measured", "site", h.id.site, "reason", err)
			continue
		}
		if len(told.List) == 0 {
			continue
		}
		if h.write(ctx, told) == nil {
			if epoch, has = told.Epoch, told.List[len(told.List)-1].Sequence; len(told.List) > 3 { // there may be more
				wait = saveEvery
			}
		}
	}
}

// write waits until the samples are in the database.
func (h *held) write(ctx context.Context, told *gateway.Samples) error {
	m := &measured{series.Batch{Estate: h.id.estate, Site: h.id.site, Came: time.Now(), List: told.List, Now: told.Now}, make(chan error, 1)}
	h.k.mu.Lock()
	h.k.measured = append(h.k.measured, m)
	h.k.mu.Unlock()
	select {
	case err := <-m.wrote:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// saveMeasured writes what gateways measured, of many in one transaction.
func (k *Keeper) saveMeasured(ctx context.Context) error {
	if now := time.Now(); now.After(k.nextRooms) {
		if err := k.Store.KeepSamples(ctx, now); err != nil {
			return err
		}
		k.nextRooms = now.Add(roomsEvery)
	}
	for ctx.Err() == nil {
		k.mu.Lock()
		n, samples := 0, 0
		for n < len(k.measured) && (n == 0 || samples < mostWritten) {
			samples += len(k.measured[n].batch.List)
			n++
		}
		these := k.measured[:n:n]
		k.measured = k.measured[n:]
		k.mu.Unlock()
		if n == 0 {
			return nil
		}
		batches := make([]series.Batch, n)
		for i := range these {
			batches[i] = these[i].batch
		}
		err := k.series.Keep(ctx, batches)
		for _, m := range these {
			m.wrote <- err
		}
		if err != nil {
			return err
		}
	}
	return nil
}
