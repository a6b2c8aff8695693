package stamp

import "time"

// A Session is a sender's: what is out, what was answered, what was lost on which
// way. It keeps no clock; times are given. It is for one goroutine.
type Session struct {
	ID      uint16
	Timeout time.Duration
	Error   ErrorEstimate

	next uint32
	out  []outstanding // in the order in which they were sent
	// of the last answer: both ends' sequence numbers
	sender, reflector uint32
	answered          bool
}

type outstanding struct {
	sequence uint32
	at       time.Time
	done     bool
}

// A Result is how one probe ended, in the order in which probes were sent.
type Result struct {
	Sequence uint32
	Answered bool
	RTT      time.Duration // without the time at the reflector
	// What this answer tells of those since the answer before: how many were sent and
	// how many of them were lost on each way. Nothing where the reflector began anew.
	Sent, LostOut, LostBack int
	Reflection              Reflection
}

// Next returns the packet to send at a moment.
func (s *Session) Next(at time.Time) Packet {
	p := Packet{s.next, At(at), s.Error, s.ID}
	s.out = append(s.out, outstanding{sequence: s.next, at: at})
	s.next++
	return p
}

// Out is how many probes are out.
func (s *Session) Out() int { return len(s.out) }

// Void forgets what is out: it counts neither as lost nor as answered.
func (s *Session) Void() {
	s.out, s.answered = s.out[:0], false
}

// Answer takes a reflection that came at a moment; false where nothing like that is
// out any more.
func (s *Session) Answer(r *Reflection, at time.Time) (Result, bool) {
	for i := range s.out {
		o := &s.out[i]
		if o.sequence != r.Sender.Sequence || o.done {
			continue
		}
		o.done = true
		there := r.Timestamp.Since(r.Received)
		rtt := at.Sub(o.at)
		if there > 0 && there < rtt {
			rtt -= there
		}
		result := Result{Sequence: o.sequence, Answered: true, RTT: max(rtt, 0), Reflection: *r}
		// Answers out of order tell nothing of the ways by themselves.
		sent, seen := int32(o.sequence-s.sender), int32(r.Sequence-s.reflector)
		if s.answered && sent > 0 && seen > 0 && seen <= sent {
			result.Sent, result.LostOut, result.LostBack = int(sent), int(sent-seen), int(seen-1)
		}
		if !s.answered || sent > 0 {
			s.sender, s.reflector, s.answered = o.sequence, r.Sequence, true
		}
		s.trim()
		return result, true
	}
	return Result{}, false
}

// Overdue returns the oldest probe whose time was over before a moment: it is lost.
func (s *Session) Overdue(before time.Time) (Result, bool) {
	s.trim()
	for i := range s.out {
		if o := &s.out[i]; !o.done && before.Sub(o.at) >= s.Timeout {
			o.done = true
			result := Result{Sequence: o.sequence}
			s.trim()
			return result, true
		} else if !o.done {
			break
		}
	}
	return Result{}, false
}

// Deadline is when the oldest that is out is lost.
func (s *Session) Deadline() (at time.Time, any bool) {
	s.trim()
	if len(s.out) == 0 {
		return at, false
	}
	return s.out[0].at.Add(s.Timeout), true
}

// trim drops what is done from the front.
func (s *Session) trim() {
	n := 0
	for n < len(s.out) && s.out[n].done {
		n++
	}
	s.out = append(s.out[:0], s.out[n:]...)
}
