package memory

import (
	"context"
	"net/netip"

	"wideknot/internal/gateway/agent"
)

// An awaited is where it is told what became of a question for an echo.
type awaited chan agent.Heard

func (a awaited) tell(h agent.Heard) {
	select {
	case a <- h:
	default: // it was told already
	}
}

// awaits gives a question an identifier that no other one has. Under the lock.
func (m *Machine) awaits() (id uint16, came awaited) {
	for m.ports++; m.echoes[m.ports] != nil || m.ports < 20000; m.ports++ {
	}
	came = make(awaited, 1)
	m.echoes[m.ports] = came
	return m.ports, came
}

func (m *Machine) forget(id uint16) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.echoes, id)
}

// Echo sends one question for an echo from an address of this gateway.
func (m *Machine) Echo(ctx context.Context, from, to netip.Addr, size, hops int) (agent.Heard, error) {
	m.mu.Lock()
	id, came := m.awaits()
	do := m.own(EchoRequest(from, to, byte(hops), id, 1, size))
	m.mu.Unlock()
	defer m.forget(id)
	do.run()
	select {
	case heard := <-came:
		return heard, nil
	case <-ctx.Done():
		return agent.Heard{}, ctx.Err()
	}
}

// hears takes what is for the machine itself: echoes that it asked for, and what is said
// against its questions. Under the lock.
func (m *Machine) hears(p Packet, in *info) {
	if _, answers := p.Echo(); answers {
		if e := m.echoes[in.dport]; e != nil {
			e.tell(agent.Heard{By: in.src, Reply: true})
		}
		return
	}
	about, ok := p.quoted(in)
	if !ok || !about.echo() || m.echoes[about.sport] == nil {
		return
	}
	heard := agent.Heard{By: in.src}
	if _, big := p.TooBig(); big {
		heard.Words = "too big"
	} else if heard.Spent = p.Exceeded(); !heard.Spent {
		heard.Words = "unreachable"
	}
	m.echoes[about.sport].tell(heard)
}
