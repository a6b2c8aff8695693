// Package stamp measures a path by the Simple Two-Way Active Measurement Protocol
// (RFC 8762), in its unauthenticated mode, with session identifiers and TLVs (RFC
// 8972): the packets, a session of a sender, a stateful reflector, and UDP sockets
// that tell by which interface and when a packet came. It knows nothing of tunnels.
package stamp

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/bits"
	"time"
)

// Port is the reflector's well-known UDP port.
const Port = 862

// MaxTTL is what all packets leave with: one that comes with it was sent by a neighbour
// (RFC 5082).
const MaxTTL = 255

// Base is the length of a test packet without TLVs, of either end (RFC 8762, 4.2.1
// and 4.3.1).
const Base = 44

// MaxPacket is the most that is sent or answered.
const MaxPacket = 9216

// A Timestamp is one of NTP: 32 bits of seconds since 1900 and 32 of their fraction.
type Timestamp uint64

// ntpEpoch is 1970 as seconds since 1900.
const ntpEpoch = 2208988800

// At returns the time stamp of a moment.
func At(t time.Time) Timestamp {
	seconds := uint64(t.Unix()+ntpEpoch) & math.MaxUint32
	return Timestamp(seconds<<32 | uint64(t.Nanosecond())<<32/1e9)
}

// Since returns the time from another stamp to this one; negative where that was
// later. It is right over the end of an era, and for less than 68 years.
func (t Timestamp) Since(other Timestamp) time.Duration {
	d := int64(t - other)
	return time.Duration(d>>32)*time.Second + time.Duration(uint64(d)&math.MaxUint32*1e9>>32)
}

// An ErrorEstimate says how far a clock may be off, and whether it is kept by
// something outside (RFC 4656, 4.1.2; the bit Z is 0, as stamps are NTP's).
type ErrorEstimate uint16

// Estimate returns the least estimate that is not below a bound.
func Estimate(bound time.Duration, synchronised bool) ErrorEstimate {
	units := max(1, uint64(math.Ceil(bound.Seconds()*(1<<32)))) // of 2^-32 s
	scale := max(0, bits.Len64(units)-8)
	multiplier := (units + 1<<scale - 1) >> scale
	if multiplier > 255 {
		multiplier, scale = (multiplier+1)>>1, scale+1
	}
	e := ErrorEstimate(min(scale, 63)<<8) | ErrorEstimate(multiplier)
	if synchronised {
		e |= 1 << 15
	}
	return e
}

// Synchronised reports whether the clock is kept by something outside.
func (e ErrorEstimate) Synchronised() bool { return e&(1<<15) != 0 }

// Bound is how far the clock may be off. A multiplier of 0 is no estimate.
func (e ErrorEstimate) Bound() time.Duration {
	return time.Duration(math.Ldexp(float64(e&0xff), int(e>>8&0x3f)-32) * 1e9)
}

// Flags of a TLV (RFC 8972, 4).
const (
	Unrecognised = 1 << 7 // set by the sender, cleared by a reflector that knows the type
	Malformed    = 1 << 6
)

// Types of TLVs. Private ones are for whoever runs both ends (RFC 8972, 5.2).
const (
	ExtraPadding = 1
	FirstPrivate = 252
	LastPrivate  = 254
)

// A TLV is an extension of a test packet; Value is a part of the packet.
type TLV struct {
	Flags, Type uint8
	Value       []byte
}

const tlvHeader = 4

// AppendTLV appends one as a sender sends it.
func AppendTLV(b []byte, kind uint8, value []byte) []byte {
	b = append(b, Unrecognised, kind)
	b = binary.BigEndian.AppendUint16(b, uint16(len(value)))
	return append(b, value...)
}

