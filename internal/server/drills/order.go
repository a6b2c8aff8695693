// Package drills rehearses failures: what a part's death would do is predicted, gateways hold its
// tunnels down for a time, and what is seen is compared with that second by second.
package drills

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"wideknot/core/drill"
	"wideknot/core/outage"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/events"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// States of a drill.
const (
	Waiting   = "waiting"   // for its time
	Beginning = "beginning" // gateways are asked to hold tunnels down
	Running   = "running"
	Returning = "returning" // they are let go, and are to come back
	Proven    = "proven"    // all was as predicted
	Differs   = "differs"
	Failed    = "failed" // it could not be done
	Stopped   = "stopped"
)

// An Order asks for a drill.
type Order struct {
	Part     string    `json:"part" maxLength:"200" doc:"of the outages, such as link:SITE/LINK"`
	Seconds  int       `json:"seconds" minimum:"15" maximum:"1800" doc:"that it is held"`
	BeginsAt time.Time `json:"begins_at,omitzero" doc:"at once when it is not given; a window of maintenance of all its sites must be open then"`
	Every    string    `json:"every,omitempty" enum:",week,month,quarter" doc:"how often it comes again; empty for once"`
}

// A Drill is one with its prediction.
type Drill struct {
	Number     uint64            `json:"number"`
	Part       string            `json:"part"`
	Release    uint64            `json:"release"`
	Seconds    int               `json:"seconds"`
	BeginsAt   time.Time         `json:"begins_at"`
	Every      string            `json:"every,omitempty" enum:",week,month,quarter"`
	BeganAt    *time.Time        `json:"began_at,omitempty"`
	LetGoAt    *time.Time        `json:"let_go_at,omitempty"`
	EndedAt    *time.Time        `json:"ended_at,omitempty"`
	State      string            `json:"state" enum:"waiting,beginning,running,returning,proven,differs,failed,stopped"`
	Words      string            `json:"words,omitempty"`
	Author     string            `json:"author"`
	FoundAfter *int              `json:"found_after_s,omitempty" doc:"seconds until all was as predicted"`
	BackAfter  *int              `json:"back_after_s,omitempty" doc:"seconds until all was back"`
	Prediction *drill.Prediction `json:"prediction"`
}

// A Point is what was seen at a second after it began.
type Point struct {
	Second int `json:"second"`
	drill.Seen
}

// A Detail is a drill with what was seen.
type Detail struct {
	Drill
	Points []Point `json:"points"`
}

// ErrOpen is of a drill while another one of the estate is on its way.
var ErrOpen = errors.New("another drill of this estate is not over: wait, or stop it")

// mostWaiting is how many drills of an estate may wait for their time.
const mostWaiting = 100

// again is when a drill comes again.
func again(every string, at time.Time) time.Time {
	switch every {
	case "week":
		return at.AddDate(0, 0, 7)
	case "month":
		return at.AddDate(0, 1, 0)
	}
	return at.AddDate(0, 3, 0)
}

// An Office takes orders.
type Office struct {
	Store *store.Store
	Desk  *desk.Desk
}

// Predict says what a drill would do.
func (o *Office) Predict(ctx context.Context, estateKey, part string) (*drill.Prediction, uint64, error) {
	view, err := o.Desk.View(ctx, desk.Place{Estate: estateKey, Draft: desk.Released})
	if err != nil {
		return nil, 0, err
	}
	p, err := outage.ParsePart(part)
	if err != nil {
		return nil, 0, &identity.Refused{Field: "part", Text: err.Error()}
	}
	leave, err := o.Desk.Working(ctx)
	if err != nil {
		return nil, 0, err
	}
	defer leave()
	out, err := drill.Predict(view.Routes, view.Model(), p)
	if err != nil {
		return nil, 0, &identity.Refused{Field: "part", Text: err.Error()}
	}
	return out, view.Latest, nil
}

// Start takes an order. It begins by itself when it is time.
func (o *Office) Start(ctx context.Context, estateKey string, order Order) (*Drill, error) {
	prediction, release, err := o.Predict(ctx, estateKey, order.Part)
	if err != nil {
		return nil, err
	}
	if least := int(math.Ceil(prediction.Detect)) + late; order.Seconds < least {
		return nil, &identity.Refused{Field: "seconds", Text: fmt.Sprintf("it takes up to %d s until all of it is seen: hold it for longer", least)}
	}
	text, err := json.Marshal(prediction)
	if err != nil {
		return nil, err
	}
	var row store.Drill
	err = o.Store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, true)
		if err != nil {
			return err
		}
		now, err := tx.Now()
		if err != nil {
			return err
		}
		if order.BeginsAt.Before(now) {
			order.BeginsAt = now
		}
		others, err := tx.CountDrills(e.ID)
		if err != nil {
			return err
		}
		if others.Waiting >= mostWaiting {
			return &identity.Refused{Field: "begins_at", Text: fmt.Sprintf("up to %d drills may wait for their time", mostWaiting)}
		}
		if order.BeginsAt.Equal(now) {
			if others.Due+others.Going > 0 {
				return ErrOpen
			}
			if err := mayBegin(tx, e.ID, prediction); err != nil {
				return err
			}
		}
		row = store.Drill{
			EstateID: e.ID, Part: prediction.Part, ReleaseNo: release, Seconds: order.Seconds, BeginsAt: order.BeginsAt.UTC(), Every: order.Every, State: Waiting,
			Prediction: string(text), DeadBefore: "{}", Author: identity.ActorOf(ctx).Name, MadeAt: now,
		}
		if err := tx.AddDrill(&row); err != nil {
			return err
		}
		return identity.Record(ctx, tx, now, identity.Act{Action: "drill.start", Estate: e.ID, Object: fmt.Sprintf("drill %d", row.Number), After: order})
	})
	if err != nil {
		return nil, err
	}
	return drillOf(&row)
}

