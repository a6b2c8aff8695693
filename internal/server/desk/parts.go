package desk

import (
	"bytes"
	"encoding/json"
	"reflect"

	"wideknot/core/estate"
	"wideknot/internal/server/store"
)

// compare lists the parts in which two estates differ. A part keeps its place
// in the document; a new one goes to the end.
func compare(before, after *estate.Estate, places map[string]int64) ([]change, error) {
	end := int64(0)
	for _, place := range places {
		end = max(end, place)
	}
	old := make(map[string]part, len(before.Sites))
	for _, p := range partsOf(before) {
		old[p.id()] = p
	}
	var out []change
	stays := make(map[string]bool, len(old))
	for _, p := range partsOf(after) {
		id := p.id()
		was, ok := old[id]
		if stays[id] = true; ok && reflect.DeepEqual(was.value, p.value) {
			continue // most; what they share is not even read
		}
		c := change{Kind: p.kind, Key: p.key}
		var err error
		if c.After, err = json.Marshal(p.value); err != nil {
			return nil, err
		}
		if !ok {
			end++
			c.Place = end
			out = append(out, c)
			continue
		}
		if c.Before, err = json.Marshal(was.value); err != nil {
			return nil, err
		}
		if c.Place = places[id]; !bytes.Equal(c.Before, c.After) {
			out = append(out, c)
		}
	}
	for _, p := range partsOf(before) {
		if id := p.id(); !stays[id] {
			body, err := json.Marshal(p.value)
			if err != nil {
				return nil, err
			}
			out = append(out, change{Kind: p.kind, Key: p.key, Place: places[id], Before: body})
		}
	}
	return out, nil
}

// A part of an estate is what is stored in a row of its own; value points to it.
type part struct {
	kind  store.Kind
	key   string
	value any
}

func (p part) id() string { return PartID(p.kind, p.key) }

func partsOf(e *estate.Estate) []part {
	out := make([]part, 0, len(e.Sites)+len(e.Overlays)+1)
	out = append(out, part{store.Head, "", &e.About})
	for i := range e.Sites {
		out = append(out, part{store.Site, e.Sites[i].Key, &e.Sites[i]})
	}
	for i := range e.Overlays {
		out = append(out, part{store.Overlay, e.Overlays[i].Key, &e.Overlays[i]})
	}
	return out
}
