package estate

import (
	"cmp"
	"encoding/csv"
	"errors"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// csvRows reads the rows of a sheet, numbered as a spreadsheet numbers them:
// each record is one row, however many lines its quoted cells have, and an empty
// line is a row too.
type csvRows struct {
	separator rune
	reader    *csv.Reader
	inside    int // line ends inside quoted cells so far
}

func newRows(text string) *csvRows {
	r := &csvRows{separator: separatorOf(text), reader: csv.NewReader(strings.NewReader(text))}
	r.reader.Comma = r.separator
	r.reader.FieldsPerRecord = -1
	r.reader.ReuseRecord = true
	return r
}

// next returns the next record that is not an empty line, and its row. It goes
// on after an error that is not io.EOF.
func (r *csvRows) next() (record []string, row int, err error) {
	record, err = r.reader.Read()
	var broken *csv.ParseError
	if errors.As(err, &broken) {
		row = broken.StartLine - r.inside
		r.inside += broken.Line - broken.StartLine
		return nil, row, err
	}
	if err != nil {
		return nil, 0, err
	}
	line, _ := r.reader.FieldPos(0)
	row = line - r.inside
	for _, cell := range record {
		r.inside += strings.Count(cell, "\n")
	}
	return record, row, nil
}

// separatorOf finds what separates the cells of the heading, or where a title
// stands above it, of the first line that has several: comma, semicolon, or tab
// (rows pasted from a spreadsheet).
func separatorOf(text string) rune {
	var head string
	for range headWithin {
		var more bool
		if head, text, more = strings.Cut(text, "\n"); strings.ContainsAny(head, ";\t,") || !more {
			break
		}
	}
	return slices.MaxFunc([]rune{';', '\t', ','}, func(a, b rune) int {
		return cmp.Compare(strings.Count(head, string(a)), strings.Count(head, string(b)))
	})
}

// notSheets are the first bytes of what is often taken for a sheet.
var notSheets = []struct{ start, message string }{
	{"PK\x03\x04", "this is a workbook (such as .xlsx or .ods), not a sheet; save each of its sheets as CSV (UTF-8)"},
	{"\xd0\xcf\x11\xe0", "this is an old workbook (.xls), not a sheet; save each of its sheets as CSV (UTF-8)"},
	{"%PDF-", "this is a PDF file, not a sheet; save the sheet as CSV (UTF-8)"},
}

// decodeText turns what spreadsheets write into UTF-8 without a byte order
// mark, with lines that end in a line feed, and says what it changed, if that was
// a guess.
func decodeText(text string) (decoded, note string, err error) {
	for _, other := range notSheets {
		if strings.HasPrefix(text, other.start) {
			return "", "", errors.New(other.message)
		}
	}
	switch {
	case strings.HasPrefix(text, "\xff\xfe"), strings.HasPrefix(text, "\xfe\xff"), strings.HasPrefix(text, "\ufeff"):
		marked := unicode.BOMOverride(unicode.UTF8.NewDecoder())
		if text, _, err = transform.String(marked, text); err != nil {
			return "", "", errors.New("the sheet's text is broken; save it as CSV (UTF-8)")
		}
	case strings.Contains(text[:min(len(text), 4096)], "\x00"):
		return "", "", errors.New("the sheet holds zero bytes, as UTF-16 does without a byte order mark; save it as CSV (UTF-8)")
	case !utf8.ValidString(text):
		if text, err = charmap.Windows1252.NewDecoder().String(text); err != nil {
			return "", "", errors.New("the sheet is neither UTF-8 nor Windows-1252; save it as CSV (UTF-8)")
		}
		note = "the sheet is not UTF-8; it was read as Windows-1252"
	}
	if !strings.Contains(text, "\n") {
		text = strings.ReplaceAll(text, "\r", "\n")
	}
	return text, note, nil
}

// formula are the characters for which, at the beginning of a cell, a spreadsheet
// takes the cell for a formula, and the one that tells it not to.
const formula = "=+-@\t\r'"

// SafeCell puts ' before a text that a spreadsheet would take for a formula.
// Numbers are none.
func SafeCell(text string) string {
	if text == "" || !strings.ContainsRune(formula, rune(text[0])) {
		return text
	}
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		return text
	}
	return "'" + text
}

// unescaped takes back what SafeCell did.
func unescaped(cell string) string {
	rest, quoted := strings.CutPrefix(cell, "'")
	if quoted && rest != "" && strings.ContainsRune(formula, rune(rest[0])) {
		return rest
	}
	return cell
}
