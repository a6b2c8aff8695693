// Package series keeps what gateways measured of themselves over time, and tells of it.
package series

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"math/bits"
	"slices"

	"github.com/fxamacker/cbor/v2"

	"wideknot/core/gateway"
)

// blockSize is how many tunnels a row is of: of a hub with a thousand, a plot of one reads the
// rows of its block alone.
const blockSize = 32

// names are a layout: what the data of a row is of, in this order. Links and ways are in the
// first block.
type names struct {
	Digest  string   `json:"digest"`
	Block   int      `json:"block"`
	Tunnels []string `json:"tunnels"`
	Links   []string `json:"links,omitempty"`
	Ways    []int    `json:"ways,omitempty"`
}

func (n *names) text() (text string, hash []byte) {
	raw, _ := json.Marshal(n) // numbers and words
	sum := sha256.Sum256(raw)
	return string(raw), sum[:]
}

// A row is the data of one block of a sample: columns, each of one quantity of all its tunnels or
// links, in an array (CBOR, RFC 8949).
type row struct {
	_                                 struct{} `cbor:",toarray"`
	Probes, Missed, LostOut, LostBack numbers
	Latency, MaxLatency, Jitter       numbers // in units of fine
	Dead, In, Out                     numbers
	LinkIn, LinkOut, LinkDown         numbers
	Groups                            numbers // of ways
}

// fine is the unit of latencies in rows, in microseconds.
const fine = 10

// numbers are of 16 bits each, the high octet first: eleven bits that count, and five that say how
// often they are doubled, so that up to 2047 is exact and all beyond is at most 0.1 % too small.
// What is the same everywhere stands once; no number at all is 0 everywhere.
type numbers []byte

const counting = 11

func (n *numbers) add(v uint64) {
	up := max(0, bits.Len64(v)-counting)
	*n = append(*n, byte(up<<3)|byte(v>>up>>8), byte(v>>up))
}

// shortened leaves out what repeats.
func (n numbers) shortened() numbers {
	for i := 2; i < len(n); i += 2 {
		if n[i] != n[0] || n[i+1] != n[1] {
			return n
		}
	}
	if len(n) == 0 || n[0] == 0 && n[1] == 0 {
		return nil
	}
	return n[:2]
}

// at returns one.
func (n numbers) at(i int) uint64 {
	switch {
	case len(n) < 2:
		return 0
	case len(n) == 2:
		i = 0
	case len(n) < 2*i+2:
		return 0
	}
	return (uint64(n[2*i]&7)<<8 | uint64(n[2*i+1])) << (n[2*i] >> 3)
}

// packed is a block of a sample.
type packed struct {
	names names
	data  []byte
}

// pack writes a sample by blocks.
func pack(s *gateway.Sample) ([]packed, error) {
	var out []packed
	for block, first := 0, 0; block == 0 || first < len(s.Tunnels); block, first = block+1, first+blockSize {
		n := names{Digest: s.Digest, Block: block, Tunnels: []string{}}
		var r row
		for i := first; i < min(first+blockSize, len(s.Tunnels)); i++ {
			n.Tunnels = append(n.Tunnels, s.Tunnels[i].Interface)
			r.tunnel(&s.Tunnels[i])
		}
		if block == 0 {
			for i := range s.Links {
				n.Links = append(n.Links, s.Links[i].Link)
				r.LinkIn.add(uint64(s.Links[i].BytesIn))
				r.LinkOut.add(uint64(s.Links[i].BytesOut))
				r.LinkDown.add(uint64(s.Links[i].Down))
			}
			for _, w := range s.Ways {
				n.Ways = append(n.Ways, w.ID)
				r.Groups.add(uint64(w.Group))
			}
		}
		for _, c := range r.columns() {
			*c = c.shortened()
		}
		data, err := cbor.Marshal(&r)
		if err != nil {
			return nil, err
		}
		out = append(out, packed{n, data})
	}
	return out, nil
}

func (r *row) columns() []*numbers {
	return []*numbers{&r.Probes, &r.Missed, &r.LostOut, &r.LostBack, &r.Latency, &r.MaxLatency, &r.Jitter, &r.Dead, &r.In, &r.Out, &r.LinkIn, &r.LinkOut, &r.LinkDown, &r.Groups}
}

func (r *row) tunnel(t *gateway.TunnelSample) {
	r.Probes.add(uint64(t.Probes))
	r.Missed.add(uint64(t.Missed))
	r.LostOut.add(uint64(t.LostOut))
	r.LostBack.add(uint64(t.LostBack))
	r.Latency.add(uint64(t.LatencyUs / fine))
	r.MaxLatency.add(uint64(t.MaxLatencyUs / fine))
	r.Jitter.add(uint64(t.JitterUs / fine))
	r.Dead.add(uint64(t.Dead))
	r.In.add(uint64(t.BytesIn))
	r.Out.add(uint64(t.BytesOut))
}

// unpack reads the data of a row.
func unpack(data []byte) (r row, err error) {
	if err := cbor.Unmarshal(data, &r); err != nil {
		return r, fmt.Errorf("a row of samples cannot be read: %w", err)
	}
	return r, nil
}

// in returns where a name stands in a list, -1 for nowhere.
func in[T comparable](list []T, one T) int { return slices.Index(list, one) }
