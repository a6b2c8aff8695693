package estate

import (
	"fmt"
	"slices"
	"strings"
)

func (v *validator) crypto(path string, c *Crypto) {
	if c == nil {
		return
	}
	for i, p := range c.IKE {
		v.proposal(fmt.Sprintf("%s.ike[%d]", path, i), p, true)
	}
	for i, p := range c.ESP {
		v.proposal(fmt.Sprintf("%s.esp[%d]", path, i), p, false)
	}
	v.between(path+".ike_lifetime_s", "lifetime", float64(c.IKELifetimeS), 300, 864000)
	v.between(path+".child_lifetime_s", "lifetime", float64(c.ChildLifetimeS), 300, 864000)
}

// transforms are the IKEv2 transforms that may be named (IANA registry of
// IKEv2 parameters; names as there, key length in bits behind the dash).
var transforms = map[string][]string{
	"encryption": {"ENCR_AES_GCM_16-128", "ENCR_AES_GCM_16-256", "ENCR_AES_CBC-128", "ENCR_AES_CBC-256", "ENCR_CHACHA20_POLY1305"},
	"prf":        {"PRF_HMAC_SHA2_256", "PRF_HMAC_SHA2_384", "PRF_HMAC_SHA2_512"},
	"integrity":  {"AUTH_HMAC_SHA2_256_128", "AUTH_HMAC_SHA2_384_192", "AUTH_HMAC_SHA2_512_256"},
	"group":      {"2048-bit-MODP", "3072-bit-MODP", "256-bit-random-ECP", "384-bit-random-ECP", "Curve25519", "Curve448"},
}

// TransformKind returns which kind of IKEv2 transform a name is: encryption,
// prf, integrity or group; empty for none.
func TransformKind(name string) string {
	for kind, names := range transforms {
		if slices.Contains(names, name) {
			return kind
		}
	}
	return ""
}

// proposal checks one proposal: known transforms, each kind once, encryption
// always, integrity exactly when the cipher does not bring its own, and for
// IKE a PRF and a group.
func (v *validator) proposal(path, text string, ike bool) {
	kinds := map[string]string{}
	for _, name := range strings.Split(text, "/") {
		kind := TransformKind(name)
		if kind == "" {
			v.fail(path, "%q is not an IKEv2 transform name known here, such as ENCR_AES_GCM_16-256", name)
			return
		}
		if kinds[kind] != "" {
			v.fail(path, "%q names two transforms of kind %s", text, kind)
		}
		kinds[kind] = name
	}
	combined := strings.Contains(kinds["encryption"], "GCM") || strings.Contains(kinds["encryption"], "POLY1305")
	switch {
	case kinds["encryption"] == "":
		v.fail(path, "%q names no encryption", text)
	case combined == (kinds["integrity"] != ""):
		v.fail(path, "%q: ciphers of GCM and POLY1305 bring their integrity, all others need one", text)
	case ike && (kinds["prf"] == "" || kinds["group"] == ""):
		v.fail(path, "%q lacks a PRF or a group, which IKE needs", text)
	case !ike && kinds["prf"] != "":
		v.fail(path, "%q names a PRF, which ESP has no use for", text)
	}
}
