package linux

import (
	"net/netip"
	"strings"

	"wideknot/core/gateway"
	"wideknot/core/render"
)

// transforms are the IKEv2 transforms of the design by the words of the daemon whose
// configuration swanctl.conf is.
var transforms = map[string]string{
	"ENCR_AES_GCM_16-128": "aes128gcm16", "ENCR_AES_GCM_16-256": "aes256gcm16",
	"ENCR_AES_CBC-128": "aes128", "ENCR_AES_CBC-256": "aes256", "ENCR_CHACHA20_POLY1305": "chacha20poly1305",
	"AUTH_HMAC_SHA2_256_128": "sha256", "AUTH_HMAC_SHA2_384_192": "sha384", "AUTH_HMAC_SHA2_512_256": "sha512",
	"PRF_HMAC_SHA2_256": "prfsha256", "PRF_HMAC_SHA2_384": "prfsha384", "PRF_HMAC_SHA2_512": "prfsha512",
	"2048-bit-MODP": "modp2048", "3072-bit-MODP": "modp3072", "256-bit-random-ECP": "ecp256", "384-bit-random-ECP": "ecp384",
	"Curve25519": "x25519", "Curve448": "x448",
}

// proposals writes proposals, each of transforms with slashes between.
func proposals(t *render.Text, list []string) {
	for i, p := range list {
		if i > 0 {
			t.Str(",")
		}
		for j, name := range strings.Split(p, "/") {
			word, known := transforms[name]
			if !known {
				word = name
			}
			t.Str(map[bool]string{true: "-", false: ""}[j > 0]).Word(word)
		}
	}
	t.End()
}

// DPD figures of RFC 3706's kind of liveness check, in seconds.
const dpdDelay = 10

// swanctl renders the tunnels of IPsec for the IKEv2 daemon. Routes decide what
// enters a tunnel: no policy installs any, and each tunnel has an interface of its
// own by its interface id.
func (b *bundle) swanctl(t *render.Text) {
	b.heading(t, "tunnels of IPsec, for swanctl --load-all")
	t.Line("connections {")
	for i := range b.c.Tunnels {
		if one := &b.c.Tunnels[i]; one.IPsec != nil {
			connection(t, one)
		}
	}
	t.Line("}")
}

func connection(t *render.Text, one *gateway.Tunnel) {
	s := one.IPsec
	t.Str("\t").Word(one.Interface).Line(" {")
	t.Line("\t\tversion = 2")
	t.Line("\t\tmobike = no")
	if s.Local.IsValid() {
		t.Str("\t\tlocal_addrs = ").Addr(s.Local).End()
	}
	switch {
	case s.RemoteName != "":
		t.Str("\t\tremote_addrs = ").Word(s.RemoteName).End()
	case s.Remote.IsValid():
		t.Str("\t\tremote_addrs = ").Addr(s.Remote).End()
	default:
		t.Line("\t\tremote_addrs = %any")
	}
	proposals(t.Str("\t\tproposals = "), s.IKE)
	t.Str("\t\trekey_time = ").Num(s.IKELifetime).Line("s")
	t.Str("\t\tdpd_delay = ").Num(dpdDelay).Line("s")
	t.Str("\t\tencap = ").Line(yes(s.Encapsulate))
	t.Str("\t\tif_id_in = ").Num(s.InterfaceID).End()
	t.Str("\t\tif_id_out = ").Num(s.InterfaceID).End()
	t.Line("\t\tkeyingtries = 0")
	t.Line("\t\tlocal {").Line("\t\t\tauth = psk").Str("\t\t\tid = ").Word(s.LocalID).End().Line("\t\t}")
	t.Line("\t\tremote {").Line("\t\t\tauth = psk").Str("\t\t\tid = ").Word(s.RemoteID).End().Line("\t\t}")
	t.Line("\t\tchildren {").Str("\t\t\t").Word(one.Interface).Line(" {")
	proposals(t.Str("\t\t\t\tesp_proposals = "), s.ESP)
	selectors(t.Str("\t\t\t\tlocal_ts = "), s.LocalTS)
	selectors(t.Str("\t\t\t\tremote_ts = "), s.RemoteTS)
	t.Str("\t\t\t\trekey_time = ").Num(s.ChildLifetime).Line("s")
	t.Line("\t\t\t\tpolicies_fwd_out = yes")
	if s.Initiates {
		t.Line("\t\t\t\tstart_action = start").Line("\t\t\t\tclose_action = start").Line("\t\t\t\tdpd_action = restart")
	} else {
		t.Line("\t\t\t\tstart_action = none").Line("\t\t\t\tdpd_action = clear")
	}
	if s.Mark > 0 {
		// What carries the tunnel leaves by the link it was made for.
		t.Str("\t\t\t\tset_mark_out = ").Num(s.Mark).Str("/").Hex(gateway.LinkMask).End()
	}
	t.Line("\t\t\t}").Line("\t\t}").Line("\t}")
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func selectors(t *render.Text, prefixes []netip.Prefix) {
	for i, p := range prefixes {
		if i > 0 {
			t.Str(",")
		}
		t.Prefix(p)
	}
	t.End()
}

// swanctlSecrets renders what both ends of each tunnel know.
func (b *bundle) swanctlSecrets(t *render.Text, tunnels []*gateway.Tunnel) {
	t.Line("secrets {")
	for _, one := range tunnels {
		key, _ := b.preshared(one)
		t.Str("\tike-").Word(one.Interface).Line(" {")
		t.Str("\t\tid-1 = ").Word(one.IPsec.LocalID).End()
		t.Str("\t\tid-2 = ").Word(one.IPsec.RemoteID).End()
		t.Str("\t\tsecret = 0s").Word(key).End()
		t.Line("\t}")
	}
	t.Line("}")
}
