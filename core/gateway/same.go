package gateway

import "slices"

// What follows tells whether two parts of configurations are the same, as Digest
// does; a test asks both.

func alike[T comparable](a, b *T) bool { return *a == *b }

// equal compares what two pointers point to.
func equal[T any](a, b *T, same func(a, b *T) bool) bool {
	return a == b || a != nil && b != nil && same(a, b)
}

// allSame compares two lists item by item.
func allSame[T any](a, b []T, same func(a, b *T) bool) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if !same(&a[i], &b[i]) {
			return false
		}
	}
	return true
}

func sameLink(a, b *Link) bool {
	return a.Key == b.Key && a.Device == b.Device && a.Mark == b.Mark && a.Up == b.Up && a.Down == b.Down && slices.Equal(a.NextHops, b.NextHops)
}

func sameList(a, b *List) bool { return a.ID == b.ID && slices.Equal(a.Prefixes, b.Prefixes) }

func sameTunnel(a, b *Tunnel) bool {
	return a.Interface == b.Interface && a.Overlay == b.Overlay && a.Rank == b.Rank && a.Link == b.Link && a.Peer == b.Peer && a.PeerLink == b.PeerLink &&
		a.NextHop == b.NextHop && a.MTU == b.MTU && a.Limited == b.Limited && slices.Equal(a.Zones, b.Zones) && slices.Equal(a.Addresses, b.Addresses) &&
		equal(a.Probe, b.Probe, alike[Probe]) && equal(a.WireGuard, b.WireGuard, sameWireGuard) && equal(a.IPsec, b.IPsec, sameIPsec)
}

func sameWireGuard(a, b *WireGuard) bool {
	return a.Port == b.Port && a.Mark == b.Mark && a.PublicKey == b.PublicKey && a.Also == b.Also && a.Preshared == b.Preshared && a.List == b.List && a.Endpoint == b.Endpoint &&
		a.Keepalive == b.Keepalive && slices.Equal(a.Allowed, b.Allowed)
}

func sameIPsec(a, b *IPsec) bool {
	return a.LocalID == b.LocalID && a.RemoteID == b.RemoteID && a.Local == b.Local && a.Remote == b.Remote && a.RemoteName == b.RemoteName &&
		a.Initiates == b.Initiates && a.Encapsulate == b.Encapsulate && a.IKELifetime == b.IKELifetime && a.ChildLifetime == b.ChildLifetime &&
		a.InterfaceID == b.InterfaceID && a.Mark == b.Mark && slices.Equal(a.IKE, b.IKE) && slices.Equal(a.ESP, b.ESP) &&
		slices.Equal(a.LocalTS, b.LocalTS) && slices.Equal(a.RemoteTS, b.RemoteTS)
}

func sameGroups(a, b *Way) bool {
	return a.ID == b.ID && allSame(a.Groups, b.Groups, func(a, b *Group) bool { return a.Place == b.Place && slices.Equal(a.Members, b.Members) })
}

func sameTelling(a, b *Telling) bool {
	return a.Overlay == b.Overlay && a.Version == b.Version && a.Sites == b.Sites && a.Me == b.Me && slices.Equal(a.Hubs, b.Hubs) && slices.Equal(a.Peers, b.Peers) &&
		slices.Equal(a.To, b.To) && allSame(a.Orders, b.Orders, func(a, b *Order) bool {
		return a.ID == b.ID && allSame(a.Paths, b.Paths, func(a, b *Path) bool { return a.ID == b.ID && slices.Equal(a.Via, b.Via) })
	})
}

func sameRule(a, b *Rule) bool {
	return a.Priority == b.Priority && a.Family == b.Family && a.Mark == b.Mark && a.Mask == b.Mask && a.Table == b.Table && a.NoLonger == b.NoLonger &&
		slices.Equal(a.Arriving, b.Arriving) && slices.Equal(a.From, b.From)
}

// sameJudgement compares all that judges packets or changes them.
func sameJudgement(a, b *Config) bool {
	return a.Forward6 == b.Forward6 && slices.Equal(a.Filter.Arrivals, b.Filter.Arrivals) && slices.Equal(a.Filter.Own, b.Filter.Own) &&
		allSame(a.Filter.Kept, b.Filter.Kept, func(a, b *Kept) bool { return a.Interface == b.Interface && slices.Equal(a.Prefixes, b.Prefixes) }) &&
		allSame(a.Filter.Overlays, b.Filter.Overlays, samePassing) && slices.Equal(a.Maps, b.Maps) &&
		allSame(a.Places, b.Places, func(a, b *Place) bool { return a.Mark == b.Mark && slices.Equal(a.Interfaces, b.Interfaces) }) &&
		slices.Equal(a.Held.Here, b.Held.Here) && allSame(a.Held.Overlays, b.Held.Overlays, func(a, b *HeldIn) bool {
		return a.Overlay == b.Overlay && a.Mark == b.Mark && slices.Equal(a.Zones, b.Zones) && slices.Equal(a.Own, b.Own) && slices.Equal(a.Prefixes, b.Prefixes)
	}) &&
		allSame(a.Breakouts, b.Breakouts, func(a, b *Breakout) bool {
			return a.Overlay == b.Overlay && a.Family == b.Family && slices.Equal(a.Devices, b.Devices) && slices.Equal(a.From, b.From) && slices.Equal(a.Except, b.Except)
		}) &&
		allSame(a.Shaping, b.Shaping, func(a, b *Class) bool {
			return a.Zone == b.Zone && slices.Equal(a.Here, b.Here) && slices.Equal(a.Beyond, b.Beyond)
		})
}

func samePassing(a, b *Passing) bool {
	return a.Overlay == b.Overlay && a.Relays == b.Relays && a.Policed == b.Policed && a.Deny == b.Deny && slices.Equal(a.Interfaces, b.Interfaces) &&
		slices.Equal(a.Back, b.Back) && slices.Equal(a.BackFrom, b.BackFrom) && allSame(a.Policy, b.Policy, sameEntry)
}

func sameEntry(a, b *Entry) bool {
	return a.Index == b.Index && a.Rule == b.Rule && a.Permit == b.Permit && a.Family == b.Family && a.Leaving == b.Leaving && a.Protocol == b.Protocol &&
		a.Reply == b.Reply && slices.Equal(a.From, b.From) && slices.Equal(a.To, b.To) && slices.Equal(a.Ports, b.Ports)
}
