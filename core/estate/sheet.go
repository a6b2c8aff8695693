package estate

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
)

// SheetNames are the three spreadsheets, in the order in which they are read.
var SheetNames = []string{"sites", "links", "subnets"}

// Sheets are the texts of the three spreadsheets; an empty one is left out.
type Sheets struct {
	Sites   string `json:"sites,omitempty"`
	Links   string `json:"links,omitempty"`
	Subnets string `json:"subnets,omitempty"`
}

// A Fix replaces one cell before the sheets are read. Row counts as a
// spreadsheet does: the heading is row 1.
type Fix struct {
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
	// Unread says that no row could be read at all, as the sheet is no sheet, or
	// its heading none; a remark says why.
	Unread bool `json:"unread"`
}

// BadRows counts the rows left out.
func (r *Reading) BadRows() int {
	n := 0
	for _, s := range r.Sheets {
		n += s.Bad
	}
	return n
}

// Unread lists the sheets of which no row could be read.
func (r *Reading) Unread() []string {
	var out []string
	for _, s := range r.Sheets {
		if s.Unread {
			out = append(out, s.Sheet)
		}
	}
	return out
}

// ReadSheets reads the sheets over a base estate, which it does not change: a
// row whose key is already there updates that site, link or subnet, any other
// row adds one. Columns that a sheet lacks leave what was there.
func ReadSheets(base *Estate, sheets Sheets, fixes []Fix) *Reading {
	r := &reader{estate: base.Clone(), fixes: map[Fix]string{}, counts: map[string]int{}, drafted: map[string]int{}, subnets: map[string]map[netip.Prefix]int{}}
	for _, m := range fixes {
		value := m.Value
		m.Value = ""
		r.fixes[m] = value
	}
	r.index = r.estate.Index()
	r.regions, r.overlays = map[string]bool{}, map[string]bool{}
	for _, region := range r.estate.About.Regions {
		r.regions[region.Key] = true
	}
	for i := range r.estate.Overlays {
		r.overlays[r.estate.Overlays[i].Key] = true
	}
	r.sheet(siteSheet, sheets.Sites)
	r.sheet(linkSheet, sheets.Links)
	r.sheet(subnetSheet, sheets.Subnets)
	r.out.Estate = r.estate
	return &r.out
}

