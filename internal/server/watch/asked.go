package watch

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"wideknot/core/gateway"
	"wideknot/internal/line"
	"wideknot/internal/server/store"
)

// answerWithin is how long a gateway may take to answer what it is asked.
const answerWithin = 25 * time.Second

// ask asks the gateways whose lines this server holds what others want to know of them.
func (k *Keeper) ask(ctx context.Context) error {
	var rows []store.Ask
	err := k.Store.Snapshot(ctx, func(tx *store.Tx) (err error) {
		rows, err = tx.OpenAsks(k.Name)
		return err
	})
	if err != nil {
		return err
	}
	for i := range rows {
		k.mu.Lock()
		h := k.lines[lineID{rows[i].EstateID, rows[i].Site}]
		k.mu.Unlock()
		if h == nil || !h.spoken.Load() {
			continue
		}
		if _, busy := h.answering.LoadOrStore(rows[i].Operation, true); !busy { // of one kind one after the other
			go func() {
				defer h.answering.Delete(rows[i].Operation)
				h.answer(ctx, &rows[i])
			}()
		}
	}
	return nil
}

// answer asks one thing, and keeps what came of it.
func (h *held) answer(ctx context.Context, row *store.Ask) {
	asking, done := context.WithTimeout(ctx, answerWithin)
	defer done()
	output, err := h.operate(asking, row)
	var refused *line.Error
	if h.client.Err() != nil || ctx.Err() != nil || errors.As(err, &refused) && refused.Tag == line.InUse {
		return // it is asked again, over another line
	}
	words := ""
	if err != nil {
		words = err.Error()
	}
	err = h.k.Store.InTransaction(ctx, func(tx *store.Tx) error { return tx.AnswerAsk(row.ID, output, words) })
	if err != nil {
		h.k.Log.Error("an answer is not written", "site", h.id.site, "error", err)
	}
}

// operate carries out what is asked.
func (h *held) operate(ctx context.Context, row *store.Ask) (string, error) {
	var answer any
	var err error
	switch row.Operation {
	case store.AskEcho:
		var list []gateway.Echo
		if err := json.Unmarshal([]byte(row.Input), &list); err != nil {
			return "", err
		}
		answer, err = h.client.Echo(ctx, list)
	case store.AskLook:
		var l gateway.Look
		if err := json.Unmarshal([]byte(row.Input), &l); err != nil {
			return "", err
		}
		answer, err = h.client.Look(ctx, &l)
	case store.AskBench:
		var b gateway.Bench
		if err := json.Unmarshal([]byte(row.Input), &b); err != nil {
			return "", err
		}
		answer, err = h.client.Bench(ctx, &b)
	case store.AskHold:
		var hold gateway.Hold
		if err := json.Unmarshal([]byte(row.Input), &hold); err != nil {
			return "", err
		}
		answer, err = "held", h.client.Hold(ctx, &hold)
	case store.AskSessions:
		var o gateway.SessionsOrder
		if err := json.Unmarshal([]byte(row.Input), &o); err != nil {
			return "", err
		}
		answer, err = h.client.Sessions(ctx, &o)
	case store.AskNewKey:
		if answer, err = h.client.NewKey(ctx); err == nil {
			h.askOffers(ctx) // which tell of it
		}
	case store.AskRunning:
		var c *gateway.Config
		if c, err = h.client.Running(ctx); err == nil {
			var text []byte
			text, err = gateway.Write(c)
			answer = json.RawMessage(text)
		}
	default:
		err = fmt.Errorf("this server does not know how to ask for %q", row.Operation)
	}
	if err != nil {
		return "", err
	}
	text, err := json.Marshal(answer)
	return string(text), err
}
