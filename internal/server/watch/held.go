package watch

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/line"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// held is one line while it lasts.
type held struct {
	k         *Keeper
	id        lineID
	estateKey string
	row       store.GatewayLine // with the epoch in which it is held
	client    *line.Client
	poke      chan struct{} // something happened at the gateway
	ended     chan struct{}
	going     atomic.Bool // another line took its place

	mu    sync.Mutex
	is    store.LineSeen // what the gateway is to be
	asked time.Time      // when it said last how it is

	phase, words string
	summary      string      // that was written last
	drifted      string      // digest of a change by hand that was told
	begun        bool        // it was told to have its first release
	saidOf       uint        // attempt that phase and words are of
	refusedAt    string      // token of the attempt that the gateway refused
	spoken       atomic.Bool // its modules are those that this server speaks
	answering    sync.Map    // operation → true: what it is being asked for others
	wants        *desk.ForGateway
	wantsOf      desk.Version
}

// told takes what the gateway is to be.
func (h *held) told(row *store.LineSeen) {
	h.mu.Lock()
	changed := h.is.Attempt != row.Attempt || row.ProvenSince != nil && h.asked.Before(*row.ProvenSince)
	h.is = *row
	h.mu.Unlock()
	if changed {
		h.knock()
	}
}

func (h *held) knock() {
	select {
	case h.poke <- struct{}{}:
	default:
	}
}

// run asks and acts until the line ends.
func (h *held) run(ctx context.Context) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	end := context.AfterFunc(ctx, func() { _ = h.client.Close() })
	defer end()
	h.introduce(ctx)
	go h.follow(ctx)
	go h.collect(ctx)
	var offered time.Time
	failures := 0
	for h.client.Err() == nil && ctx.Err() == nil {
		began := time.Now()
		if err := h.look(ctx); err != nil {
			if failures++; failures >= 3 || h.client.Err() != nil {
				h.k.Log.Debug("a line ended", "site", h.id.site, "reason", err)
				return
			}
			h.k.put(h, map[string]any{"words": err.Error()})
		} else {
			failures = 0
		}
		if time.Since(offered) > offerEvery {
			offered = time.Now()
			h.askOffers(ctx)
		}
		select {
		case <-ctx.Done():
			return
		case <-h.poke:
			if rest := atMost - time.Since(began); rest > 0 {
				time.Sleep(rest)
			}
		case <-time.After(askEvery):
		}
	}
}

// introduce learns whether the gateway speaks what this server does.
func (h *held) introduce(ctx context.Context) {
	asking, done := context.WithTimeout(ctx, askWithin)
	defer done()
	library, err := h.client.Library(asking)
	h.spoken.Store(err == nil && library.Implements("wideknot-gateway", line.GatewayRevision))
	if !h.spoken.Load() {
		words := "it speaks another version of wideknot-gateway than this server (" + line.GatewayRevision + "), so it is sent nothing: bring both to one release"
		if err != nil {
			words = "it does not say what it speaks, so it is sent nothing: " + err.Error()
		}
		h.say("version", words)
	}
}

