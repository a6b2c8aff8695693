package watch

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"strings"
	"time"

	"wideknot/internal/line"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/store"
)

// trialSeconds is how long a gateway waits to be confirmed: a line is back within
// 30 s even where the first calls fail.
const trialSeconds = 180

const tokenStart = "wideknot.r"

// tokenOf names a trial: of a release, by the attempt at it.
func tokenOf(release uint64, attempt uint) string {
	return fmt.Sprintf("%s%d.%d", tokenStart, release, attempt)
}

// ours reports whether a trial was begun by a server.
func ours(token string) bool { return strings.HasPrefix(token, tokenStart) }

// wanted makes what the gateway is to be, once for a release.
func (h *held) wanted(ctx context.Context, release uint64) (*desk.ForGateway, error) {
	if h.wants != nil && h.wantsOf == release {
		return h.wants, nil
	}
	wants, err := h.k.Desk.ForGateway(ctx, h.estateKey, h.id.site, release)
	if err != nil {
		return nil, err
	}
	h.wants, h.wantsOf = wants, release
	h.k.relax()
	return wants, nil
}

// quietFor is how long no configuration was made before memory is given back.
const quietFor = 5 * time.Second

// relax gives memory that configurations took back to the system, once no more are made.
func (k *Keeper) relax() {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.relaxing == nil {
		k.relaxing = time.AfterFunc(quietFor, debug.FreeOSMemory)
		return
	}
	k.relaxing.Reset(quietFor)
}

// holds reports whether this server still holds the line: only then it acts.
func (h *held) holds(ctx context.Context) bool {
	ok := false
	err := h.k.Store.InTransaction(ctx, func(tx *store.Tx) (err error) {
		ok, err = tx.HoldsLine(h.id.estate, h.id.site, h.k.Name, h.row.Epoch)
		if !ok || err != nil {
			return err
		}
		g, err := tx.LiveGateway(h.id.estate, h.id.site)
		ok = err == nil && g.BarredAt == nil && g.DoubledAt == nil
		if ok || err != nil {
			return err
		}
		h.say("failed", "two machines have the certificate of this gateway: neither is sent anything. Give it a new join code and take the other away")
		return nil
	})
	if err != nil {
		h.k.Log.Error("whether a line is held", "site", h.id.site, "error", err)
	}
	return ok && err == nil
}

// confirmed writes that the gateway said it keeps a release.
func (h *held) confirmed(ctx context.Context, release uint64, digest string) {
	err := h.k.Store.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.Gateway(h.id.estate, h.id.site, true)
		if err != nil {
			return err
		}
		row.Confirmed, row.ConfirmedDigest = release, digest
		return tx.SaveGateway(&row, "confirmed", "confirmed_digest")
	})
	if err != nil {
		h.k.Log.Error("a confirmation is not written; it is asked for again", "site", h.id.site, "error", err)
		h.wants = nil
		h.phase = ""
		return
	}
	h.mu.Lock()
	h.is.Confirmed, h.is.ConfirmedDigest = release, digest
	h.mu.Unlock()
	h.say("confirmed", "")
	h.knock()
}

// fail notes why a gateway does not take a release. One that refuses is not asked again by
// itself; a line that broke is another's to try.
func (h *held) fail(token string, err error) {
	var refused *line.Error
	if errors.As(err, &refused) && refused.Status != 412 {
		h.refusedAt = token
		h.say("failed", refused.Message)
		return
	}
	h.say("sending", err.Error())
	h.knock()
}

// failedAt reports whether the gateway refused this very attempt.
func (h *held) failedAt(token string) bool { return h.refusedAt == token }
