package kernel

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"net/netip"

	"github.com/vishvananda/netlink/nl"
	"golang.org/x/sys/unix"

	"wideknot/core/gateway"
)

// A route of ours as the kernel has it: by a way, by a device, or a discard.
type route struct {
	table  int
	prefix netip.Prefix
	way    int // number of the next-hop group; 0 for none
	via    netip.Addr
	device int
	metric int // in the table of probes; 0 elsewhere
}

// routeKey is what there is one of: a route, and one discard behind it.
type routeKey struct {
	table   int
	prefix  netip.Prefix
	discard bool
	metric  int
}

func (r *route) key() routeKey {
	return routeKey{r.table, r.prefix, r.way == 0 && r.device == 0, r.metric}
}

// discardMetric puts discards behind all else.
const discardMetric = math.MaxUint32

// tableOf is the number of a table of a configuration.
func tableOf(n int) int {
	if n == gateway.DefaultTable {
		return unix.RT_TABLE_MAIN
	}
	return n
}

const rtaNextHopID = 30

// message fills a request about a route.
func (r *route) message(request *nl.NetlinkRequest, adding bool) {
	family, scope, kind := byte(unix.AF_INET6), byte(unix.RT_SCOPE_UNIVERSE), byte(unix.RTN_UNICAST)
	if r.prefix.Addr().Is4() {
		family = unix.AF_INET
	}
	discard := r.key().discard
	if discard {
		kind = unix.RTN_BLACKHOLE
	}
	if !adding {
		scope = unix.RT_SCOPE_NOWHERE
	}
	request.AddData(header{family, byte(r.prefix.Bits()), 0, 0, unix.RT_TABLE_UNSPEC, gateway.Protocol, scope, kind, 0, 0, 0, 0})
	if r.prefix.Bits() > 0 {
		request.AddData(nl.NewRtAttr(unix.RTA_DST, r.prefix.Addr().AsSlice()))
	}
	request.AddData(nl.NewRtAttr(unix.RTA_TABLE, nl.Uint32Attr(uint32(r.table))))
	if discard {
		request.AddData(nl.NewRtAttr(unix.RTA_PRIORITY, nl.Uint32Attr(discardMetric)))
	}
	if r.metric != 0 {
		request.AddData(nl.NewRtAttr(unix.RTA_PRIORITY, nl.Uint32Attr(uint32(r.metric))))
	}
	if !adding {
		return
	}
	if r.way != 0 {
		request.AddData(nl.NewRtAttr(rtaNextHopID, nl.Uint32Attr(uint32(r.way))))
	}
	if r.device != 0 {
		if r.via.IsValid() {
			request.AddData(nl.NewRtAttr(unix.RTA_GATEWAY, r.via.AsSlice()))
		}
		request.AddData(nl.NewRtAttr(unix.RTA_OIF, nl.Uint32Attr(uint32(r.device))))
	}
}

// set makes or replaces a route.
func (r *route) set() error {
	request := nl.NewNetlinkRequest(unix.RTM_NEWROUTE, unix.NLM_F_CREATE|unix.NLM_F_REPLACE|unix.NLM_F_ACK)
	r.message(request, true)
	if _, err := request.Execute(unix.NETLINK_ROUTE, 0); err != nil {
		return fmt.Errorf("the route to %v: %w", r.prefix, err)
	}
	return nil
}

// drop takes a route away. It may be gone.
func (r *route) drop() error {
	request := nl.NewNetlinkRequest(unix.RTM_DELROUTE, unix.NLM_F_ACK)
	r.message(request, false)
	if _, err := request.Execute(unix.NETLINK_ROUTE, 0); err != nil && !errors.Is(err, unix.ESRCH) {
		return fmt.Errorf("taking the route to %v away: %w", r.prefix, err)
	}
	return nil
}

const routeHeader = 12 // struct rtmsg

// routes reads the routes that are ours, of both families and all tables.
func routes() (map[routeKey]*route, error) {
	out := map[routeKey]*route{}
	for _, family := range []byte{unix.AF_INET, unix.AF_INET6} {
		request := nl.NewNetlinkRequest(unix.RTM_GETROUTE, unix.NLM_F_DUMP)
		h := make(header, routeHeader)
		h[0] = family
		request.AddData(h)
		messages, err := request.Execute(unix.NETLINK_ROUTE, unix.RTM_NEWROUTE)
		if err != nil {
			return nil, fmt.Errorf("reading routes: %w", err)
		}
		for _, m := range messages {
			if len(m) < routeHeader || m[5] != gateway.Protocol || m[0] != family {
				continue
			}
			r, err := parseRoute(m)
			if err != nil {
				return nil, err
			}
			out[r.key()] = r
		}
	}
	return out, nil
}

func parseRoute(m []byte) (*route, error) {
	attributes, err := nl.ParseRouteAttr(m[routeHeader:])
	if err != nil {
		return nil, fmt.Errorf("reading routes: %w", err)
	}
	r := &route{table: int(m[4])}
	metric := 0
	to := netip.IPv6Unspecified()
	if m[0] == unix.AF_INET {
		to = netip.IPv4Unspecified()
	}
	for _, a := range attributes {
		switch a.Attr.Type & nl.NLA_TYPE_MASK {
		case unix.RTA_DST:
			to, _ = netip.AddrFromSlice(a.Value)
		case unix.RTA_TABLE:
			r.table = int(binary.NativeEndian.Uint32(a.Value))
		case unix.RTA_PRIORITY:
			metric = int(binary.NativeEndian.Uint32(a.Value))
		case rtaNextHopID:
			r.way = int(binary.NativeEndian.Uint32(a.Value))
		case unix.RTA_GATEWAY:
			r.via, _ = netip.AddrFromSlice(a.Value)
		case unix.RTA_OIF:
			r.device = int(binary.NativeEndian.Uint32(a.Value))
		}
	}
	switch {
	case m[7] == unix.RTN_BLACKHOLE && r.way == 0:
		r.via, r.device = netip.Addr{}, 0 // IPv6 says lo
	case r.way != 0:
		r.via, r.device = netip.Addr{}, 0 // which follow from the way
	}
	if r.table == probeTable {
		r.metric = metric
	}
	r.prefix = netip.PrefixFrom(to, int(m[1]))
	return r, nil
}

// A probe must leave by the tunnel it is for. IPv4 takes the device that is asked for
// where no route has it; IPv6 finds nothing, where several tunnels lead to one address
// and the way to it goes by another. So probes are marked, and a table of their own has a
// route by each tunnel.
const (
	probeTable    = gateway.FirstMark - 1
	probePriority = gateway.FirstMark - 1
)

// probing returns the routes of that table, and the rule that leads to it.
func probing(c *gateway.Config, links map[string]link) (list []*route, rules map[rule]bool) {
	rules = map[rule]bool{}
	for i := range c.Tunnels {
		t := &c.Tunnels[i]
		if l := links[t.Interface]; t.Probe != nil && t.Probe.Address.Is6() && l.up {
			list = append(list, &route{table: probeTable, prefix: netip.PrefixFrom(t.Probe.Address, 128), device: l.index, metric: t.NextHop - gateway.Blackhole + 1})
		}
		if t.Probe != nil && t.Probe.Address.Is6() {
			rules[rule{family: unix.AF_INET6, priority: probePriority, mark: gateway.ProbeMark, mask: gateway.ProbeMark, table: probeTable}] = true
		}
	}
	return list, rules
}
