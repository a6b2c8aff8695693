package stamp

import (
	"context"
	"encoding/binary"
	"net/netip"
	"sync"
	"time"
)

// A Conn is a socket of test packets. Wait and Read may be called by several at once.
type Conn interface {
	// Wait returns when there may be something to read, or with the error after which
	// there never will be.
	Wait() error
	// Read takes a packet that is there and waits for none; ok is false if none is.
	Read(b []byte) (n int, m Meta, ok bool)
	// Write sends a packet to m.Far, from m.Near and by m.Interface where they are given.
	Write(b []byte, m Meta) error
	Close() error
}

// Meta is what the network says of a packet.
type Meta struct {
	Far       netip.AddrPort
	Near      netip.Addr
	Interface int // its index
	TTL       int // 0 where nothing said it
	At        time.Time
}

// A Reflector answers test packets. It counts those of each session, so a sender
// knows in which direction packets were lost. The zero value is ready.
type Reflector struct {
	// Knows reports whether a TLV of a type means something here; padding always does.
	// Heard is called with the packets that have one. Either may be nil.
	Knows func(kind uint8) bool
	Heard func(packet []byte, m Meta)
	// Short is the type of a TLV that asks for an answer without any TLV; 0 for none.
	Short uint8
	// Refuse says that a packet gets no answer; nil refuses none.
	Refuse func(m Meta) bool
	// Error is told of this end's clock.
	Error ErrorEstimate
	// Sessions that were silent for Idle are forgotten; at most Most are known, and
	// beyond that packets get no answer. 0 stands for ten minutes, and 65536.
	Idle time.Duration
	Most int

	mu       sync.Mutex
	sessions map[sessionKey]*sessionSeen
	swept    time.Time
}

type sessionKey struct {
	far   netip.AddrPort
	near  netip.Addr
	id    uint16
	inter int
}

type sessionSeen struct {
	next uint32
	last time.Time
}

// Serve answers what comes until the context ends or the socket is closed. The error
// is of the socket.
func (r *Reflector) Serve(ctx context.Context, c Conn) error {
	stop := context.AfterFunc(ctx, func() { _ = c.Close() })
	defer stop()
	in, out := make([]byte, MaxPacket), make([]byte, 0, MaxPacket)
	for {
		if err := c.Wait(); err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		for {
			n, m, ok := c.Read(in)
			if !ok {
				break
			}
			if r.Refuse != nil && r.Refuse(m) {
				continue
			}
			if answer := r.Answer(out, in[:n], m, time.Now()); answer != nil {
				_ = c.Write(answer, m) // as good as lost on the way
				if r.Heard != nil && n > Base {
					r.Heard(in[:n], m)
				}
			}
		}
	}
}

// Answer writes over out what is to be sent back for a packet, as long as that or short; nil
// for what is no test packet or of one session too many.
func (r *Reflector) Answer(out, packet []byte, m Meta, now time.Time) []byte {
	p, err := ParsePacket(packet)
	if err != nil || len(packet) > MaxPacket {
		return nil
	}
	sequence, ok := r.count(sessionKey{m.Far, m.Near, p.Session, m.Interface}, now)
	if !ok {
		return nil
	}
	answer := Reflection{
		Packet:   Packet{sequence, 0, r.Error, p.Session},
		Received: At(m.At), Sender: p, SenderTTL: uint8(min(m.TTL, 255)),
	}
	out = answer.Append(out[:0])
	if r.Short != 0 {
		if _, asked := Find(packet, r.Short); asked {
			binary.BigEndian.PutUint64(out[4:], uint64(At(time.Now())))
			return out
		}
	}
	out = append(out, packet[Base:]...)
	header, whole := eachTLV(out, func(header int, t TLV) {
		if t.Type == ExtraPadding || r.Knows != nil && r.Knows(t.Type) {
			out[header] &^= Unrecognised
		} else {
			out[header] |= Unrecognised
		}
	})
	if !whole {
		out[header] |= Malformed
	}
	binary.BigEndian.PutUint64(out[4:], uint64(At(time.Now())))
	return out
}

// count returns the sequence number of the next answer in a session.
func (r *Reflector) count(key sessionKey, now time.Time) (uint32, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	idle, most := r.Idle, r.Most
	if idle == 0 {
		idle = 10 * time.Minute
	}
	if most == 0 {
		most = 65536
	}
	if r.sessions == nil {
		r.sessions = map[sessionKey]*sessionSeen{}
	}
	if now.Sub(r.swept) > idle/10 {
		r.swept = now
		for k, s := range r.sessions {
			if now.Sub(s.last) > idle {
				delete(r.sessions, k)
			}
		}
	}
	s := r.sessions[key]
	if s == nil {
		if len(r.sessions) >= most {
			return 0, false
		}
		s = &sessionSeen{}
		r.sessions[key] = s
	}
	s.last = now
	s.next++
	return s.next - 1, true
}
