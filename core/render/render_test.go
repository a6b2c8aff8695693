package render

import (
	"net/netip"
	"testing"
)

// What could end a word, a line or a quotation is refused; all other visible ASCII is
// a word.
func TestTextRefuses(t *testing.T) {
	for r := rune(0); r < 0x180; r++ {
		word := &Text{}
		word.Word("a" + string(r))
		want := r > ' ' && r <= '~'
		for _, bad := range "\"'`\\;{}#$&|<>()*?!" {
			want = want && r != bad
		}
		if (word.Err == nil) != want {
			t.Errorf("%q as a word: %v", r, word.Err)
		}
	}
	for name, write := range map[string]func(*Text){
		"an option": func(t *Text) { t.Word("-x") }, "a name over two lines": func(t *Text) { t.Name("a\nb") },
		"no prefix": func(t *Text) { t.Prefix(netip.Prefix{}) }, "no address": func(t *Text) { t.Addr(netip.Addr{}) },
		"an address with a zone": func(t *Text) { t.Addr(netip.MustParseAddr("fe80::1%lo")) },
	} {
		text := &Text{}
		write(text)
		if text.Err == nil {
			t.Errorf("%s is written", name)
		}
	}
	text := &Text{}
	text.Word("a").Str(" ").Num(-7).Str(" ").Hex(0xff).Str(" ").Name("Ä b").End()
	if got := string(text.Bytes); got != "a -7 0x000000ff Ä b\n" || text.Err != nil {
		t.Errorf("%q, %v", got, text.Err)
	}
}
