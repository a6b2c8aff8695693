package kernel

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"wideknot/core/gateway"
)

// alias begins the alias of each interface that is ours.
const alias = "wideknot:"

// A link is an interface that is there.
type link struct {
	index, mtu int
	up, ours   bool
}

// links reads the interfaces by name.
func links() (map[string]link, error) {
	list, err := netlink.LinkList()
	if err != nil {
		return nil, fmt.Errorf("reading interfaces: %w", err)
	}
	out := make(map[string]link, len(list))
	for _, l := range list {
		a := l.Attrs()
		out[a.Name] = link{a.Index, a.MTU, a.Flags&net.FlagUp != 0, strings.HasPrefix(a.Alias, alias) || half(a.Name, l.Type())}
	}
	return out, nil
}

// newborn is what an interface is called until it has its alias: of one that was being
// made when the agent was killed, the next start knows that it is ours.
const newborn = "wknewborn"

// half reports whether an interface of ours may be without its alias yet.
func half(name, kind string) bool {
	return name == newborn || kind == "ifb" && strings.HasPrefix(name, treeDevice)
}

func byIndex(index int) netlink.Link {
	return &netlink.Device{LinkAttrs: netlink.LinkAttrs{Index: index}}
}

// makeInterface brings the interface of a tunnel into being: by the kernel's module or,
// where it has none, by the process that serves devices.
func (p *Plane) makeInterface(name string) (link, error) {
	attributes := netlink.NewLinkAttrs()
	attributes.Name = newborn
	err := netlink.LinkAdd(&netlink.Wireguard{LinkAttrs: attributes})
	if errors.Is(err, unix.EEXIST) { // the agent was killed before it had its name
		if err = netlink.LinkDel(&netlink.Wireguard{LinkAttrs: attributes}); err == nil {
			err = netlink.LinkAdd(&netlink.Wireguard{LinkAttrs: attributes})
		}
	}
	switch {
	case err == nil:
		err = baptise(name)
	case errors.Is(err, unix.EOPNOTSUPP):
		err = p.devices.add(name)
	}
	if err != nil {
		return link{}, fmt.Errorf("making %s: %w", name, err)
	}
	l, err := netlink.LinkByName(name)
	if err != nil {
		return link{}, fmt.Errorf("making %s: %w", name, err)
	}
	return link{index: l.Attrs().Index, mtu: l.Attrs().MTU, ours: true}, nil
}

// baptise gives the newborn interface its alias, then its name.
func baptise(name string) error {
	l, err := netlink.LinkByName(newborn)
	if err != nil {
		return err
	}
	return errors.Join(netlink.LinkSetAlias(l, alias+name), netlink.LinkSetName(l, name))
}

// dropInterface takes one away; it may be gone.
func dropInterface(index int) error {
	if err := netlink.LinkDel(byIndex(index)); err != nil && !errors.Is(err, unix.ENODEV) {
		return fmt.Errorf("taking interface %d away: %w", index, err)
	}
	return nil
}

// addresses reads the addresses by interface, but for those of IPv6 that the kernel
// makes itself.
func addresses() (map[int][]netip.Prefix, error) {
	list, err := netlink.AddrList(nil, unix.AF_UNSPEC)
	if err != nil {
		return nil, fmt.Errorf("reading addresses: %w", err)
	}
	out := map[int][]netip.Prefix{}
	for i := range list {
		a, ok := netip.AddrFromSlice(list[i].IP)
		if a = a.Unmap(); !ok || a.Is6() && a.IsLinkLocalUnicast() {
			continue
		}
		bits, _ := list[i].Mask.Size()
		out[list[i].LinkIndex] = append(out[list[i].LinkIndex], netip.PrefixFrom(a, bits))
	}
	return out, nil
}

func address(p netip.Prefix) *netlink.Addr {
	out := &netlink.Addr{IPNet: &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}}
	if p.Addr().Is6() {
		out.Flags = unix.IFA_F_NODAD
	}
	return out
}

// give gives an interface the addresses that it lacks, and its MTU.
func give(t *gateway.Tunnel, l link, have []netip.Prefix) error {
	for _, a := range t.Addresses {
		if !slices.Contains(have, a) {
			if err := netlink.AddrReplace(byIndex(l.index), address(a)); err != nil {
				return fmt.Errorf("giving %s %v: %w", t.Interface, a, err)
			}
		}
	}
	if l.mtu != t.MTU {
		if err := netlink.LinkSetMTU(byIndex(l.index), t.MTU); err != nil {
			return fmt.Errorf("the MTU of %s: %w", t.Interface, err)
		}
	}
	return nil
}

// take takes the addresses away that an interface is not to have.
func take(t *gateway.Tunnel, l link, have []netip.Prefix) error {
	for _, a := range have {
		if !slices.Contains(t.Addresses, a) {
			if err := netlink.AddrDel(byIndex(l.index), address(a)); err != nil && !errors.Is(err, unix.EADDRNOTAVAIL) {
				return fmt.Errorf("taking %v from %s: %w", a, t.Interface, err)
			}
		}
	}
	return nil
}
