package kernel

import (
	"errors"
	"fmt"
	"net"
	"net/netip"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"wideknot/core/gateway"
)

// A rule as the kernel has it: one prefix and one device at most.
type rule struct {
	family   int
	priority int
	mark     uint32
	mask     uint32
	device   string
	from     netip.Prefix // invalid for all
	table    int
	noLonger bool // suppress_prefixlength 0
}

// rulesOf spreads the rules of a configuration over prefixes and devices.
func rulesOf(c *gateway.Config) map[rule]bool {
	out := map[rule]bool{}
	for i := range c.Rules {
		r := &c.Rules[i]
		one := rule{family: unix.AF_INET6, priority: r.Priority, mark: uint32(r.Mark), mask: uint32(r.Mask), table: r.Table, noLonger: r.NoLonger}
		if r.Family == gateway.IPv4 {
			one.family = unix.AF_INET
		}
		if r.NoLonger {
			one.table = unix.RT_TABLE_MAIN
		}
		from, devices := r.From, r.Arriving
		if len(from) == 0 {
			from = []netip.Prefix{{}}
		}
		if len(devices) == 0 {
			devices = []string{""}
		}
		for _, one.from = range from {
			for _, one.device = range devices {
				out[one] = true
			}
		}
	}
	return out
}

// rules reads the rules that are ours.
func rules() (map[rule]bool, error) {
	out := map[rule]bool{}
	for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
		list, err := netlink.RuleList(family)
		if err != nil {
			return nil, fmt.Errorf("reading rules: %w", err)
		}
		for i := range list {
			r := &list[i]
			if r.Protocol != gateway.Protocol {
				continue
			}
			one := rule{family: family, priority: r.Priority, mark: r.Mark, device: r.IifName, table: r.Table, noLonger: r.SuppressPrefixlen == 0}
			if r.Mask != nil {
				one.mask = *r.Mask
			}
			if r.Mark == 0 {
				one.mask = 0
			}
			if r.Src != nil {
				a, _ := netip.AddrFromSlice(r.Src.IP)
				bits, _ := r.Src.Mask.Size()
				one.from = netip.PrefixFrom(a.Unmap(), bits)
			}
			out[one] = true
		}
	}
	return out, nil
}

func (r *rule) message() *netlink.Rule {
	out := netlink.NewRule()
	out.Family, out.Priority, out.Table, out.IifName, out.Protocol = r.family, r.priority, r.table, r.device, gateway.Protocol
	if r.mark != 0 {
		mask := r.mask
		out.Mark, out.Mask = r.mark, &mask
	}
	if r.from.IsValid() {
		out.Src = &net.IPNet{IP: r.from.Addr().AsSlice(), Mask: net.CIDRMask(r.from.Bits(), r.from.Addr().BitLen())}
	}
	if r.noLonger {
		out.SuppressPrefixlen = 0
	}
	return out
}

func (r *rule) set() error {
	if err := netlink.RuleAdd(r.message()); err != nil && !errors.Is(err, unix.EEXIST) {
		return fmt.Errorf("rule %d: %w", r.priority, err)
	}
	return nil
}

func (r *rule) drop() error {
	if err := netlink.RuleDel(r.message()); err != nil && !errors.Is(err, unix.ENOENT) {
		return fmt.Errorf("taking rule %d away: %w", r.priority, err)
	}
	return nil
}
