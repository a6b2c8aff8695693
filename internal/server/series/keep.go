package series

import (
	"context"
	"sync"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/server/store"
)

// How wrong a clock may be before times are put right, and how far ahead of the server's a time may
// be then.
const (
	rightWithin = 5 * time.Second
	mostAhead   = time.Minute
)

// A Keeper keeps what gateways measured. It knows the layouts that it wrote.
type Keeper struct {
	Store *store.Store

	mu      sync.Mutex
	layouts map[layoutKey]uint64
}

type layoutKey struct {
	estate uint64
	site   string
	hash   [32]byte
}

// mostLayouts is how many layouts are remembered.
const mostLayouts = 50_000

// A Batch is what a gateway told at a moment by the server's clock.
type Batch struct {
	Estate uint64
	Site   string
	Came   time.Time
	List   []gateway.Sample
	Now    gateway.Time // of the gateway's clock
}

// Keep writes batches in one transaction. Times are put right by the gateway's clock; what is
// older than rows are kept, or of the future, is left out.
func (k *Keeper) Keep(ctx context.Context, batches []Batch) error {
	fresh := map[layoutKey]uint64{}
	err := k.Store.InTransaction(ctx, func(tx *store.Tx) error {
		clear(fresh)
		var rows [len(store.Tiers)][]store.Sample
		for i := range batches {
			if err := k.rows(tx, &batches[i], &rows, fresh); err != nil {
				return err
			}
		}
		for i := range rows {
			if err := tx.AddSamples(&store.Tiers[i], rows[i]); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.layouts == nil || len(k.layouts) > mostLayouts {
		k.layouts = map[layoutKey]uint64{}
	}
	for key, id := range fresh {
		k.layouts[key] = id
	}
	return nil
}

// rows makes the rows of a batch.
func (k *Keeper) rows(tx *store.Tx, b *Batch, into *[len(store.Tiers)][]store.Sample, fresh map[layoutKey]uint64) error {
	ahead := aheadBy(b.Now, b.Came)
	for i := range b.List {
		s := &b.List[i]
		tier := tierOf(s.Seconds)
		at, ok := s.At.Seconds()
		if tier < 0 || !ok {
			continue
		}
		began := int64(at) - ahead
		if began < b.Came.AddDate(0, 0, -store.Tiers[tier].Days).Unix() || began > b.Came.Add(mostAhead).Unix() {
			continue
		}
		blocks, err := pack(s)
		if err != nil {
			return err
		}
		for n := range blocks {
			id, err := k.layout(tx, b, &blocks[n].names, fresh)
			if err != nil {
				return err
			}
			into[tier] = append(into[tier], store.Sample{Layout: id, At: began, Data: blocks[n].data})
		}
	}
	return nil
}

// layout returns the number of a layout, and writes it where it is new.
func (k *Keeper) layout(tx *store.Tx, b *Batch, n *names, fresh map[layoutKey]uint64) (uint64, error) {
	text, hash := n.text()
	key := layoutKey{b.Estate, b.Site, [32]byte(hash)}
	k.mu.Lock()
	id := k.layouts[key]
	k.mu.Unlock()
	if id > 0 {
		return id, nil
	}
	if id := fresh[key]; id > 0 {
		return id, nil
	}
	row := store.SampleLayout{EstateID: b.Estate, Site: b.Site, Hash: hash, Names: text, MadeAt: b.Came.UTC()}
	if err := tx.PutSampleLayout(&row); err != nil {
		return 0, err
	}
	fresh[key] = row.ID
	return row.ID, nil
}

// aheadBy is by how many seconds a gateway's clock is ahead, in whole steps of the finest tier, so
// that rows of one gateway keep their distance; 0 where it is about right.
func aheadBy(said gateway.Time, came time.Time) int64 {
	now, ok := said.Seconds()
	if !ok {
		return 0
	}
	off := time.Unix(int64(now), 0).Sub(came)
	if off.Abs() < rightWithin {
		return 0
	}
	return int64(off.Round(time.Duration(store.Tiers[0].Seconds) * time.Second).Seconds())
}

func tierOf(seconds int) int {
	for i := range store.Tiers {
		if store.Tiers[i].Seconds == seconds {
			return i
		}
	}
	return -1
}
