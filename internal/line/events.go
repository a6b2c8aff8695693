package line

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// A stream is kept alive by a line that says nothing.
const beat = 15 * time.Second

// atOnce is how many events are read at once.
const atOnce = 500

// notification is the envelope of RFC 8040, 6.4.
type notification struct {
	Notification struct {
		EventTime string        `json:"eventTime"`
		Event     *eventContent `json:"wideknot-gateway:event,omitempty"`
		Lost      *lostContent  `json:"wideknot-gateway:events-lost,omitempty"`
	} `json:"ietf-restconf:notification"`
}

// eventContent is an Event by the module: numbers of 64 bits are texts (RFC 7951, 6.1).
type eventContent struct {
	Epoch    string `json:"epoch"`
	Sequence uint64 `json:"sequence,string"`
	Kind     string `json:"kind"`
	About    string `json:"about,omitempty"`
	Words    string `json:"words"`
}

// lostContent names events that had to be dropped for want of room.
type lostContent struct {
	Epoch string `json:"epoch"`
	First uint64 `json:"first,string"`
	Last  uint64 `json:"last,string"`
}

// position writes and reads where a reader is: EPOCH.SEQUENCE.
func position(epoch string, sequence uint64) string { return fmt.Sprintf("%s.%d", epoch, sequence) }

func parsePosition(text string) (epoch string, sequence uint64, ok bool) {
	epoch, number, found := strings.Cut(text, ".")
	sequence, err := strconv.ParseUint(number, 10, 64)
	return epoch, sequence, found && err == nil
}

// events streams the journal from where the reader stopped, or from its beginning. What
// was lost in between is told.
func (h *handler) events(w http.ResponseWriter, r *http.Request) error {
	if err := noQuery(r); err != nil {
		return err
	}
	if !accepts(r, eventStream) {
		return refusal(http.StatusNotAcceptable, InvalidValue, "a stream is %s", eventStream)
	}
	after := uint64(0)
	wasEpoch := ""
	if last := r.Header.Get("Last-Event-ID"); last != "" {
		var ok bool
		if wasEpoch, after, ok = parsePosition(last); !ok {
			return refusal(http.StatusBadRequest, InvalidValue, "Last-Event-ID is EPOCH.SEQUENCE, not %q", last)
		}
	}
	w.Header().Set("Content-Type", eventStream)
	w.Header().Set("Cache-Control", "no-cache")
	if r.Method == http.MethodHead {
		return nil
	}
	control := http.NewResponseController(w)
	for {
		epoch, list, more, err := h.device.Events(after, atOnce)
		if err != nil {
			return nil // the stream ends; who reads it asks again
		}
		if wasEpoch != "" && epoch != wasEpoch && after > 0 { // another journal: from its beginning
			wasEpoch, after = epoch, 0
			continue
		}
		wasEpoch = epoch
		for i := range list {
			if after > 0 && list[i].Sequence > after+1 {
				if write(w, "", lost(epoch, after+1, list[i].Sequence-1)) != nil {
					return nil
				}
			}
			after = list[i].Sequence
			if write(w, position(epoch, after), told(&list[i])) != nil {
				return nil
			}
		}
		if control.Flush() != nil {
			return nil
		}
		if len(list) == atOnce {
			continue
		}
		select {
		case <-r.Context().Done():
			return nil
		case <-more:
		case <-time.After(beat):
			if _, err := fmt.Fprint(w, ":\n\n"); err != nil {
				return nil
			}
		}
	}
}

func told(e *Event) *notification {
	n := &notification{}
	n.Notification.EventTime = e.At.UTC().Format(time.RFC3339Nano)
	n.Notification.Event = &eventContent{e.Epoch, e.Sequence, e.Kind, e.About, e.Words}
	return n
}

func lost(epoch string, first, last uint64) *notification {
	n := &notification{}
	n.Notification.EventTime = time.Now().UTC().Format(time.RFC3339Nano)
	n.Notification.Lost = &lostContent{epoch, first, last}
	return n
}

// write writes one event of a stream.
func write(w http.ResponseWriter, id string, n *notification) error {
	text, err := json.Marshal(n)
	if err != nil {
		return err
	}
	if id != "" {
		id = "id: " + id + "\n"
	}
	_, err = fmt.Fprintf(w, "%sdata: %s\n\n", id, text)
	return err
}
