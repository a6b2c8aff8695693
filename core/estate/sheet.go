package estate

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// SheetNames are the three spreadsheets, in the order in which they are read.
var SheetNames = []string{"sites", "links", "subnets"}

// Sheets are the texts of the three spreadsheets; an empty one is left out.
type Sheets struct {
	Sites   string `json:"sites,omitempty"`
	Links   string `json:"links,omitempty"`
	Subnets string `json:"subnets,omitempty"`
}

// A Mend replaces one cell before the sheets are read. Row counts as a
// spreadsheet does: the heading is row 1.
type Mend struct {
	Sheet  string `json:"sheet"`
	Row    int    `json:"row"`
	Column string `json:"column"`
	Value  string `json:"value"`
}

// A Remark is what reading a sheet has to say of one cell, one row (Column is
// empty) or the whole sheet (Row is 0).
type Remark struct {
	Sheet   string     `json:"sheet"`
	Row     int        `json:"row"`
	Column  string     `json:"column,omitempty"`
	Value   string     `json:"value,omitempty"`
	Kind    RemarkKind `json:"kind"`
	Message string     `json:"message"`
}

// RemarkKind sorts remarks by what follows from them.
type RemarkKind string

// A row with a Bad remark is left out of the estate; a Normalised one is taken
// with the change named; what an Ignored one names is not taken.
const (
	Bad        RemarkKind = "bad"
	Normalised RemarkKind = "normalised"
	Ignored    RemarkKind = "ignored"
)

// Reading is what the sheets come to.
type Reading struct {
	Estate *Estate      `json:"-"` // the base estate with the good rows in it
	Sheets []SheetCount `json:"sheets"`
	// Remarks in the order of the sheets, at most MaxRemarks of each sheet and
	// kind; Omitted counts the rest.
	Remarks []Remark `json:"remarks"`
	Omitted int      `json:"omitted"`
}

// MaxRemarks bounds how many remarks of one kind a sheet may produce.
const MaxRemarks = 500

// SheetCount counts the rows of one sheet by what becomes of them.
type SheetCount struct {
	Sheet   string `json:"sheet"`
	Rows    int    `json:"rows"`
	Bad     int    `json:"bad"`
	New     int    `json:"new"`
	Changed int    `json:"changed"`
	Same    int    `json:"same"`
}

// BadRows counts the rows left out.
func (r *Reading) BadRows() int {
	n := 0
	for _, s := range r.Sheets {
		n += s.Bad
	}
	return n
}

// ReadSheets reads the sheets over a base estate, which it does not change: a
// row whose key is already there updates that site, link or subnet, any other
// row adds one. Columns that a sheet lacks leave what was there.
func ReadSheets(base *Estate, sheets Sheets, mends []Mend) *Reading {
	r := &reader{estate: base.Clone(), mends: map[Mend]string{}, counts: map[string]int{}, drafted: map[string]int{}, subnets: map[string]map[netip.Prefix]int{}}
	for _, m := range mends {
		value := m.Value
		m.Value = ""
		r.mends[m] = value
	}
	r.index = r.estate.Index()
	r.sheet(siteSheet, sheets.Sites)
	r.sheet(linkSheet, sheets.Links)
	r.sheet(subnetSheet, sheets.Subnets)
	r.out.Estate = r.estate
	return &r.out
}

type reader struct {
	estate  *Estate
	index   map[string]int                  // site key → place in estate.Sites
	drafted map[string]int                  // site key → row of a bad site row
	subnets map[string]map[netip.Prefix]int // site key → prefix → place among its subnets
	mends   map[Mend]string
	counts  map[string]int // remarks per sheet and kind
	out     Reading
}

// subnetsOf tells where each prefix stands among a site's subnets; a sheet may
// give one site thousands.
func (r *reader) subnetsOf(s *Site) map[netip.Prefix]int {
	places := r.subnets[s.Key]
	if places == nil {
		places = make(map[netip.Prefix]int, len(s.Subnets))
		for i := range s.Subnets {
			places[s.Subnets[i].Prefix] = i
		}
		r.subnets[s.Key] = places
	}
	return places
}

