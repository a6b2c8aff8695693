package gateway

import (
	"errors"
	"fmt"
	"net/netip"
)

// Offers are what a gateway sees of itself and of what is around it, for whoever designs.
// Nothing of them enters a design by itself.
type Offers struct {
	At        Time   `json:"at"`
	PublicKey string `json:"public-key,omitempty"` // X25519, base64
	// NextKey is of another private key that the gateway has, for when the plan says so.
	NextKey string   `json:"next-public-key,omitempty"`
	Devices []Device `json:"device,omitempty"`
	Behind  []Behind `json:"behind,omitempty"`
}

// A Device is an interface of the gateway that is none of our tunnels.
type Device struct {
	Name      string         `json:"name"`
	MTU       int            `json:"mtu,omitempty"` // bytes
	Addresses []netip.Prefix `json:"address,omitempty"`
	NextHops  []netip.Addr   `json:"next-hop,omitempty"` // of its default routes
	// Outside is whence a STUN server (RFC 8489) had a question that left by the device.
	Outside netip.AddrPort `json:"seen-outside,omitzero"`
}

// A Behind is a prefix behind a neighbouring router.
type Behind struct {
	Prefix netip.Prefix `json:"prefix"`
	Via    netip.Addr   `json:"via"`
	Device string       `json:"device"`
}

// Own returns an address of the gateway in the first of some prefixes in which it has one; an
// invalid one where it has none.
func (o *Offers) Own(in []netip.Prefix) netip.Addr {
	for _, p := range in {
		for i := range o.Devices {
			for _, a := range o.Devices[i].Addresses {
				if p.Contains(a.Addr()) {
					return a.Addr()
				}
			}
		}
	}
	return netip.Addr{}
}

// What a gateway may offer.
const (
	MaxOfferedDevices = 64
	MaxBehind         = 2000
	maxAddresses      = 64
)

// ParseOffers reads the wideknot-gateway:offers of a gateway. It takes nothing that could
// not be: whoever offers may be anybody.
func ParseOffers(text []byte) (*Offers, error) {
	var d struct {
		Offers *Offers `json:"wideknot-gateway:offers"`
	}
	if err := read(text, &d); err != nil {
		return nil, fmt.Errorf("the offers cannot be read: %w", err)
	}
	if d.Offers == nil {
		return nil, errors.New("the offers cannot be read: there is no wideknot-gateway:offers")
	}
	if err := d.Offers.check(); err != nil {
		return nil, fmt.Errorf("the offers cannot be read: %w", err)
	}
	return d.Offers, nil
}

func (o *Offers) check() error {
	k := &checker{}
	k.time(o.At)
	for _, text := range []string{o.PublicKey, o.NextKey} {
		if text != "" {
			k.key("a public key", text)
		}
	}
	k.count("devices", len(o.Devices), MaxOfferedDevices)
	k.count("prefixes behind routers", len(o.Behind), MaxBehind)
	if k.err != nil {
		return k.err
	}
	each(k, "device", o.Devices, func(d *Device) string { return d.Name }, func(d *Device) {
		k.device("a device", d.Name)
		k.number("an MTU", d.MTU, 0, 1<<17)
		k.count("addresses", len(d.Addresses)+len(d.NextHops), maxAddresses)
		for _, p := range d.Addresses {
			k.prefix("an address", p.Masked())
			k.addr("an address", p.Addr())
		}
		for _, a := range append([]netip.Addr{d.Outside.Addr()}, d.NextHops...) {
			k.addr("an address", a)
		}
	})
	for i := range o.Behind {
		b := &o.Behind[i]
		k.prefix("a prefix behind a router", b.Prefix)
		k.addr("a router", b.Via)
		k.device("a device", b.Device)
	}
	return k.err
}