type reader struct {
	estate            *Estate
	index             map[string]int                  // site key → place in estate.Sites
	drafted           map[string]int                  // site key → row of a bad site row
	subnets           map[string]map[netip.Prefix]int // site key → prefix → place among its subnets
	fixes             map[Fix]string
	regions, overlays map[string]bool // keys that are there
	counts            map[string]int  // remarks per sheet and kind
	out               Reading
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

// Bounds of a sheet.
const (
	mostColumns = 200
	mostRows    = 200_000
	headWithin  = 10 // rows in which a heading is looked for, to say where it is
)

// sheet reads one sheet. Its form says which columns it has and how a row
// becomes part of the estate.
// Long because each way in which a row can be unreadable ends it in its own way.
func (r *reader) sheet(form sheetForm, text string) {
	name := form.name()
	if text == "" {
		return
	}
	count := SheetCount{Sheet: name}
	defer func() { r.out.Sheets = append(r.out.Sheets, count) }()
	unread := func(row int, format string, args ...any) {
		count.Unread = true
		r.remark(Remark{Sheet: name, Row: row, Kind: Bad, Message: fmt.Sprintf(format, args...)})
	}
	text, recoded, err := decodeText(text)
	if err != nil {
		unread(0, "%v", err)
		return
	}
	if recoded != "" {
		r.remark(Remark{Sheet: name, Kind: Normalised, Message: recoded})
	}
	expected := "expected a heading with the columns " + strings.Join(form.columns(), ", ")
	if strings.TrimSpace(text) == "" {
		unread(0, "the sheet is empty; %s", expected)
		return
	}
	rows := newRows(text)
	heads, at := r.heading(form, rows)
	if heads == nil {
		if at > 0 {
			unread(at, "row %d is no heading of the %s sheet; %s", at, name, expected)
		}
		count.Unread = true
		return
	}
	first := map[string]int{}  // row identity → row in which it came first
	cells := map[string]cell{} // reused for each row
	for {
		record, at, err := rows.next()
		if err == io.EOF {
			return
		}
		bad := func(value, format string, args ...any) {
			count.Rows, count.Bad = count.Rows+1, count.Bad+1
			r.remark(Remark{Sheet: name, Row: at, Value: value, Kind: Bad, Message: fmt.Sprintf(format, args...)})
		}
		switch {
		case err != nil:
			bad("", "the quotes of this row do not match; a quote inside a quoted cell is written twice")
			continue
		case blank(record):
			continue
		case count.Rows >= mostRows:
			bad("", "a sheet has at most %d rows; this one and what follows was not read", mostRows)
			return
		case len(record) > len(heads) && !blank(record[len(heads):]):
			bad(brief(strings.Join(record, " ")), "the row has %d cells, the heading only %d; quote cells that contain the separator", len(record), len(heads))
			continue
		}
		count.Rows++
		clear(cells)
		for i, head := range heads {
			if head == "" {
				continue
			}
			given := ""
			if i < len(record) {
				given = unescaped(record[i])
			}
			if fixed, ok := r.fixes[Fix{Sheet: name, Row: at, Column: head}]; ok {
				given = fixed
			}
			cells[head] = cell{given: given, text: strings.TrimSpace(strings.ReplaceAll(given, "\u00a0", " ")), commas: rows.separator == ';'}
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
}

func blank(record []string) bool {
	return !slices.ContainsFunc(record, func(c string) bool { return strings.TrimSpace(c) != "" })
}

// heading reads rows up to the heading and matches it with the form's columns.
// It returns the column name for each cell, empty for ignored ones. When the
// sheet cannot be read, heads is nil, and row, unless it is 0, has no heading and
// nothing was said of it yet.
func (r *reader) heading(form sheetForm, rows *csvRows) (heads []string, row int) {
	name := form.name()
	remark := func(row int, column string, kind RemarkKind, format string, args ...any) {
		r.remark(Remark{Sheet: name, Row: row, Column: brief(column), Kind: kind, Message: fmt.Sprintf(format, args...)})
	}
	for range headWithin {
		record, at, err := rows.next()
		if err == io.EOF {
			return nil, row
		}
		if err != nil || blank(record) {
			continue
		}
		found := headsOf(form, record)
		known := len(record) <= mostColumns && slices.ContainsFunc(found, func(h string) bool { return h != "" })
		if row == 0 && len(record) > mostColumns {
			remark(at, "", Bad, "the heading has %d columns; the most is %d, and %d are known here", len(record), mostColumns, len(form.columns()))
			return nil, 0
		}
		if !known {
			row = cmp.Or(row, at)
			continue
		}
		if row > 0 { // a title above it
			remark(row, "", Bad, "row %d is no heading of the %s sheet, but row %d looks like it: remove the rows above it", row, name, at)
			return nil, 0
		}
		missing := slices.DeleteFunc(slices.Clone(form.needs()), func(c string) bool { return slices.Contains(found, c) })
		if len(missing) > 0 {
			remark(at, "", Bad, "the heading lacks the column %s, so no row can be read; is this the %s sheet? Found: %s",
				strings.Join(missing, " and "), name, brief(strings.Join(record, ", ")))
			return nil, 0
		}
		for i, h := range found {
			switch {
			case h == "" && strings.TrimSpace(record[i]) != "":
				remark(at, strings.Clone(record[i]), Ignored, "unknown column, not read; known: %s", strings.Join(form.columns(), ", "))
			case h != "" && slices.Index(found, h) < i:
				remark(at, h, Bad, "the column is there twice, as column %d and %d; remove one", slices.Index(found, h)+1, i+1)
				return nil, 0
			}
		}
		return found, at
	}
	return nil, row
}

// headsOf returns the form's column for each cell, empty where it has none.
func headsOf(form sheetForm, record []string) []string {
	known := form.columns()
	heads := make([]string, len(record))
	for i, given := range record {
		head := strings.NewReplacer(" ", "_", "-", "_", "\u00a0", "_").Replace(strings.ToLower(strings.TrimSpace(given)))
		if slices.Contains(known, head) {
			heads[i] = strings.Clone(head)
		}
	}
	return heads
}

// WriteSheets returns the three sheets of an estate as RFC 4180 CSV.
func WriteSheets(e *Estate) Sheets {
	write := func(form sheetForm, rows func(put func(from any))) string {
		var out bytes.Buffer
		w := csv.NewWriter(&out)
		columns := form.columns()
		_ = w.Write(columns) // a bytes.Buffer takes every write
		rows(func(from any) {
			cells := form.put(from)
			for i := range cells {
				cells[i] = SafeCell(cells[i])
			}
			_ = w.Write(cells)
		})
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