func (r *reader) remark(m Remark) {
	id := m.Sheet + " " + string(m.Kind)
	if r.counts[id]++; r.counts[id] > MaxRemarks {
		r.out.Omitted++
		return
	}
	r.out.Remarks = append(r.out.Remarks, m)
}

// sheet reads one sheet. Its form says which columns it has and how a row
// becomes part of the estate.
func (r *reader) sheet(form sheetForm, text string) {
	name := form.name()
	if strings.TrimSpace(text) == "" {
		return
	}
	bad := func(row int, column, value, format string, args ...any) {
		r.remark(Remark{Sheet: name, Row: row, Column: column, Value: value, Kind: Bad, Message: fmt.Sprintf(format, args...)})
	}
	text, recoded := decodeText(text)
	if recoded != "" {
		r.remark(Remark{Sheet: name, Kind: Normalised, Message: recoded})
	}
	rows := csv.NewReader(strings.NewReader(text))
	rows.Comma = delimiter(text)
	rows.FieldsPerRecord = -1
	rows.ReuseRecord = true

	count := SheetCount{Sheet: name}
	defer func() { r.out.Sheets = append(r.out.Sheets, count) }()
	var heads []string
	first := map[string]int{}  // row identity → row in which it came first
	cells := map[string]cell{} // reused for each row
	for line := 1; ; line++ {
		record, err := rows.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			var parse *csv.ParseError
			where := line
			if errors.As(err, &parse) {
				where = parse.StartLine
			}
			count.Rows, count.Bad = count.Rows+1, count.Bad+1
			bad(where, "", "", "the quotes of this row do not match; a quote inside a quoted cell is written twice")
			continue
		}
		at, _ := rows.FieldPos(0)
		if heads == nil {
			if heads = r.heads(form, record, at); heads == nil {
				return
			}
			continue
		}
		if !slices.ContainsFunc(record, func(c string) bool { return strings.TrimSpace(c) != "" }) {
			continue
		}
		count.Rows++
		if len(record) > len(heads) && slices.ContainsFunc(record[len(heads):], func(c string) bool { return c != "" }) {
			count.Bad++
			bad(at, "", strings.Join(record, " "), "the row has %d cells, the heading only %d; quote cells that contain the separator", len(record), len(heads))
			continue
		}
		clear(cells)
		for i, head := range heads {
			if head == "" {
				continue
			}
			given := ""
			if i < len(record) {
				given = record[i]
			}
			if mended, ok := r.mends[Mend{Sheet: name, Row: at, Column: head}]; ok {
				given = mended
			}
			cells[head] = cell{given: given, text: strings.TrimSpace(strings.ReplaceAll(given, "\u00a0", " "))}
		}
		row := sheetRow{reader: r, sheet: name, number: at, cells: cells, first: first}
		switch form.take(&row) {
		case takenNew:
			count.New++
		case takenChanged:
			count.Changed++
		case takenSame:
			count.Same++
		default:
			count.Bad++
		}
	}
	if heads == nil {
		bad(0, "", "", "the sheet has no heading; its first row must name the columns: %s", strings.Join(form.columns(), ", "))
	}
}

// heads matches the heading row with the form's columns. It returns the column
// name for each cell, empty for ignored ones, or nil when the sheet cannot be
// read.
func (r *reader) heads(form sheetForm, record []string, at int) []string {
	name, known := form.name(), form.columns()
	heads := make([]string, len(record))
	for i, given := range record {
		head := strings.ToLower(strings.TrimSpace(given))
		head = strings.NewReplacer(" ", "_", "-", "_", "\u00a0", "_").Replace(head)
		switch {
		case head == "":
		case slices.Contains(heads, head):
			r.remark(Remark{Sheet: name, Row: at, Column: head, Kind: Bad, Message: "the column stands twice; remove one"})
			return nil
		case !slices.Contains(known, head):
			r.remark(Remark{Sheet: name, Row: at, Column: strings.Clone(given), Kind: Ignored, Message: "unknown column, not read; known: " + strings.Join(known, ", ")})
		default:
			heads[i] = strings.Clone(head)
		}
	}
	missing := slices.DeleteFunc(slices.Clone(form.needs()), func(c string) bool { return slices.Contains(heads, c) })
	if len(missing) > 0 {
		r.remark(Remark{Sheet: name, Row: at, Kind: Bad, Message: fmt.Sprintf(
			"the heading lacks the column %s, so no row can be read; is this the %s sheet?", strings.Join(missing, " and "), name)})
		return nil
	}
	return heads
}

