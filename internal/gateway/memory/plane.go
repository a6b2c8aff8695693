package memory

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"wideknot/core/estate"
	"wideknot/core/gateway"
	"wideknot/internal/gateway/agent"
)

var _ agent.Plane = (*Machine)(nil)

// Check says what keeps a configuration from being applied here: IPsec is not spoken.
func (m *Machine) Check(c *gateway.Config) error {
	if c.Carries(estate.IPsec) {
		return errors.New("a stand-in has no IPsec: its tunnels are WireGuard's only")
	}
	return nil
}

// Apply makes the machine what is says; tunnels that stay keep their sessions.
func (m *Machine) Apply(_, is *gateway.Config, secrets agent.Secrets, choice *agent.Choice) ([]string, error) {
	if err := m.Check(is); err != nil {
		return nil, err
	}
	var gone []*tunnel
	type todo struct {
		t   *tunnel
		was *gateway.Tunnel
		is  *gateway.Tunnel
	}
	var list []todo
	m.mu.Lock()
	wanted := map[string]bool{}
	for i := range is.Tunnels {
		t := &is.Tunnels[i]
		wanted[t.Interface] = true
		have := m.tunnels[t.Interface]
		if have != nil {
			was := have.is
			have.is = *t
			have.resize(t.MTU)
			list = append(list, todo{have, &was, t})
			continue
		}
		have = m.open(t)
		m.tunnels[t.Interface] = have
		list = append(list, todo{have, nil, t})
	}
	for name, t := range m.tunnels {
		if !wanted[name] {
			gone = append(gone, t)
			delete(m.tunnels, name)
		}
	}
	m.config = is
	m.shape(is)
	m.use(choice.Uses)
	m.steers = maps.Clone(choice.Steers)
	if m.steers == nil {
		m.steers = map[agent.Place]int{}
	}
	m.arrange()
	m.mu.Unlock()
	for _, t := range gone {
		t.close()
	}
	for _, d := range list {
		if err := d.t.configure(is, d.is, &secrets, d.was); err != nil {
			return nil, err
		}
	}
	return m.unleft(is), nil
}

// unleft says which WAN links cannot be left by their devices.
func (m *Machine) unleft(c *gateway.Config) (notes []string) {
	for i := range c.Links {
		if l := &c.Links[i]; l.Device != "" {
			if n, there := m.Nic(l.Device); !there || n.Down {
				notes = append(notes, fmt.Sprintf("a WAN link cannot be left as the design says: its device %s is missing or down", l.Device))
			}
		}
	}
	return notes
}

func (m *Machine) use(uses []agent.Use) {
	for _, u := range uses {
		m.uses[u.Way] = u.Members
	}
}

// Use lets ways go by other tunnels.
func (m *Machine) Use(_ *gateway.Config, uses []agent.Use, steers map[agent.Place]int) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.use(uses)
	maps.Copy(m.steers, steers)
	return nil
}

// Mend works the routes out anew.
func (m *Machine) Mend(_ *gateway.Config, choice *agent.Choice) ([]string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.use(choice.Uses)
	m.arrange()
	return nil, nil
}

// Guard has nothing to do: a machine that begins forwards nothing.
func (m *Machine) Guard(*gateway.Config) error { return nil }

// Remove takes away everything of ours.
func (m *Machine) Remove() error {
	m.mu.Lock()
	gone := slices.Collect(maps.Values(m.tunnels))
	m.tunnels, m.config, m.uses, m.steers = map[string]*tunnel{}, nil, map[int][]gateway.Member{}, map[agent.Place]int{}
	m.rules, m.kept, m.flows = map[ruleKey]*gateway.RuleState{}, map[string]uint64{}, flowTable{}
	m.arrange()
	m.mu.Unlock()
	for _, t := range gone {
		t.close()
	}
	return nil
}

// Close ends the machine.
func (m *Machine) Close() error { return m.Remove() }

// Read tells of tunnels, links and counters.
func (m *Machine) Read(c *gateway.Config) (agent.Reading, error) {
	out := agent.Reading{Tunnels: make(map[string]agent.Device, len(c.Tunnels)), Links: map[string][]netip.Addr{}}
	m.mu.Lock()
	var list []*tunnel
	for i := range c.Tunnels {
		if t := m.tunnels[c.Tunnels[i].Interface]; t != nil {
			list = append(list, t)
		}
	}
	for i := range c.Links {
		if n := m.nics[c.Links[i].Device]; n != nil {
			for _, a := range n.Addresses {
				out.Links[c.Links[i].Key] = append(out.Links[c.Links[i].Key], a.Addr())
			}
		}
	}
	for i := range c.Filter.Overlays {
		o := &c.Filter.Overlays[i]
		for _, n := range o.Rules() {
			state := gateway.RuleState{Overlay: o.Overlay, Rule: n}
			if counted := m.rules[ruleKey{o.Overlay, n}]; counted != nil {
				state = *counted
			}
			out.Rules = append(out.Rules, state)
		}
	}
	kept := maps.Clone(m.kept)
	m.mu.Unlock()
	for _, t := range list {
		d := t.read()
		d.Kept = kept[t.is.Interface]
		out.Tunnels[t.is.Interface] = d
	}
	return out, nil
}

// Call tells a tunnel's device where its far end is.
func (m *Machine) Call(t *gateway.Tunnel, to netip.AddrPort) error {
	m.mu.Lock()
	have := m.tunnels[t.Interface]
	m.mu.Unlock()
	if have == nil {
		return fmt.Errorf("there is no %s", t.Interface)
	}
	return have.call(to)
}

// Lead lets whichever of a far end's two keys shook hands last have what it may send from.
func (m *Machine) Lead(c *gateway.Config, t *gateway.Tunnel) (bool, error) {
	m.mu.Lock()
	have := m.tunnels[t.Interface]
	m.mu.Unlock()
	if have == nil {
		return false, nil
	}
	return have.lead(c)
}

// Knock calls the far end of a tunnel by each of its keys at once.
func (m *Machine) Knock(t *gateway.Tunnel) error {
	m.mu.Lock()
	have := m.tunnels[t.Interface]
	m.mu.Unlock()
	if have == nil {
		return nil
	}
	return have.knock()
}

// Changes tells that devices changed.
func (m *Machine) Changes(context.Context) (<-chan struct{}, error) { return m.changed, nil }

// Interfaces returns the number of each interface that is up.
func (m *Machine) Interfaces() (map[string]int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := make(map[string]int, len(m.tunnels))
	for name, t := range m.tunnels {
		out[name] = t.index
	}
	return out, nil
}

// Carrying says of each address whether its device carries anything.
func (m *Machine) Carrying() (map[netip.Addr]bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := map[netip.Addr]bool{}
	for a, name := range m.local {
		n := m.nics[name]
		out[a] = n == nil || !n.Down
	}
	return out, nil
}

// Surroundings tells what devices there are, and what is behind routers on them.
func (m *Machine) Surroundings() ([]gateway.Device, []gateway.Behind, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var devices []gateway.Device
	var behind []gateway.Behind
	for _, name := range slices.Sorted(maps.Keys(m.nics)) {
		if n := m.nics[name]; !n.Down {
			devices = append(devices, gateway.Device{Name: n.Name, MTU: n.MTU, Addresses: slices.Clone(n.Addresses), NextHops: slices.Clone(n.NextHops)})
			behind = append(behind, n.Behind...)
		}
	}
	return devices, behind, nil
}