// mayBegin says what keeps a drill from beginning now: no window, or gateways that are not there.
func mayBegin(tx *store.Tx, estate uint64, p *drill.Prediction) error {
	for i := range p.Sites {
		if !p.Sites[i].Holds {
			continue
		}
		open, err := events.IsOpenIn(tx, estate, p.Sites[i].Key)
		if err != nil {
			return err
		}
		if !open {
			return &identity.Refused{Field: "begins_at", Text: "traffic moves, so it needs a window of maintenance: announce one of " + p.Sites[i].Key + " or of all sites, on the page of events"}
		}
	}
	if running, err := tx.ActiveRollout(estate, false); err == nil {
		return fmt.Errorf("%w: rollout %d is on its way", desk.ErrRolling, running.Number)
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	live, err := tx.LiveGateways(estate)
	if err != nil {
		return err
	}
	for i := range p.Sites {
		s := &p.Sites[i]
		at := slices.IndexFunc(live, func(l store.LiveGateway) bool { return l.Site == s.Key })
		if at < 0 || !live[at].Up {
			return &identity.Refused{Field: "part", Text: "the gateway of " + s.Key + " is not there, so nobody would see what it does"}
		}
		if live[at].ConfirmedDigest != s.Digest {
			return &identity.Refused{Field: "part", Text: "the gateway of " + s.Key + " does not keep the release in force, by which it is predicted: bring it there first"}
		}
	}
	return nil
}

// Stop lets a drill be over soon: what is held down is let go.
func (o *Office) Stop(ctx context.Context, estateKey string, number uint64) error {
	return o.Store.InTransaction(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return err
		}
		row, err := tx.Drill(e.ID, number, true)
		if err != nil {
			return fmt.Errorf("drill %d: %w", number, err)
		}
		if row.EndedAt != nil || row.Stops {
			return nil
		}
		now, err := tx.Now()
		if err != nil {
			return err
		}
		columns := []string{"stops"}
		if row.Stops = true; row.State == Waiting && row.BeginsAt.After(now) {
			row.State, row.EndedAt = Stopped, &now
			columns = append(columns, "state", "ended_at")
		}
		if err := tx.SaveDrill(&row, columns...); err != nil {
			return err
		}
		return identity.Record(ctx, tx, now, identity.Act{Action: "drill.stop", Estate: e.ID, Object: fmt.Sprintf("drill %d", number)})
	})
}

// mostListed is how many drills are listed.
const mostListed = 200

// List lists the drills of an estate, the newest first.
func (o *Office) List(ctx context.Context, estateKey string) ([]Drill, error) {
	var rows []store.Drill
	err := o.Store.Snapshot(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return err
		}
		rows, err = tx.Drills(e.ID, mostListed)
		return err
	})
	if err != nil {
		return nil, err
	}
	out := make([]Drill, 0, len(rows))
	for i := range rows {
		one, err := drillOf(&rows[i])
		if err != nil {
			return nil, err
		}
		out = append(out, *one)
	}
	return out, nil
}

// Get returns a drill with what was seen.
func (o *Office) Get(ctx context.Context, estateKey string, number uint64) (*Detail, error) {
	var row store.Drill
	var points []store.DrillPoint
	err := o.Store.Snapshot(ctx, func(tx *store.Tx) error {
		e, err := tx.Estate(estateKey, false)
		if err != nil {
			return err
		}
		if row, err = tx.Drill(e.ID, number, false); err != nil {
			return fmt.Errorf("drill %d: %w", number, err)
		}
		points, err = tx.DrillPoints(e.ID, number, -1)
		return err
	})
	if err != nil {
		return nil, err
	}
	one, err := drillOf(&row)
	if err != nil {
		return nil, err
	}
	out := &Detail{Drill: *one, Points: make([]Point, len(points))}
	for i := range points {
		out.Points[i].Second = points[i].Second
		if err := json.Unmarshal([]byte(points[i].Seen), &out.Points[i].Seen); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func drillOf(row *store.Drill) (*Drill, error) {
	out := &Drill{
		Number: row.Number, Part: row.Part, Release: row.ReleaseNo, Seconds: row.Seconds, BeginsAt: row.BeginsAt.UTC(), Every: row.Every, BeganAt: row.BeganAt, LetGoAt: row.LetGoAt, EndedAt: row.EndedAt,
		State: row.State, Words: row.Words, Author: row.Author, FoundAfter: row.FoundAfter, BackAfter: row.BackAfter, Prediction: &drill.Prediction{},
	}
	err := json.Unmarshal([]byte(row.Prediction), out.Prediction)
	for i := range out.Prediction.Sites { // by which tunnels all ways go is for comparing, not for telling
		out.Prediction.Sites[i].Ways = nil
	}
	return out, err
}