// decodeText turns what spreadsheets write into UTF-8 without a byte order
// mark and says what it changed, if that was a guess.
func decodeText(text string) (string, string) {
	switch {
	case strings.HasPrefix(text, "\ufeff"):
		return text[len("\ufeff"):], ""
	case strings.HasPrefix(text, "\xff\xfe"), strings.HasPrefix(text, "\xfe\xff"):
		low := 0
		if text[0] == 0xfe {
			low = 1
		}
		units := make([]uint16, 0, len(text)/2)
		for i := 2; i+1 < len(text); i += 2 {
			units = append(units, uint16(text[i+low])|uint16(text[i+1-low])<<8)
		}
		return string(utf16.Decode(units)), ""
	case !utf8.ValidString(text):
		runes := make([]rune, len(text))
		for i := range len(text) {
			runes[i] = rune(text[i])
		}
		return string(runes), "the sheet is not UTF-8; it was read as Latin-1"
	}
	return text, ""
}

// delimiter finds what separates the cells of the heading: comma, semicolon,
// or tab (rows pasted from a spreadsheet).
func delimiter(text string) rune {
	head, _, _ := strings.Cut(strings.TrimLeft(text, "\r\n "), "\n")
	return slices.MaxFunc([]rune{';', '\t', ','}, func(a, b rune) int {
		return cmp.Compare(strings.Count(head, string(a)), strings.Count(head, string(b)))
	})
}

// Clone returns a deep copy of everything an edit may change. Allocations are
// shared; they are replaced as a whole.
func (e *Estate) Clone() *Estate {
	c := *e
	c.About.Regions = slices.Clone(e.About.Regions)
	c.About.Underlays = slices.Clone(e.About.Underlays)
	c.About.Reserved = slices.Clone(e.About.Reserved)
	c.Sites = make([]Site, len(e.Sites))
	for i := range e.Sites {
		c.Sites[i] = e.Sites[i]
		c.Sites[i].Links = slices.Clone(e.Sites[i].Links)
		c.Sites[i].Subnets = slices.Clone(e.Sites[i].Subnets)
	}
	c.Overlays = slices.Clone(e.Overlays)
	return &c
}

// WriteSheets returns the three sheets of an estate as RFC 4180 CSV.
func WriteSheets(e *Estate) Sheets {
	write := func(form sheetForm, rows func(put func(from any))) string {
		var out bytes.Buffer
		w := csv.NewWriter(&out)
		columns := form.columns()
		_ = w.Write(columns) // a bytes.Buffer takes every write
		rows(func(from any) { _ = w.Write(form.put(from)) })
		w.Flush()
		return out.String()
	}
	return Sheets{
		Sites: write(siteSheet, func(put func(any)) {
			for i := range e.Sites {
				put(&siteRow{&e.Sites[i]})
			}
		}),
		Links: write(linkSheet, func(put func(any)) {
			for i := range e.Sites {
				for j := range e.Sites[i].Links {
					put(&linkRow{e.Sites[i].Key, &e.Sites[i].Links[j]})
				}
			}
		}),
		Subnets: write(subnetSheet, func(put func(any)) {
			for i := range e.Sites {
				for j := range e.Sites[i].Subnets {
					put(&subnetRow{e.Sites[i].Key, &e.Sites[i].Subnets[j]})
				}
			}
		}),
	}
}