// eachTLV calls f for every TLV behind the base of a packet, and reports false where
// the last one is longer than what is left; header is then where it begins.
func eachTLV(b []byte, f func(header int, t TLV)) (header int, whole bool) {
	for at := Base; at < len(b); {
		if len(b)-at < tlvHeader {
			return at, false
		}
		end := at + tlvHeader + int(binary.BigEndian.Uint16(b[at+2:]))
		if end > len(b) {
			return at, false
		}
		f(at, TLV{b[at], b[at+1], b[at+tlvHeader : end]})
		at = end
	}
	return 0, true
}

// Find returns the value of the first TLV of a type in a packet.
func Find(packet []byte, kind uint8) (value []byte, ok bool) {
	if len(packet) < Base {
		return nil, false
	}
	eachTLV(packet, func(_ int, t TLV) {
		if t.Type == kind && !ok {
			value, ok = t.Value, true
		}
	})
	return value, ok
}

// A Packet is what a sender sends, without TLVs.
type Packet struct {
	Sequence  uint32
	Timestamp Timestamp
	Error     ErrorEstimate
	Session   uint16
}

// ErrShort is of a packet that has not all of its base.
var ErrShort = errors.New("shorter than a test packet")

// Append appends the base; TLVs may follow it.
func (p *Packet) Append(b []byte) []byte {
	b = binary.BigEndian.AppendUint32(b, p.Sequence)
	b = binary.BigEndian.AppendUint64(b, uint64(p.Timestamp))
	b = binary.BigEndian.AppendUint16(b, uint16(p.Error))
	b = binary.BigEndian.AppendUint16(b, p.Session)
	return append(b, make([]byte, Base-16)...)
}

// Pad appends padding (RFC 8972, 4.1) until a packet is size octets long. A packet
// that would need less than a TLV's header of it stays as it is.
func Pad(b []byte, size int) []byte {
	if more := size - len(b) - tlvHeader; more >= 0 {
		b = AppendTLV(b, ExtraPadding, make([]byte, more))
	}
	return b
}

// ParsePacket reads a sender's packet.
func ParsePacket(b []byte) (p Packet, err error) {
	if len(b) < Base {
		return p, fmt.Errorf("%d octets: %w", len(b), ErrShort)
	}
	return Packet{
		binary.BigEndian.Uint32(b), Timestamp(binary.BigEndian.Uint64(b[4:])),
		ErrorEstimate(binary.BigEndian.Uint16(b[12:])), binary.BigEndian.Uint16(b[14:]),
	}, nil
}

// A Reflection is a reflector's answer, without TLVs.
type Reflection struct {
	Packet              // of the reflector: its own sequence and time
	Received  Timestamp // when the sender's packet came
	Sender    Packet    // what came, but for its session
	SenderTTL uint8     // with which it came
}

// Append appends the base.
func (r *Reflection) Append(b []byte) []byte {
	b = binary.BigEndian.AppendUint32(b, r.Sequence)
	b = binary.BigEndian.AppendUint64(b, uint64(r.Timestamp))
	b = binary.BigEndian.AppendUint16(b, uint16(r.Error))
	b = binary.BigEndian.AppendUint16(b, r.Session)
	b = binary.BigEndian.AppendUint64(b, uint64(r.Received))
	b = binary.BigEndian.AppendUint32(b, r.Sender.Sequence)
	b = binary.BigEndian.AppendUint64(b, uint64(r.Sender.Timestamp))
	b = binary.BigEndian.AppendUint16(b, uint16(r.Sender.Error))
	return append(b, 0, 0, r.SenderTTL, 0, 0, 0)
}

// ParseReflection reads a reflector's packet.
func ParseReflection(b []byte) (r Reflection, err error) {
	if r.Packet, err = ParsePacket(b); err != nil {
		return r, err
	}
	r.Received = Timestamp(binary.BigEndian.Uint64(b[16:]))
	r.Sender = Packet{
		Sequence: binary.BigEndian.Uint32(b[24:]), Timestamp: Timestamp(binary.BigEndian.Uint64(b[28:])),
		Error: ErrorEstimate(binary.BigEndian.Uint16(b[36:])), Session: r.Session,
	}
	r.SenderTTL = b[40]
	return r, nil
}
