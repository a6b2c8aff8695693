package events

import (
	"bytes"
	"context"
	"encoding/csv"
	"strconv"
	"time"

	"wideknot/internal/server/store"
)

// An Event is one as it is read.
type Event struct {
	ID      uint64    `json:"id"`
	At      time.Time `json:"at"`
	Kind    string    `json:"kind" enum:"began,ended,joined" doc:"joined: all of it is dead still, for another cause"`
	Code    string    `json:"code"`
	Sure    string    `json:"sure" enum:"sure,likely,possible"`
	Words   string    `json:"words"`
	Site    string    `json:"site,omitempty"`
	Link    string    `json:"link,omitempty"`
	Part    string    `json:"part,omitempty" doc:"that failed, as outages name it"`
	Tunnels int       `json:"tunnels" doc:"that it explained when it began"`
	Cut     int       `json:"cut" doc:"pairs of sites that it cuts, as foreseen"`
	LastedS int       `json:"lasted_s,omitempty"`
	Release uint64    `json:"release" doc:"in force"`
	Quiet   bool      `json:"quiet" doc:"it began in a window of maintenance: nobody was told"`
}

// A Query says which events are wanted: those after a number, or before one; of a kind, a code,
// a site.
type Query struct {
	After, Before    uint64
	Kind, Code, Site string
	Most             int
}

// List lists events of an estate, newest first; those after a number oldest first.
func List(ctx context.Context, s *store.Store, estate uint64, q Query) (out []Event, err error) {
	out = []Event{}
	var rows []store.Event
	err = s.Snapshot(ctx, func(tx *store.Tx) error {
		rows, err = tx.Events(estate, q.After, q.Before, store.Event{Kind: q.Kind, Code: q.Code, Site: q.Site}, q.Most)
		return err
	})
	for i := range rows {
		r := &rows[i]
		out = append(out, Event{r.ID, r.At.UTC(), r.Kind, r.Code, r.Sure, r.Words, r.Site, r.Link, r.Part, r.Tunnels, r.Cut, r.Lasted, r.ReleaseNo, r.Quiet})
	}
	return out, err
}

// CSV writes events as a sheet by RFC 4180.
func CSV(list []Event) ([]byte, error) {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	_ = w.Write([]string{"id", "at_utc", "kind", "code", "sure", "words", "site", "link", "part", "tunnels", "pairs_cut", "lasted_s", "release", "quiet"}) // Error tells
	for i := range list {
		e := &list[i]
		_ = w.Write([]string{
			strconv.FormatUint(e.ID, 10), e.At.Format(time.RFC3339), e.Kind, e.Code, e.Sure, e.Words, e.Site, e.Link, e.Part,
			strconv.Itoa(e.Tunnels), strconv.Itoa(e.Cut), strconv.Itoa(e.LastedS), strconv.FormatUint(e.Release, 10), strconv.FormatBool(e.Quiet),
		})
	}
	w.Flush()
	return b.Bytes(), w.Error()
}

// A Listening is a listener as it is read.
type Listening struct {
	ID      uint64     `json:"id"`
	Kind    string     `json:"kind" enum:"webhook,mailbox"`
	Target  string     `json:"target"`
	CutOnly bool       `json:"cut_only"`
	From    string     `json:"from,omitempty"`
	To      string     `json:"to,omitempty"`
	Author  string     `json:"author"`
	MadeAt  time.Time  `json:"made_at"`
	LastAt  *time.Time `json:"last_at,omitempty" doc:"when it was told last"`
	Trouble string     `json:"trouble,omitempty" doc:"why it did not take the last message; it is tried again"`
}

// Listeners lists who is told of an estate's events, and how telling them went last.
func Listeners(ctx context.Context, s *store.Store, estate uint64) (out []Listening, err error) {
	out = []Listening{}
	var rows []store.Listener
	var last []store.Message
	err = s.Snapshot(ctx, func(tx *store.Tx) error {
		if rows, err = tx.Listeners(estate); err != nil {
			return err
		}
		last, err = tx.LastMessages(estate)
		return err
	})
	for i := range rows {
		r := &rows[i]
		one := Listening{ID: r.ID, Kind: r.Kind, Target: r.Target, CutOnly: r.CutOnly, From: r.FromTime, To: r.ToTime, Author: r.Author, MadeAt: r.MadeAt.UTC()}
		for j := range last {
			if last[j].ListenerID == r.ID {
				one.LastAt, one.Trouble = last[j].SentAt, last[j].Words
			}
		}
		out = append(out, one)
	}
	return out, err
}
