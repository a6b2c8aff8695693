package gateway

import (
	"encoding/base64"
	"fmt"
	"net/netip"
	"strings"

	"wideknot/core/tunnel"
)

// A checker keeps the first thing that is wrong.
type checker struct {
	err      error
	prefixes int
}

func (k *checker) fail(format string, values ...any) {
	if k.err == nil {
		k.err = fmt.Errorf(format, values...)
	}
}

func (k *checker) number(what string, n, low, high int) {
	if n < low || n > high {
		k.fail("%s is %d; it must be from %d to %d", what, n, low, high)
	}
}

func (k *checker) count(what string, n, most int) {
	if n > most {
		k.fail("%d %s; at most %d", n, what, most)
	}
}

// word is what may stand in commands and files: visible, and of no meaning there.
func (k *checker) word(what, s string) {
	if s == "" || len(s) > 255 || s[0] == '-' || strings.ContainsFunc(s, func(r rune) bool {
		return r <= ' ' || r > '~' || strings.ContainsRune("\"'`\\;{}#$&|<>()*?!", r)
	}) {
		k.fail("%s is %q, which is no plain word", what, s)
	}
}

func (k *checker) device(what, s string) {
	k.word(what, s)
	if len(s) > tunnel.MaxInterface || strings.Contains(s, "/") {
		k.fail("%s is %q, which no interface can be called", what, s)
	}
}

// IsInterface reports whether an interface can be called so.
func IsInterface(name string) bool {
	k := &checker{}
	k.device("an interface", name)
	return k.err == nil
}

// key is a public key, X25519 in base64.
func (k *checker) key(what, text string) {
	if raw, err := base64.StdEncoding.DecodeString(text); err != nil || len(raw) != 32 {
		k.fail("%s is %.60q", what, text)
	}
}

func (k *checker) list(what string, prefixes []netip.Prefix) {
	k.prefixes += len(prefixes)
	k.count("prefixes", k.prefixes, maxPrefixes)
	for _, p := range prefixes {
		k.prefix(what, p)
	}
}

func (k *checker) prefix(what string, p netip.Prefix) {
	if !p.IsValid() || p != p.Masked() || p.Addr().Is4In6() {
		k.fail("%s is %v, which is no prefix", what, p)
	}
}

func (k *checker) addr(what string, a netip.Addr) {
	if a.Zone() != "" || a.Is4In6() {
		k.fail("%s is %v, which is no plain address", what, a)
	}
}

func (k *checker) family(what string, f Family) {
	if f != IPv4 && f != IPv6 {
		k.fail("%s is %q, which is no address family", what, f)
	}
}

// each calls check for every item, and fails where two have one name.
func each[T any, K comparable](k *checker, what string, list []T, name func(*T) K, check func(*T)) {
	seen := make(map[K]bool, len(list))
	for i := range list {
		if key := name(&list[i]); seen[key] {
			k.fail("%s %v is there twice", what, key)
		} else {
			seen[key] = true
		}
		check(&list[i])
		if k.err != nil {
			return
		}
	}
}

// A place is a prefix in a table.
type place struct {
	table  int
	prefix netip.Prefix
}

func (p place) String() string { return p.prefix.String() + inTable(p.table) }
