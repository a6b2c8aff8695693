package kernel

import (
	"errors"
	"fmt"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"wideknot/core/gateway"
	"wideknot/core/render/linux"
)

// A tree is how one WAN link gives way: the egress of all its tunnels, before it is
// encrypted, goes by one device with one HTB tree.
type tree struct {
	device  string
	rate    int // kbit/s: 95 % of the link's, so that the queue stands here
	classes int // zones that give way
}

func (t *tree) alias() string {
	return fmt.Sprintf("%s%s %d kbit/s %d", alias, t.device, t.rate, t.classes)
}

// treeDevice begins the names of the devices that have trees.
const treeDevice = "wkshape"

// treesOf lists the trees of a configuration by the keys of their links.
func treesOf(c *gateway.Config) map[string]*tree {
	out := map[string]*tree{}
	if !c.Shapes() {
		return out
	}
	for i := range c.Links {
		if l := &c.Links[i]; l.Up > 0 {
			out[l.Key] = &tree{fmt.Sprintf("%s%d", treeDevice, i), max(1, l.Up*95/100), len(c.Shaping)}
		}
	}
	return out
}

const (
	handle     = 1 << 16 // 1:
	wholeClass = handle | 1
	kilobit    = 1000
)

// grow makes the device and its tree; one that is as it should be stays.
func (t *tree) grow(have map[string]link) (index int, err error) {
	if l, there := have[t.device]; there {
		is, err := netlink.LinkByIndex(l.index)
		if err != nil {
			return 0, fmt.Errorf("reading %s: %w", t.device, err)
		}
		if is.Attrs().Alias == t.alias() {
			return l.index, nil
		}
		if err := dropInterface(l.index); err != nil {
			return 0, err
		}
	}
	attributes := netlink.NewLinkAttrs()
	attributes.Name, attributes.TxQLen = t.device, t.queue()
	if err := netlink.LinkAdd(&netlink.Ifb{LinkAttrs: attributes}); err != nil {
		return 0, fmt.Errorf("making %s, by which traffic is shaped: %w", t.device, err)
	}
	made, err := netlink.LinkByName(t.device)
	if err != nil {
		return 0, fmt.Errorf("making %s: %w", t.device, err)
	}
	index = made.Attrs().Index
	htb := netlink.NewHtb(netlink.QdiscAttrs{LinkIndex: index, Parent: netlink.HANDLE_ROOT, Handle: handle})
	htb.Defcls = linux.OtherClass
	if err := errors.Join(netlink.LinkSetAlias(made, alias+t.device), netlink.LinkSetUp(made)); err != nil {
		return 0, fmt.Errorf("making %s: %w", t.device, err)
	}
	if err := netlink.QdiscAdd(htb); err != nil {
		return 0, fmt.Errorf("shaping on %s: %w", t.device, err)
	}
	if err := t.branch(index, handle, wholeClass, t.rate, t.rate, 0); err != nil {
		return 0, err
	}
	// Each class may have the whole link; where that is too little, the earlier ones
	// take first, but for a hundredth of it.
	least := max(8, t.rate/100)
	others := max(least, t.rate-t.rate/20-least*t.classes)
	err = errors.Join(t.branch(index, wholeClass, handle|linux.ProbeClass, max(8, t.rate/20), t.rate, 0),
		t.branch(index, wholeClass, handle|linux.OtherClass, others, t.rate, 1))
	for i := range t.classes {
		err = errors.Join(err, t.branch(index, wholeClass, uint32(handle|linux.FirstZone+i), least, t.rate, min(7, 1+t.classes-i)))
	}
	if err != nil {
		return 0, err
	}
	return index, netlink.LinkSetAlias(made, t.alias()) // only now: it is whole
}

// queue is how many packets may wait in a class: 50 ms of the link, but not so few
// that a burst is lost.
func (t *tree) queue() int {
	const packet = 1500 * 8
	return max(20, t.rate*kilobit/20/packet)
}

// branch adds a class; rates are in kbit/s.
func (t *tree) branch(index int, parent, class uint32, rate, ceil, priority int) error {
	// A timer that comes a little late loses nothing: so much may leave at once.
	burst := func(rate int) uint32 { return uint32(rate*kilobit/8*15/1000 + 1600) }
	c := netlink.NewHtbClass(netlink.ClassAttrs{LinkIndex: index, Parent: parent, Handle: class}, netlink.HtbClassAttrs{
		Rate: uint64(rate) * kilobit, Ceil: uint64(ceil) * kilobit, Prio: uint32(priority), Quantum: 1600,
		Buffer: burst(rate), Cbuffer: burst(ceil),
	})
	if err := netlink.ClassAdd(c); err != nil {
		return fmt.Errorf("a class of %s: %w", t.device, err)
	}
	return nil
}

// redirect leads what leaves by an interface through a tree; 0 leads it nowhere else.
func redirect(name string, index, to int) error {
	at := byIndex(index)
	filters, err := netlink.FilterList(at, netlink.HANDLE_MIN_EGRESS)
	if err != nil && !errors.Is(err, unix.EINVAL) && !errors.Is(err, unix.ENOENT) {
		return fmt.Errorf("reading what shapes %s: %w", name, err)
	}
	for _, f := range filters {
		if m, ok := f.(*netlink.U32); ok && len(m.Actions) == 1 {
			if action, ok := m.Actions[0].(*netlink.MirredAction); ok && action.Ifindex == to {
				return nil
			}
		}
	}
	if to == 0 && len(filters) == 0 {
		return nil
	}
	clsact := &netlink.Clsact{QdiscAttrs: netlink.QdiscAttrs{LinkIndex: index, Parent: netlink.HANDLE_CLSACT, Handle: netlink.MakeHandle(0xffff, 0)}}
	if err := netlink.QdiscDel(clsact); err != nil && !errors.Is(err, unix.ENOENT) && !errors.Is(err, unix.EINVAL) {
		return fmt.Errorf("shaping of %s: %w", name, err)
	}
	if to == 0 {
		return nil
	}
	if err := netlink.QdiscAdd(clsact); err != nil {
		return fmt.Errorf("shaping of %s: %w", name, err)
	}
	filter := &netlink.U32{ // without a selector it fits all; matchall is missing in small kernels
		FilterAttrs: netlink.FilterAttrs{LinkIndex: index, Parent: netlink.HANDLE_MIN_EGRESS, Priority: 1, Protocol: unix.ETH_P_ALL},
		Actions:     []netlink.Action{netlink.NewMirredAction(to)},
	}
	if err := netlink.FilterAdd(filter); err != nil {
		return fmt.Errorf("shaping of %s: %w", name, err)
	}
	return nil
}
