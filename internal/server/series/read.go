package series

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"wideknot/internal/server/store"
)

// mostPoints is how many rows a plot is of, before a coarser tier is read.
const mostPoints = 1500

// mostMarks is how many events and releases a plot is marked with.
const mostMarks = 200

// A Query asks for one end of a tunnel, or for a WAN link, of a site in a time.
type Query struct {
	Site, Interface, Link string
	From, To              time.Time
}

// A Column is one quantity; a value is null where nothing was measured.
type Column struct {
	Name   string     `json:"name" enum:"latency,max_latency,jitter,lost_there,lost_back,unanswered,in,out,dead,down"`
	Unit   string     `json:"unit" enum:"ms,%,bit/s"`
	Values []*float64 `json:"values"`
}

// A Mark is something that happened meanwhile.
type Mark struct {
	At    time.Time `json:"at"`
	Kind  string    `json:"kind" enum:"began,ended,joined,release"`
	Words string    `json:"words"`
	Site  string    `json:"site,omitempty"`
}

// A Series is what was measured. Each value is of so many seconds from its moment on.
type Series struct {
	From    time.Time `json:"from"`
	To      time.Time `json:"to"`
	Seconds int       `json:"seconds" enum:"10,60,900" doc:"that each value is of"`
	At      []int64   `json:"at" doc:"when each began, in seconds since 1970"`
	Columns []Column  `json:"columns"`
	Marks   []Mark    `json:"marks" doc:"events and releases, the oldest first, at most 200"`
}

// ErrQuery is returned for a time that cannot be.
var ErrQuery = errors.New("a series is of a time that ends after it began, within the last 90 days")

