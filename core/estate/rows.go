package estate

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"
)

// A sheetForm is what tells the three sheets apart.
type sheetForm interface {
	name() string
	columns() []string
	needs() []string          // columns without which no row can be read
	put(from any) []string    // one row of the sheet, for writing
	take(row *sheetRow) taken // one row into the estate
}

type taken int

const (
	takenNot taken = iota // the row is bad and was left out
	takenNew
	takenChanged
	takenSame
)

// A sheetRow is one row on its way into the estate.
type sheetRow struct {
	reader *reader
	sheet  string
	number int
	cells  map[string]cell
	first  map[string]int
	bad    bool
}

func (row *sheetRow) fail(column, format string, args ...any) {
	row.bad = true
	row.reader.remark(Remark{Sheet: row.sheet, Row: row.number, Column: column, Value: strings.Clone(brief(row.cells[column].given)), Kind: Bad, Message: fmt.Sprintf(format, args...)})
}

func (row *sheetRow) note(column, message string) {
	row.reader.remark(Remark{Sheet: row.sheet, Row: row.number, Column: column, Value: strings.Clone(brief(row.cells[column].given)), Kind: Normalised, Message: message})
}

// once refuses a second row of the same identity. A bad row is nobody's double.
func (row *sheetRow) once(column, identity string) {
	if row.bad {
		return
	}
	if earlier, ok := row.first[identity]; ok {
		row.fail(column, "%s is in row %d already; remove one of the two", identity, earlier)
		return
	}
	row.first[identity] = row.number
}

// room refuses what an estate has no room for.
func (row *sheetRow) room(column, what string, has, most int) bool {
	if has >= most {
		row.fail(column, "there are %d %s already, the most there may be", has, what)
	}
	return has < most
}

// most returns the cap of a list of the document, by its owner and field.
func most[T any](field string) int {
	f, _ := reflect.TypeFor[T]().FieldByName(field)
	return mostOf(f)[0]
}

var (
	mostSites    = most[Estate]("Sites")
	mostOverlays = most[Estate]("Overlays")
	mostRegions  = most[About]("Regions")
	mostLinks    = most[Site]("Links")
	mostSubnets  = most[Site]("Subnets")
)

// fill reads the row's cells in the order of the columns.
func fill[T any](row *sheetRow, columns []column[T], into *T) {
	for _, c := range columns {
		value, ok := row.cells[c.name]
		if !ok {
			continue
		}
		value.text = strings.Clone(value.text) // not a slice of the whole sheet
		if err := c.set(into, &value); err != nil {
			row.fail(c.name, "%v", err)
			continue
		}
		switch {
		case value.note != "":
			row.note(c.name, value.note)
		case value.text != value.given:
			row.note(c.name, fmt.Sprintf("space around %q was removed", value.text))
		}
	}
}

var lastName = regexp.MustCompile(`([a-z_]+)(\[\d+\])?$`)

// refuse turns what validation says into remarks on the row's cells, whose
// columns have the names of the document.
func (row *sheetRow) refuse(problems []Problem) {
	for _, p := range problems {
		column := ""
		if m := lastName.FindStringSubmatch(p.Path); m != nil {
			column = m[1]
		}
		row.fail(column, "%s", p.Message)
	}
}

func names[T any](columns []column[T]) []string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = c.name
	}
	return out
}

func cellsOf[T any](columns []column[T], from any) []string {
	row := from.(*T)
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = c.get(row)
	}
	return out
}

type siteForm struct{}
type linkForm struct{}
type subnetForm struct{}

var (
	siteSheet   siteForm
	linkSheet   linkForm
	subnetSheet subnetForm
)

func (siteForm) name() string            { return "sites" }
func (siteForm) columns() []string       { return names(siteColumns) }
func (siteForm) needs() []string         { return []string{"key"} }
func (siteForm) put(from any) []string   { return cellsOf(siteColumns, from) }
func (linkForm) name() string            { return "links" }
func (linkForm) columns() []string       { return names(linkColumns) }
func (linkForm) needs() []string         { return []string{"site", "key"} }
func (linkForm) put(from any) []string   { return cellsOf(linkColumns, from) }
func (subnetForm) name() string          { return "subnets" }
func (subnetForm) columns() []string     { return names(subnetColumns) }
func (subnetForm) needs() []string       { return []string{"site", "prefix"} }
func (subnetForm) put(from any) []string { return cellsOf(subnetColumns, from) }

