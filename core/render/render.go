// Package render holds what all renderings share. Each form in which a design
// leaves the tool has a folder of its own below.
package render

import (
	"net/netip"
	"strconv"
)

// A File is one rendered text. Path is relative, with slashes.
type File struct {
	Path string
	Text []byte
}

// Text builds a rendering piece by piece without intermediate strings.
type Text struct{ Bytes []byte }

// Str appends text as it is.
func (t *Text) Str(s string) *Text { t.Bytes = append(t.Bytes, s...); return t }

// Num appends a decimal number.
func (t *Text) Num(n int) *Text { t.Bytes = strconv.AppendInt(t.Bytes, int64(n), 10); return t }

// Prefix appends ADDRESS/LENGTH.
func (t *Text) Prefix(p netip.Prefix) *Text { t.Bytes = p.AppendTo(t.Bytes); return t }

// Addr appends an address.
func (t *Text) Addr(a netip.Addr) *Text { t.Bytes = a.AppendTo(t.Bytes); return t }

// Line appends text and ends the line.
func (t *Text) Line(s string) *Text { return t.Str(s).End() }

// End ends the line.
func (t *Text) End() *Text { t.Bytes = append(t.Bytes, '\n'); return t }