// Read reads a series.
func Read(ctx context.Context, s *store.Store, estate uint64, q Query) (*Series, error) {
	tier, err := pick(q.From, q.To, time.Now())
	if err != nil {
		return nil, err
	}
	out := &Series{From: q.From.UTC(), To: q.To.UTC(), Seconds: tier.Seconds, At: []int64{}, Marks: []Mark{}}
	var layouts map[uint64]*names
	var rows []store.Sample
	err = s.Snapshot(ctx, func(tx *store.Tx) (err error) {
		layouts, err = layoutsOf(tx, estate, q.Site, func(n *names) bool {
			return q.Link != "" && in(n.Links, q.Link) >= 0 || q.Link == "" && in(n.Tunnels, q.Interface) >= 0
		})
		if err != nil {
			return err
		}
		if rows, err = tx.Samples(tier, keys(layouts), q.From.Unix(), q.To.Unix()); err != nil {
			return err
		}
		out.Marks, err = marks(tx, estate, q.From, q.To)
		return err
	})
	if err != nil {
		return nil, err
	}
	out.Columns = columnsOf(q)
	for i := range rows {
		if err := out.add(&q, layouts[rows[i].Layout], &rows[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// pick chooses the finest tier that has the time, and not too many rows of it.
func pick(from, to, now time.Time) (*store.Tier, error) {
	last := &store.Tiers[len(store.Tiers)-1]
	if !from.Before(to) || from.Before(now.AddDate(0, 0, -last.Days-1)) || to.After(now.Add(24*time.Hour)) {
		return nil, ErrQuery
	}
	for i := range store.Tiers {
		t := &store.Tiers[i]
		if to.Sub(from) <= time.Duration(t.Seconds*mostPoints)*time.Second && from.After(now.AddDate(0, 0, -t.Days)) {
			return t, nil
		}
	}
	return last, nil
}

func layoutsOf(tx *store.Tx, estate uint64, site string, has func(*names) bool) (map[uint64]*names, error) {
	list, err := tx.SampleLayouts(estate, site)
	out := make(map[uint64]*names, len(list))
	for i := range list {
		n := &names{}
		if err := json.Unmarshal([]byte(list[i].Names), n); err != nil {
			return nil, err
		}
		if has(n) {
			out[list[i].ID] = n
		}
	}
	return out, err
}

func keys(layouts map[uint64]*names) (out []uint64) {
	for id := range layouts {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

func marks(tx *store.Tx, estate uint64, from, to time.Time) ([]Mark, error) {
	events, err := tx.EventsBetween(estate, from.UTC(), to.UTC(), mostMarks)
	if err != nil {
		return nil, err
	}
	releases, err := tx.ReleasesBetween(estate, from.UTC(), to.UTC())
	if err != nil {
		return nil, err
	}
	out := []Mark{}
	for i := range events {
		out = append(out, Mark{events[i].At, events[i].Kind, events[i].Words, events[i].Site})
	}
	for i := range releases {
		out = append(out, Mark{releases[i].At, "release", strings.TrimSuffix(fmt.Sprintf("release %d: %s", releases[i].Number, releases[i].Message), ": "), ""})
	}
	slices.SortStableFunc(out, func(a, b Mark) int { return a.At.Compare(b.At) })
	return out[:min(len(out), mostMarks)], nil
}

func columnsOf(q Query) []Column {
	list := [][2]string{{"latency", "ms"}, {"max_latency", "ms"}, {"jitter", "ms"}, {"lost_there", "%"}, {"lost_back", "%"}, {"unanswered", "%"}, {"in", "bit/s"}, {"out", "bit/s"}, {"dead", "%"}}
	if q.Link != "" {
		list = [][2]string{{"in", "bit/s"}, {"out", "bit/s"}, {"down", "%"}}
	}
	out := make([]Column, len(list))
	for i, c := range list {
		out[i] = Column{c[0], c[1], []*float64{}}
	}
	return out
}

// add adds a row; where rows are missing before it, one without values.
func (s *Series) add(q *Query, n *names, raw *store.Sample) error {
	r, err := unpack(raw.Data)
	if err != nil {
		return err
	}
	if last := len(s.At) - 1; last >= 0 && s.At[last] == raw.At { // of two layouts: one was long enough
		return nil
	} else if last >= 0 && raw.At-s.At[last] > int64(s.Seconds)*3/2 {
		s.put(s.At[last]+int64(s.Seconds), nil)
	}
	if at := in(n.Links, q.Link); q.Link != "" {
		s.put(raw.At, s.linkValues(&r, at))
		return nil
	}
	s.put(raw.At, s.tunnelValues(&r, in(n.Tunnels, q.Interface)))
	return nil
}

func (s *Series) rate(bytes uint64) *float64 { return new(float64(bytes) * 8 / float64(s.Seconds)) }

// share is in hundredths; nil of nothing.
func share(part, of uint64) *float64 {
	if of == 0 {
		return nil
	}
	return new(min(100, 100*float64(part)/float64(of)))
}

func (s *Series) linkValues(r *row, at int) []*float64 {
	return []*float64{s.rate(r.LinkIn.at(at)), s.rate(r.LinkOut.at(at)), share(r.LinkDown.at(at), uint64(s.Seconds))}
}

func (s *Series) tunnelValues(r *row, at int) []*float64 {
	probes, missed := r.Probes.at(at), r.Missed.at(at)
	out := []*float64{
		nil, nil, nil, share(r.LostOut.at(at), probes), share(r.LostBack.at(at), probes), share(missed, probes),
		s.rate(r.In.at(at)), s.rate(r.Out.at(at)), share(r.Dead.at(at), uint64(s.Seconds)),
	}
	if probes > missed {
		for i, n := range []numbers{r.Latency, r.MaxLatency, r.Jitter} {
			out[i] = new(float64(n.at(at)) * fine / 1000)
		}
	}
	return out
}

func (s *Series) put(at int64, values []*float64) {
	s.At = append(s.At, at)
	for i := range s.Columns {
		var v *float64
		if values != nil {
			v = values[i]
		}
		s.Columns[i].Values = append(s.Columns[i].Values, v)
	}
}

// CSV writes a series as a sheet, with times in UTC and units in the head.
func (s *Series) CSV() ([]byte, error) {
	var text strings.Builder
	w := csv.NewWriter(&text)
	head := []string{"time (UTC)", "seconds"}
	for _, c := range s.Columns {
		head = append(head, fmt.Sprintf("%s (%s)", strings.ReplaceAll(c.Name, "_", " "), c.Unit))
	}
	if err := w.Write(head); err != nil {
		return nil, err
	}
	for i, at := range s.At {
		line := []string{time.Unix(at, 0).UTC().Format(time.RFC3339), strconv.Itoa(s.Seconds)}
		for _, c := range s.Columns {
			if c.Values[i] == nil {
				line = append(line, "")
			} else {
				line = append(line, strconv.FormatFloat(*c.Values[i], 'f', -1, 64))
			}
		}
		if err := w.Write(line); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return []byte(text.String()), w.Error()
}
