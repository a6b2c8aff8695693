package watch

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"strings"
	"time"

	"wideknot/core/gateway"
	"wideknot/core/rollout"
	"wideknot/internal/line"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/store"
)

// usualTrial is how long a gateway waits to be confirmed, in seconds: a line is back within
// 30 s even where the first calls fail.
const usualTrial = 180

const tokenStart = "wideknot.r"

// tokenOf names a trial: of a release, by the attempt at it.
func tokenOf(release uint64, attempt uint) string {
	return fmt.Sprintf("%s%d.%d", tokenStart, release, attempt)
}

// ours reports whether a trial was begun by a server.
func ours(token string) bool { return strings.HasPrefix(token, tokenStart) }

// wanted makes what the gateway is to be, once for a version.
func (h *held) wanted(ctx context.Context, v desk.Version) (*desk.ForGateway, error) {
	if h.wants != nil && h.wantsOf == v {
		return h.wants, nil
	}
	wants, err := h.k.Desk.ForGateway(ctx, h.estateKey, h.id.site, v)
	if err != nil {
		return nil, err
	}
	h.wants, h.wantsOf = wants, v
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

// confirmed writes that the gateway said it keeps what it is to be.
func (h *held) confirmed(ctx context.Context, is *store.LineSeen, digest string) {
	kept := versionOf(is).Kept()
	err := h.k.Store.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.Gateway(h.id.estate, h.id.site, true)
		if err != nil {
			return err
		}
		row.Confirmed, row.ConfirmedDigest, row.ConfirmedAttempt, row.ConfirmedStage = kept, digest, is.Attempt, is.Stage
		return tx.SaveGateway(&row, "confirmed", "confirmed_digest", "confirmed_attempt", "confirmed_stage")
	})
	if err != nil {
		h.k.Log.Error("a confirmation is not written; it is asked for again", "site", h.id.site, "error", err)
		h.wants = nil
		h.phase = ""
		return
	}
	h.mu.Lock()
	h.is.Confirmed, h.is.ConfirmedDigest, h.is.ConfirmedAttempt = kept, digest, is.Attempt
	h.mu.Unlock()
	h.say("confirmed", "")
	h.knock()
}

// mostDrift is how many differences are told.
const mostDrift = 20

// differs says in words what somebody changed at the gateway, once for each change.
func (h *held) differs(ctx context.Context, is *store.LineSeen, digest string, wants *desk.ForGateway) {
	if h.phase == "differs" && h.drifted == digest {
		return
	}
	words := "what it runs is not what was confirmed: somebody changed it, or it was set up anew. Nothing is sent until that is settled"
	runs, err := h.client.Running(ctx)
	if err == nil && is.Attempt == is.ConfirmedAttempt {
		list := gateway.Difference(wants.Config, runs)
		for i, o := range list {
			if i == mostDrift {
				words += fmt.Sprintf("; and %d more", len(list)-i)
				break
			}
			words += "; " + o.Words
		}
	}
	h.drifted = digest
	h.say("differs", words)
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

// versionOf is what a gateway is to be.
func versionOf(is *store.LineSeen) desk.Version {
	return desk.Version{Release: is.Wanted, Base: is.Base, Stage: rollout.Stage(is.Stage)}
}

// failedAt reports whether the gateway refused this very attempt.
func (h *held) failedAt(token string) bool { return h.refusedAt == token }