func (siteForm) take(row *sheetRow) taken {
	r := row.reader
	key := siteRow{&Site{}}
	c := row.cells["key"]
	if err := setKey(&key.Key, &c); err == nil && key.Key == "" {
		row.fail("key", "expected the site's key")
		return takenNot
	}
	place, known := r.index[key.Key]
	site := Site{Key: key.Key}
	if known {
		site = r.estate.Sites[place]
	}
	fill(row, siteColumns, &siteRow{&site})
	newRegion := site.Region != "" && !r.regions[site.Region]
	if !row.bad {
		v := validator{}
		v.limits("", reflect.ValueOf(site.Gateway), nil)
		v.name("name", site.Name)
		v.between("demand_mbps", "demand", site.DemandMbps, 0, 1e6)
		v.gateway("gateway", &site.Gateway)
		row.refuse(v.problems.list)
	}
	if !known {
		row.room("key", "sites", len(r.estate.Sites), mostSites)
	}
	if newRegion {
		row.room("region", "regions", len(r.estate.About.Regions), mostRegions)
	}
	row.once("key", "site "+site.Key)
	if row.bad {
		r.drafted[site.Key] = row.number
		return takenNot
	}
	if newRegion {
		r.estate.About.Regions, r.regions[site.Region] = append(r.estate.About.Regions, Region{Key: site.Region}), true
		row.note("region", fmt.Sprintf("region %s is new and will be made", site.Region))
	}
	if site.Name == "" {
		site.Name = site.Key
	}
	if !known {
		r.index[site.Key] = len(r.estate.Sites)
		r.estate.Sites = append(r.estate.Sites, site)
		return takenNew
	}
	same := reflect.DeepEqual(r.estate.Sites[place], site)
	r.estate.Sites[place] = site
	return changedUnless(same)
}

func changedUnless(same bool) taken {
	if same {
		return takenSame
	}
	return takenChanged
}

// site finds the site that a link or subnet row names.
func (row *sheetRow) site() *Site {
	var key string
	c := row.cells["site"]
	if err := setKey(&key, &c); err != nil {
		row.fail("site", "%v", err)
		return nil
	}
	if place, ok := row.reader.index[key]; ok {
		return &row.reader.estate.Sites[place]
	}
	if at, ok := row.reader.drafted[key]; ok {
		row.fail("site", "site %q has an error in row %d of the sites sheet", key, at)
	} else {
		row.fail("site", "there is no site %q, neither in the estate nor in the sites sheet", key)
	}
	return nil
}

func (linkForm) take(row *sheetRow) taken {
	site := row.site()
	if site == nil {
		return takenNot
	}
	var key string
	c := row.cells["key"]
	if err := setKey(&key, &c); err == nil && key == "" {
		row.fail("key", "expected the link's key")
		return takenNot
	}
	at := slices.IndexFunc(site.Links, func(l Link) bool { return l.Key == key })
	link := Link{Key: key}
	if at >= 0 {
		link = site.Links[at]
	}
	fill(row, linkColumns, &linkRow{"", &link})
	if !row.bad {
		v := validator{}
		v.limits("", reflect.ValueOf(link), nil)
		v.link("", &link)
		row.refuse(v.problems.list)
	}
	if at < 0 {
		row.room("key", "links at "+site.Key, len(site.Links), mostLinks)
	}
	row.once("key", "link "+site.Key+"/"+key)
	if row.bad {
		return takenNot
	}
	if at < 0 {
		site.Links = append(site.Links, link)
		return takenNew
	}
	same := reflect.DeepEqual(site.Links[at], link)
	site.Links[at] = link
	return changedUnless(same)
}

func (subnetForm) take(row *sheetRow) taken {
	r := row.reader
	site := row.site()
	if site == nil {
		return takenNot
	}
	var key Subnet
	c := row.cells["prefix"]
	if err := setPrefix(&key.Prefix, &c); err == nil && !key.Prefix.IsValid() {
		row.fail("prefix", "expected the subnet's prefix, such as 10.16.4.0/24")
		return takenNot
	}
	places := r.subnetsOf(site)
	at, known := places[key.Prefix]
	subnet := key
	if known {
		subnet = site.Subnets[at]
	}
	fill(row, subnetColumns, &subnetRow{"", &subnet})
	v := validator{}
	v.limits("", reflect.ValueOf(subnet), nil)
	v.name("name", subnet.Name)
	row.refuse(v.problems.list)
	if subnet.Map.IsValid() && subnet.Prefix.IsValid() && (subnet.Map.Bits() != subnet.Prefix.Bits() || subnet.Map.Addr().Is4() != subnet.Prefix.Addr().Is4()) {
		row.fail("map", "a 1:1 map of %s needs the same family and length", subnet.Prefix)
	}
	var overlays []string // that are new
	for _, key := range subnet.Share {
		if trouble := keyTrouble(key); trouble != "" {
			row.fail("share", "%q cannot be an overlay key: %s", brief(key), trouble)
		} else if !r.overlays[key] {
			overlays = append(overlays, key)
		}
	}
	if n := len(overlays); n > 0 {
		row.room("share", "overlays", len(r.estate.Overlays)+n-1, mostOverlays)
	}
	if !known {
		row.room("prefix", "subnets at "+site.Key, len(site.Subnets), mostSubnets)
	}
	row.once("prefix", "subnet "+prefixText(subnet.Prefix)+" of "+site.Key)
	if row.bad {
		return takenNot
	}
	for _, key := range overlays {
		r.estate.Overlays, r.overlays[key] = append(r.estate.Overlays, Overlay{Key: key, Shape: HubAndSpoke}), true
		row.note("share", fmt.Sprintf("overlay %s is new and will be made, empty: choose its hubs in Shape", key))
	}
	if !known {
		places[subnet.Prefix] = len(site.Subnets)
		site.Subnets = append(site.Subnets, subnet)
		return takenNew
	}
	same := reflect.DeepEqual(site.Subnets[at], subnet)
	site.Subnets[at] = subnet
	return changedUnless(same)
}