// follow learns at once when something happens at the gateway.
func (h *held) follow(ctx context.Context) {
	for ctx.Err() == nil && h.client.Err() == nil {
		err := h.client.Follow(ctx, "", func(string, line.Event) error {
			h.knock()
			return nil
		})
		if err != nil {
			h.k.Log.Debug("events of a gateway", "site", h.id.site, "reason", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(askEvery):
		}
	}
}

// say notes how bringing the gateway to a release goes.
func (h *held) say(phase, words string) {
	if len(words) > 4000 {
		words = strings.ToValidUTF8(words[:4000], "")
	}
	if h.phase != phase || h.words != words {
		h.phase, h.words = phase, words
		h.k.put(h, map[string]any{"phase": phase, "words": words})
	}
}

// look asks how the gateway is, keeps it, and does what follows.
func (h *held) look(ctx context.Context) error {
	asking, done := context.WithTimeout(ctx, askWithin)
	defer done()
	state, text, err := h.client.State(asking)
	if err != nil {
		return err
	}
	came := time.Now()
	h.mu.Lock()
	h.asked = came
	h.mu.Unlock()
	summary, err := json.Marshal(desk.SummaryOf(state, came))
	if err != nil {
		return err
	}
	if state.Site != "" && state.Site != h.id.site { // what runs there is of another place
		h.say("failed", "it runs what is for "+state.Site+", and joined as "+h.id.site)
		h.k.put(h, map[string]any{"summary": string(summary), "state_at": came.UTC()})
		return nil
	}
	values := map[string]any{"state": string(text), "state_at": came.UTC()}
	if string(summary) != h.summary {
		h.summary = string(summary)
		values["summary"] = h.summary
	}
	h.k.put(h, values)
	if h.spoken.Load() && !h.going.Load() {
		h.bring(ctx, state)
	}
	return nil
}

// askOffers keeps what the gateway sees around it.
func (h *held) askOffers(ctx context.Context) {
	asking, done := context.WithTimeout(ctx, askWithin)
	defer done()
	_, text, err := h.client.Offers(asking)
	var refused *line.Error
	if errors.As(err, &refused) {
		return // it knows nothing of offers
	}
	if err != nil {
		h.k.Log.Info("a gateway's offers", "site", h.id.site, "reason", err)
		return
	}
	now, words := time.Now().UTC(), string(text)
	err = h.k.Store.InTransaction(ctx, func(tx *store.Tx) error {
		row, err := tx.Gateway(h.id.estate, h.id.site, true)
		if err != nil {
			return err
		}
		row.Offers, row.OfferedAt = &words, &now
		return tx.SaveGateway(&row, "offers", "offered_at")
	})
	if err != nil && ctx.Err() == nil {
		h.k.Log.Error("offers are not written", "site", h.id.site, "error", err)
	}
}

// replaced ends a line that another one took the place of. A gateway closes a line before it
// dials anew: where this one still answers, two machines have one certificate.
func (h *held) replaced(ctx context.Context) {
	h.going.Store(true)
	asking, done := context.WithTimeout(ctx, 3*time.Second)
	defer done()
	time.Sleep(200 * time.Millisecond) // its end may be on the way
	epoch := h.row.Epoch
	err := h.k.Store.Snapshot(asking, func(tx *store.Tx) (err error) {
		epoch, err = tx.LineSince(h.id.estate, h.id.site)
		return err
	})
	switch {
	case err == nil && epoch == 0: // the gateway is gone, with its estate or for another machine
		_ = h.client.Close()
		return
	case err != nil || epoch == h.row.Epoch: // nothing is known of another one
		h.going.Store(false)
		return
	}
	_, _, err = h.client.State(asking)
	_ = h.client.Close()
	if err != nil || ctx.Err() != nil {
		return
	}
	h.k.Log.Warn("two machines have the certificate of one gateway", "site", h.id.site)
	err = h.k.Store.InTransaction(ctx, func(tx *store.Tx) error { return tx.Doubled(h.id.estate, h.id.site) })
	if err != nil {
		h.k.Log.Error("a doubled gateway is not written", "site", h.id.site, "error", err)
	}
}

// bring does the next step towards the release that is wanted, by what the gateway says of
// itself (operating.md, Trial). The database never says confirmed before the gateway does.
// Long because the cases are one decision.
func (h *held) bring(ctx context.Context, s *gateway.State) {
	h.mu.Lock()
	is := h.is
	h.mu.Unlock()
	if is.Wanted == 0 {
		h.first(ctx, s)
		return
	}
	if h.saidOf != is.Attempt { // the database says nothing of this attempt yet
		h.saidOf, h.phase, h.words = is.Attempt, "", ""
	}
	if is.Attempt == is.ConfirmedAttempt && is.ConfirmedDigest != "" && s.Digest == is.ConfirmedDigest && s.Trial.Token == "" {
		h.say("confirmed", "") // what most say, most of the time
		h.wants = nil
		return
	}
	wants, err := h.wanted(ctx, versionOf(&is))
	if err != nil {
		h.say("failed", err.Error())
		return
	}
	asking, done := context.WithTimeout(ctx, askWithin)
	defer done()
	token := tokenOf(is.Wanted, is.Attempt)
	switch {
	case s.Trial.Token == token && s.Digest == wants.Digest: // over a later line than the one that began it
		if !h.holds(ctx) {
			return
		}
		if err := h.client.Confirm(asking, token); err != nil {
			h.say("trying", err.Error())
			return
		}
		h.confirmed(ctx, &is, wants.Digest)
	case s.Trial.Token != "" && ours(s.Trial.Token):
		if err := h.client.Cancel(asking, s.Trial.Token); err != nil {
			h.say("sending", "what was tried before cannot be taken back: "+err.Error())
		}
		h.knock()
	case s.Trial.Token != "":
		h.say("sending", "somebody tries a configuration on the gateway itself; this waits")
	case s.Digest == wants.Digest:
		if is.Attempt != is.ConfirmedAttempt || is.ConfirmedDigest != wants.Digest || h.phase != "confirmed" {
			h.confirmed(ctx, &is, wants.Digest)
		}
	case s.Trial.LastToken == token && s.Trial.LastOutcome == "went-back":
		h.say("went-back", strings.TrimSpace("it was tried, and the gateway went back by itself: "+s.Trial.LastReason+". "+s.Trial.Trouble))
	case is.ConfirmedDigest != "" && s.Digest != is.ConfirmedDigest && s.Digest != "" && s.Digest != is.PutBack:
		h.differs(asking, &is, s.Digest, wants)
	case h.phase == "failed" && h.words != "" && h.failedAt(token):
		// It refused this attempt; another is wanted by a person.
	default:
		if !h.holds(ctx) {
			return
		}
		if err := h.send(asking, s, wants, int(versionOf(&is).Kept()), token); err != nil {
			h.fail(token, err)
			return
		}
		h.say("trying", "")
	}
}

// first lets a gateway that has just joined, and runs nothing, have the release in force.
func (h *held) first(ctx context.Context, s *gateway.State) {
	if s.Digest != "" || s.Trial.Token != "" || h.begun {
		return
	}
	ctx = identity.WithActor(ctx, identity.Actor{Name: "server"})
	begun, err := h.k.Desk.BringFirst(ctx, h.estateKey, h.id.site)
	if err != nil {
		h.k.Log.Error("a gateway that joined is not begun with", "site", h.id.site, "error", err)
		return
	}
	if h.begun = begun; !begun {
		h.say("", "it joined; no release in force has its site yet")
	}
}

// send writes the candidate and begins the trial.
func (h *held) send(ctx context.Context, s *gateway.State, wants *desk.ForGateway, release int, token string) error {
	if len(wants.Shared) > 0 {
		if err := h.client.Share(ctx, wants.Shared); err != nil {
			return err
		}
	}
	if err := h.client.Offer(ctx, wants.Config, s.Digest); err != nil {
		return err
	}
	return h.client.Try(ctx, wants.Digest, release, token, cmp.Or(h.k.Trial, usualTrial))
}
