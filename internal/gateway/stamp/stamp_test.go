package stamp

import (
	"bytes"
	"context"
	"encoding/binary"
	"net/netip"
	"testing"
	"time"
)

func TestTimestamps(t *testing.T) {
	for _, test := range []struct {
		at   time.Time
		want Timestamp
	}{
		{time.Unix(0, 0), 0x83aa7e80_00000000},
		{time.Unix(0, 500_000_000), 0x83aa7e80_80000000},
		{time.Date(2036, 2, 7, 6, 28, 16, 0, time.UTC), 0}, // the next era
	} {
		if got := At(test.at); got != test.want {
			t.Errorf("%v is %#x, want %#x", test.at, got, test.want)
		}
	}
	start := time.Date(2036, 2, 7, 6, 28, 15, 900_000_000, time.UTC)
	for _, d := range []time.Duration{0, time.Millisecond, -time.Millisecond, 250 * time.Millisecond, time.Hour, -26 * time.Hour} {
		if got := At(start.Add(d)).Since(At(start)); (got - d).Abs() > 2 {
			t.Errorf("from %v in %v it is %v", start, d, got)
		}
	}
}

func TestErrorEstimate(t *testing.T) {
	for _, bound := range []time.Duration{0, 1, time.Microsecond, 17 * time.Millisecond, time.Second, time.Hour} {
		e := Estimate(bound, true)
		if !e.Synchronised() || Estimate(bound, false).Synchronised() || e&0xff == 0 {
			t.Errorf("of %v: %#x", bound, e)
		}
		if got := e.Bound(); got < bound || got > bound+bound/64+2 {
			t.Errorf("a bound of %v is written as %v", bound, got)
		}
	}
}

// Octet by octet as the figures of RFC 8762 have it.
func TestLayout(t *testing.T) {
	p := Packet{0x01020304, 0x1112131415161718, 0x2122, 0x3132}
	sender := make([]byte, 44)
	copy(sender, []byte{1, 2, 3, 4, 0x11, 0x12, 0x13, 0x14, 0x15, 0x16, 0x17, 0x18, 0x21, 0x22, 0x31, 0x32})
	if got := p.Append(nil); !bytes.Equal(got, sender) {
		t.Errorf("figure 2: % x", got)
	}
	r := Reflection{Packet: Packet{9, 0x1112131415161718, 0x2122, 0x3132}, Received: 0x4142434445464748, Sender: p, SenderTTL: 63}
	want := make([]byte, 44)
	copy(want, []byte{0, 0, 0, 9})
	copy(want[4:], sender[4:16])
	copy(want[16:], []byte{0x41, 0x42, 0x43, 0x44, 0x45, 0x46, 0x47, 0x48})
	copy(want[24:], sender[:14])
	want[40] = 63
	if got := r.Append(nil); !bytes.Equal(got, want) {
		t.Errorf("figure 5: % x, want % x", got, want)
	}
	back, err := ParseReflection(want)
	if err != nil || back.Sequence != 9 || back.Sender != p || back.Received != r.Received || back.SenderTTL != 63 {
		t.Errorf("read back as %+v, %v", back, err)
	}
	if _, err := ParsePacket(sender[:43]); err == nil {
		t.Error("43 octets are taken")
	}
}

var far = Meta{Far: netip.MustParseAddrPort("192.0.2.1:50000"), Near: netip.MustParseAddr("192.0.2.2"), Interface: 3, TTL: 61}

func TestReflectorAnswers(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	m := far
	m.At = now
	reflector := Reflector{Knows: func(kind uint8) bool { return kind == 252 }}
	packet := (&Packet{Sequence: 70, Timestamp: 5, Error: 6, Session: 7}).Append(nil)
	packet = AppendTLV(packet, 252, []byte{1, 2, 3})
	packet = AppendTLV(packet, 99, []byte{4})
	packet = Pad(packet, 100)
	answer := reflector.Answer(nil, packet, m, now)
	if len(answer) != 100 {
		t.Fatalf("100 octets are answered by %d", len(answer))
	}
	r, err := ParseReflection(answer)
	if err != nil || r.Sequence != 0 || r.Sender.Sequence != 70 || r.Sender.Timestamp != 5 || r.Sender.Error != 6 || r.Session != 7 || r.SenderTTL != 61 || r.Received != At(now) {
		t.Errorf("the answer is %+v, %v", r, err)
	}
	var flags []byte
	if _, whole := eachTLV(answer, func(_ int, tlv TLV) { flags = append(flags, tlv.Flags) }); !whole || !bytes.Equal(flags, []byte{0, Unrecognised, 0}) {
		t.Errorf("flags %x: the known and the padding are known, 99 is not", flags)
	}
	if value, ok := Find(answer, 252); !ok || !bytes.Equal(value, []byte{1, 2, 3}) {
		t.Errorf("the known one came back as %x", value)
	}

	// A TLV that says it is longer than the packet.
	binary.BigEndian.PutUint16(packet[Base+2:], 9999)
	if answer = reflector.Answer(nil, packet, m, now); answer[Base]&Malformed == 0 || len(answer) != 100 {
		t.Errorf("a malformed TLV is not said to be one: % x", answer[Base:])
	}
	if reflector.Answer(nil, packet[:30], m, now) != nil {
		t.Error("30 octets are answered with more")
	}
}

