package kernel

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"github.com/vishvananda/netlink/nl"
	"golang.org/x/sys/unix"

	"wideknot/core/gateway"
)

// Next-hop objects (linux/nexthop.h), which the netlink package does not know: a
// device, a discard, or a group of those by weight.
type nextHop struct {
	device  int // index; 0 for a discard or a group
	discard bool
	members []nextHopMember
}

type nextHopMember struct {
	id     uint32
	weight uint8 // less one
}

func (h *nextHop) same(o *nextHop) bool {
	return h.device == o.device && h.discard == o.discard && slices.Equal(h.members, o.members)
}

const (
	nhaID        = 1
	nhaGroup     = 2
	nhaBlackhole = 4
	nhaOif       = 5

	nextHopHeader = 8 // struct nhmsg: family, scope, protocol, nothing, flags
	memberSize    = 8 // struct nexthop_grp
)

// header is a struct nhmsg or rtmsg as it goes into a request.
type header []byte

func (h header) Len() int          { return len(h) }
func (h header) Serialize() []byte { return h }

// setNextHop makes or replaces an object of ours.
func setNextHop(id int, h *nextHop) error {
	request := nl.NewNetlinkRequest(unix.RTM_NEWNEXTHOP, unix.NLM_F_CREATE|unix.NLM_F_REPLACE|unix.NLM_F_ACK)
	family := byte(unix.AF_INET6) // serves both families
	if h.members != nil {
		family = unix.AF_UNSPEC
	}
	request.AddData(header{family, 0, gateway.Protocol, 0, 0, 0, 0, 0})
	request.AddData(nl.NewRtAttr(nhaID, nl.Uint32Attr(uint32(id))))
	switch {
	case h.discard:
		request.AddData(nl.NewRtAttr(nhaBlackhole, nil))
	case h.members != nil:
		group := make([]byte, 0, len(h.members)*memberSize)
		for _, m := range h.members {
			group = binary.NativeEndian.AppendUint32(group, m.id)
			group = append(group, m.weight, 0, 0, 0)
		}
		request.AddData(nl.NewRtAttr(nhaGroup, group))
	default:
		request.AddData(nl.NewRtAttr(nhaOif, nl.Uint32Attr(uint32(h.device))))
	}
	if _, err := request.Execute(unix.NETLINK_ROUTE, 0); err != nil {
		return fmt.Errorf("next hop %d: %w", id, err)
	}
	return nil
}

// dropNextHop takes an object away, and with it what goes by it. It may be gone.
func dropNextHop(id int) error {
	request := nl.NewNetlinkRequest(unix.RTM_DELNEXTHOP, unix.NLM_F_ACK)
	request.AddData(make(header, nextHopHeader))
	request.AddData(nl.NewRtAttr(nhaID, nl.Uint32Attr(uint32(id))))
	if _, err := request.Execute(unix.NETLINK_ROUTE, 0); err != nil && !errors.Is(err, unix.ENOENT) {
		return fmt.Errorf("taking next hop %d away: %w", id, err)
	}
	return nil
}

// nextHops reads the objects that are ours.
func nextHops() (map[int]*nextHop, error) {
	request := nl.NewNetlinkRequest(unix.RTM_GETNEXTHOP, unix.NLM_F_DUMP)
	request.AddData(make(header, nextHopHeader))
	messages, err := request.Execute(unix.NETLINK_ROUTE, unix.RTM_NEWNEXTHOP)
	if err != nil {
		return nil, fmt.Errorf("reading next hops: %w", err)
	}
	out := make(map[int]*nextHop, len(messages))
	for _, m := range messages {
		if len(m) < nextHopHeader || m[2] != gateway.Protocol {
			continue
		}
		attributes, err := nl.ParseRouteAttr(m[nextHopHeader:])
		if err != nil {
			return nil, fmt.Errorf("reading next hops: %w", err)
		}
		h, id := &nextHop{}, 0
		for _, a := range attributes {
			switch a.Attr.Type & nl.NLA_TYPE_MASK {
			case nhaID:
				id = int(binary.NativeEndian.Uint32(a.Value))
			case nhaBlackhole:
				h.discard = true
			case nhaOif:
				h.device = int(binary.NativeEndian.Uint32(a.Value))
			case nhaGroup:
				h.members = []nextHopMember{}
				for b := a.Value; len(b) >= memberSize; b = b[memberSize:] {
					h.members = append(h.members, nextHopMember{binary.NativeEndian.Uint32(b), b[4]})
				}
			}
		}
		out[id] = h
	}
	return out, nil
}
