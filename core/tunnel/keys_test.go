package tunnel

import (
	"bytes"
	"encoding/base64"
	"strings"
	"testing"
)

// The pre-shared key of a tunnel is what another implementation of HKDF makes of the same
// (openssl kdf … HKDF), and another for each tunnel, overlay and secret.
func TestSharedKey(t *testing.T) {
	seven, eight := bytes.Repeat([]byte{7}, 32), bytes.Repeat([]byte{8}, 32)
	got, err := SharedKey(seven, "ops", "a/x b/y")
	if want := "S20cunPnqFoLcFrgJCMyjzkVNzDc2iH1DcRlHuW0YIE="; err != nil || got != want {
		t.Errorf("it is %s, not %s, %v", got, want, err)
	}
	seen := map[string]bool{got: true}
	for _, other := range []struct {
		secret         []byte
		overlay, ident string
	}{{eight, "ops", "a/x b/y"}, {seven, "op", "sa/x b/y"}, {seven, "works", "a/x b/y"}, {seven, "ops", "a/x b/z"}} {
		key, err := SharedKey(other.secret, other.overlay, other.ident)
		if raw, bad := base64.StdEncoding.DecodeString(key); err != nil || bad != nil || len(raw) != 32 || seen[key] {
			t.Errorf("%+v: %s, %v", other, key, err)
		}
		seen[key] = true
	}
}

// What a pasted key is: that of the site, of another one, of none, or no key at all.
func TestJudgeKey(t *testing.T) {
	key := func(b byte) string { return base64.StdEncoding.EncodeToString(bytes.Repeat([]byte{b}, 32)) }
	e := sketch(t, ops("h", "s", "u"), "h a:static 10.0.0.0/24", "s x:nat 10.0.1.0/24", "u x:static 10.0.2.0/24")
	e.Allocations.Keys = map[string]string{"h": key(1), "s": key(2)}
	e.Sites[1].Gateway.PublicKey = key(3) // its own, not what was made for it
	p := Derive(e)
	for _, test := range []struct {
		text string
		good bool
		want string
	}{
		{key(3), true, "the public key of s"},
		{" " + key(3) + "\n", true, "the public key of s"},
		{key(1), false, "the public key of h, not of s"},
		{key(2), false, "that of no site"},
		{key(9), false, "that of no site"},
		{key(3)[:43], false, "the = at its end"},
		{"", false, "it must have 44"},
	} {
		v := p.JudgeKey(1, test.text)
		if v.Good != test.good || !strings.Contains(v.Text, test.want) {
			t.Errorf("%q: %+v, want %q", test.text, v, test.want)
		}
	}
	if p.PublicKey(0) != key(1) || p.PublicKey(1) != key(3) || p.PublicKey(2) != "" {
		t.Error("sites have other keys")
	}
}

// Which end opens a tunnel, in the words of whichever asks.
func TestWhoOpens(t *testing.T) {
	for _, test := range []struct {
		a, b, mute bool
		atA, atB   string
	}{
		{true, false, false, "this", "other"},
		{false, true, false, "other", "this"},
		{true, true, false, "both", "both"},
		{true, true, true, "nobody", "nobody"},
	} {
		tn := Tunnel{Mute: test.mute}
		tn.A.Calls, tn.B.Calls = test.a, test.b
		if a, b := tn.Opens(&tn.A, "this", "other"), tn.Opens(&tn.B, "this", "other"); a != test.atA || b != test.atB {
			t.Errorf("%+v: %s and %s", test, a, b)
		}
	}
}