func TestReflectorCountsSessions(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	reflector := Reflector{Most: 2, Idle: time.Minute}
	ask := func(m Meta, id uint16, want int) {
		t.Helper()
		answer := reflector.Answer(nil, (&Packet{Session: id}).Append(nil), m, now)
		if want < 0 {
			if answer != nil {
				t.Error("a session too many is answered")
			}
			return
		}
		if r, err := ParseReflection(answer); err != nil || int(r.Sequence) != want {
			t.Errorf("sequence %d, %v; want %d", r.Sequence, err, want)
		}
	}
	other := far
	other.Interface++
	ask(far, 1, 0)
	ask(far, 1, 1)
	ask(other, 1, 0)
	ask(far, 1, 2)
	ask(far, 2, -1)
	now = now.Add(2 * time.Minute)
	ask(far, 2, 0) // the others were idle
	ask(far, 1, 0)
}

// What is lost is told by direction, whatever is lost.
func TestSessionTellsTheDirection(t *testing.T) {
	at := time.Unix(1_800_000_000, 0)
	s := Session{ID: 1, Timeout: 300 * time.Millisecond}
	reflector := Reflector{}
	// o: lost on the way out, b: on the way back
	sent, out, back, missed := 0, 0, 0, 0
	for _, fate := range "..o.bb.oob..b" {
		p := s.Next(at)
		if fate != 'o' {
			answer := reflector.Answer(nil, p.Append(nil), far, at)
			if fate == '.' {
				r, _ := ParseReflection(answer)
				result, ok := s.Answer(&r, at.Add(20*time.Millisecond))
				if !ok || result.RTT > 20*time.Millisecond || result.RTT < 15*time.Millisecond {
					t.Fatalf("the answer counts as %+v, %v", result, ok)
				}
				if _, again := s.Answer(&r, at); again {
					t.Fatal("one answer counts twice")
				}
				sent, out, back = sent+result.Sent, out+result.LostOut, back+result.LostBack
			}
		}
		at = at.Add(time.Second)
		for {
			if result, ok := s.Overdue(at); !ok {
				break
			} else if result.Answered {
				t.Fatal("overdue and answered")
			}
			missed++
		}
	}
	// The last one is lost; nobody knows yet where.
	if sent != 11 || out != 3 || back != 3 || missed != 7 {
		t.Errorf("sent %d, lost %d out and %d back, missed %d; want 11, 3, 3, 7", sent, out, back, missed)
	}
	s.Next(at)
	s.Void()
	if _, any := s.Deadline(); any || s.Out() != 0 {
		t.Error("what is void is out")
	}
}

// Both ends over real sockets, of both families.
func TestOverLoopback(t *testing.T) {
	for _, address := range []string{"127.0.0.1", "::1"} {
		loop := netip.MustParseAddr(address)
		ctx, cancel := context.WithCancel(t.Context())
		there, err := Listen(ctx, loop.Is4(), 0, 0)
		if err != nil {
			t.Fatal(err)
		}
		heard := make(chan []byte, 1)
		reflector := &Reflector{
			Knows: func(kind uint8) bool { return kind == 252 },
			Heard: func(p []byte, _ Meta) { heard <- bytes.Clone(p) },
		}
		served := make(chan error, 1)
		go func() { served <- reflector.Serve(ctx, there) }()
		here, err := Listen(t.Context(), loop.Is4(), 0, 0)
		if err != nil {
			t.Fatal(err)
		}
		s := Session{ID: 77, Timeout: time.Second}
		p := s.Next(time.Now())
		packet := Pad(AppendTLV(p.Append(nil), 252, []byte("told")), 1200)
		if err := here.Write(packet, Meta{Far: netip.AddrPortFrom(loop, uint16(there.Port())), Near: loop, Interface: 1}); err != nil {
			t.Fatal(err)
		}
		if err := here.Wait(); err != nil {
			t.Fatal(err)
		}
		room := make([]byte, MaxPacket)
		n, m, ok := here.Read(room)
		r, err := ParseReflection(room[:n])
		if !ok || err != nil || n != 1200 || m.Interface != 1 || m.TTL == 0 || m.Far.Port() != uint16(there.Port()) || time.Since(m.At) > time.Minute {
			t.Fatalf("read %d octets, %+v, %v, %v", n, m, ok, err)
		}
		if _, ok := s.Answer(&r, m.At); !ok {
			t.Errorf("no answer: %+v", r)
		}
		if value, ok := Find(<-heard, 252); !ok || string(value) != "told" {
			t.Errorf("the far end heard %q", value)
		}
		cancel()
		if err := <-served; err != nil {
			t.Error(err)
		}
		_ = here.Close()
		if here.Wait() == nil {
			t.Error("one can wait for a closed socket")
		}
	}
}

func FuzzReflector(f *testing.F) {
	f.Add((&Packet{Sequence: 1}).Append(nil))
	f.Add(Pad((&Packet{}).Append(nil), 80))
	f.Add(append((&Packet{}).Append(nil), 0x80, 1, 0xff, 0xff, 0))
	f.Fuzz(func(t *testing.T, packet []byte) {
		reflector := Reflector{}
		answer := reflector.Answer(nil, packet, far, time.Now())
		if (answer == nil) != (len(packet) < Base || len(packet) > MaxPacket) {
			t.Fatal("answered or not by its length alone")
		}
		if answer == nil {
			return
		}
		if len(answer) != len(packet) {
			t.Fatalf("%d octets answered by %d", len(packet), len(answer))
		}
		r, err := ParseReflection(answer)
		p, _ := ParsePacket(packet)
		if err != nil || r.Sender != p {
			t.Fatalf("%+v came back as %+v, %v", p, r.Sender, err)
		}
	})
}
