// Package render holds what all renderings share. Each form in which a design
// leaves the tool has a folder of its own below.
package render

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"unicode"
)

// A File is one rendered text. Path is relative, with slashes.
type File struct {
	Path string
	Text []byte
}

// Text builds a rendering piece by piece without intermediate strings. What comes
// from the design goes through Word, Name, Addr or Prefix, which refuse what
// could end a word, a line or a quotation: validation lets none of that through,
// and this is the last guard. Err is the first refusal.
type Text struct {
	Bytes []byte
	Err   error
}

// Word appends a word of the design, such as a key or an interface name: visible
// ASCII without quotes and without what has a meaning of its own to a shell, ip, wg
// or nft, and no option.
func (t *Text) Word(s string) *Text {
	if i := strings.IndexFunc(s, func(r rune) bool { return r <= ' ' || r > '~' || strings.ContainsRune("\"'`\\;{}#$&|<>()*?!", r) }); i >= 0 || strings.HasPrefix(s, "-") {
		t.refuse(s)
	}
	return t.Str(s)
}

// Name appends what people call something, of which only the whole line is theirs.
func (t *Text) Name(s string) *Text {
	if strings.ContainsFunc(s, func(r rune) bool { return !unicode.IsPrint(r) }) {
		t.refuse(s)
	}
	return t.Str(s)
}

func (t *Text) refuse(s string) {
	if t.Err == nil {
		t.Err = fmt.Errorf("%q cannot stand in a configuration; nothing was rendered", s)
	}
}

// Str appends text as it is.
func (t *Text) Str(s string) *Text { t.Bytes = append(t.Bytes, s...); return t }

// Num appends a decimal number.
func (t *Text) Num(n int) *Text { t.Bytes = strconv.AppendInt(t.Bytes, int64(n), 10); return t }

// Prefix appends ADDRESS/LENGTH.
func (t *Text) Prefix(p netip.Prefix) *Text {
	if !p.IsValid() {
		t.refuse(p.String())
	}
	t.Bytes = p.AppendTo(t.Bytes)
	return t
}

// Addr appends an address.
func (t *Text) Addr(a netip.Addr) *Text {
	if a.Zone() != "" || !a.IsValid() {
		t.refuse(a.String())
	}
	t.Bytes = a.AppendTo(t.Bytes)
	return t
}

// Line appends text and ends the line.
func (t *Text) Line(s string) *Text { return t.Str(s).End() }

// End ends the line.
func (t *Text) End() *Text { t.Bytes = append(t.Bytes, '\n'); return t }

// Hex appends a number of 32 bits as 0x and eight digits.
func (t *Text) Hex(n uint32) *Text { return t.Str(fmt.Sprintf("0x%08x", n)) }
