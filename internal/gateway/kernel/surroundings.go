package kernel

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"wideknot/core/gateway"
)

// Surroundings tells of the interfaces that are up and not ours, and of prefixes behind
// routers beside them, as the main table has them.
func (p *Plane) Surroundings() ([]gateway.Device, []gateway.Behind, error) {
	list, err := netlink.LinkList()
	if err != nil {
		return nil, nil, fmt.Errorf("reading interfaces: %w", err)
	}
	given, err := addresses()
	if err != nil {
		return nil, nil, err
	}
	place := map[int]int{}
	var devices []gateway.Device
	for _, l := range list {
		a := l.Attrs()
		if a.Flags&net.FlagUp == 0 || a.Flags&net.FlagLoopback != 0 || strings.HasPrefix(a.Alias, alias) || !gateway.IsInterface(a.Name) || len(devices) == gateway.MaxOfferedDevices {
			continue
		}
		place[a.Index] = len(devices)
		devices = append(devices, gateway.Device{Name: a.Name, MTU: a.MTU, Addresses: given[a.Index]})
	}
	var behind []gateway.Behind
	for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
		routes, err := netlink.RouteList(nil, family)
		if err != nil {
			return nil, nil, fmt.Errorf("reading routes: %w", err)
		}
		for i := range routes {
			r := &routes[i]
			at, there := place[r.LinkIndex]
			via, ok := netip.AddrFromSlice(r.Gw)
			if !there || !ok || r.Table != unix.RT_TABLE_MAIN || r.Protocol == gateway.Protocol {
				continue
			}
			via = via.Unmap()
			if ones := routeTo(r.Dst); ones.IsValid() && ones.Bits() > 0 {
				if len(behind) < gateway.MaxBehind {
					behind = append(behind, gateway.Behind{Prefix: ones, Via: via, Device: devices[at].Name})
				}
			} else if !slices.Contains(devices[at].NextHops, via) {
				devices[at].NextHops = append(devices[at].NextHops, via)
			}
		}
	}
	return devices, behind, nil
}

// routeTo reads a destination; one of length 0, or nil, is the default.
func routeTo(n *net.IPNet) netip.Prefix {
	if n == nil {
		return netip.Prefix{}
	}
	a, ok := netip.AddrFromSlice(n.IP)
	if !ok {
		return netip.Prefix{}
	}
	bits, _ := n.Mask.Size()
	return netip.PrefixFrom(a.Unmap(), bits).Masked()
}
