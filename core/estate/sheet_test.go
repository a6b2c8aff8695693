package estate

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
)

func empty() *Estate { return &Estate{Format: Format, About: About{Name: "E"}} }

const (
	siteText   = "key,name,region\ntarnhollow,Tarn Hollow,north\n"
	linkText   = "site,key,reach,addresses\ntarnhollow,fibre,static,203.0.113.14\n"
	subnetText = "site,prefix,zone\ntarnhollow,10.16.4.0/24,control\n"
)

func TestReadSheetsRemarks(t *testing.T) {
	for _, c := range []struct {
		name   string
		sheets Sheets
		want   string // "sheet row column kind: message part", comma after each
	}{
		{"clean", Sheets{siteText, linkText, subnetText}, "sites 2 region normalised: new"},
		{"host bits", Sheets{siteText, "", "site,prefix\ntarnhollow,10.16.4.9/24\n"}, "sites 2 region normalised: new|subnets 2 prefix normalised: host bits"},
		{"case and space in keys", Sheets{Sites: "key\nTarn Hollow\n"}, "sites 2 key normalised: became tarn-hollow"},
		{"space around", Sheets{Sites: "key,name\nt, Tarn \n"}, "sites 2 name normalised: space"},
		{"no-break space", Sheets{Sites: "key,name\nt,\u00a0Tarn\n"}, "sites 2 name normalised: space"},
		{"bad prefix", Sheets{siteText, "", "site,prefix\ntarnhollow,10.16.4.0/240\n"}, "sites 2 region normalised: new|subnets 2 prefix bad: not an IPv4"},
		{"bare address", Sheets{siteText, "", "site,prefix\ntarnhollow,10.16.4.0\n"}, "sites 2 region normalised: new|subnets 2 prefix bad: no length"},
		{"bad reach", Sheets{siteText, "site,key,reach\ntarnhollow,fibre,maybe\n", ""}, "sites 2 region normalised: new|links 2 reach bad: not one of static, dynamic, forwarded, nat"},
		{"reach in capitals", Sheets{siteText, "site,key,reach\ntarnhollow,fibre,NAT\n", ""}, "sites 2 region normalised: new|links 2 reach normalised: became nat"},
		{"bad number", Sheets{Sites: "key,demand_mbps\nt,40 Mbit\n"}, "sites 2 demand_mbps bad: expected a number"},
		{"decimal comma", Sheets{Sites: "key;demand_mbps\nt;4,5\n"}, "sites 2 demand_mbps normalised: read as 4.5"},
		{"no finite number", Sheets{Sites: "key,demand_mbps\nt,inf\nu,NaN\nv,1e999\n"}, "sites 2 demand_mbps bad: number|sites 3 demand_mbps bad: number|sites 4 demand_mbps bad: number"},
		{"a number for machines", Sheets{Sites: "key,demand_mbps\nt,0x10\nu,1_000\n"}, "sites 2 demand_mbps bad: number|sites 3 demand_mbps bad: number"},
		{"demand below 0", Sheets{Sites: "key,demand_mbps\nt,-1\n"}, "sites 2 demand_mbps bad: outside"},
		{"number outside its range", Sheets{Sites: "key,max_tunnels\nt,-4\n"}, "sites 2 max_tunnels bad: outside"},
		{"dangling site", Sheets{Links: "site,key,reach\nnowhere,fibre,nat\n"}, `links 2 site bad: no site "nowhere"`},
		{"site whose own row is bad", Sheets{"key,demand_mbps\nt,x\n", "site,key,reach\nt,fibre,nat\n", ""}, `sites 2 demand_mbps bad: number|links 2 site bad: error in row 2`},
		{"duplicate row", Sheets{Sites: "key\nt\nu\nt\n"}, "sites 4 key bad: is in row 2 already"},
		{"static without address", Sheets{siteText, "site,key,reach\ntarnhollow,fibre,static\n", ""}, "sites 2 region normalised: new|links 2 addresses bad: fixed address"},
		{"unknown column", Sheets{Sites: "key,colour\nt,red\n"}, "sites 1 colour ignored: unknown column"},
		{"missing column", Sheets{Links: "key,reach\nfibre,nat\n"}, "links 1  bad: lacks the column site"},
		{"column twice", Sheets{Sites: "key,name,Name\nt,a,b\n"}, "sites 1 name bad: there twice, as column 2 and 3"},
		{"too many cells", Sheets{Sites: "key,name\nt,a,b\n"}, "sites 2  bad: 3 cells"},
		{"broken quotes", Sheets{Sites: "key,name\nt,\"a\nu,b\n"}, "sites 2  bad: quotes"},
		{"only space", Sheets{Sites: " \n "}, "sites 0  bad: the sheet is empty"},
		{"a workbook", Sheets{Sites: "PK\x03\x04\x14\x00\x06\x00"}, "sites 0  bad: a workbook"},
		{"an old workbook", Sheets{Sites: "\xd0\xcf\x11\xe0\xa1\xb1"}, "sites 0  bad: an old workbook"},
		{"UTF-16 without mark", Sheets{Sites: "k\x00e\x00y\x00\n\x00t\x00\n\x00"}, "sites 0  bad: UTF-16"},
		{"a title above the heading", Sheets{Sites: "Our sites,\n\nkey,name\nt,Tarn\n"}, "sites 1  bad: row 3 looks like it"},
		{"no heading at all", Sheets{Sites: "t,Tarn\nu,Under\n"}, "sites 1  bad: no heading"},
		{"a heading of another language", Sheets{Sites: "Standort,Bezeichnung\nt,Tarn\n"}, "sites 1  bad: no heading"},
		{"another sheet's heading", Sheets{Links: "key,name,region\nt,Tarn,north\n"}, "links 1  bad: lacks the column site"},
		{"too many columns", Sheets{Sites: "key" + strings.Repeat(",x", 300) + "\nt\n"}, "sites 1  bad: 301 columns"},
		{"two bad rows are no doubles", Sheets{Sites: "key,demand_mbps\nt,x\nt,y\nt,4\n"}, "sites 2 demand_mbps bad: number|sites 3 demand_mbps bad: number"},
		{"rows after a cell of several lines", Sheets{Sites: "key,name,demand_mbps\nt,\"Tarn\nHollow\nWorks\",4\nu,Under,x\n\nv,Over,y\n"},
			"sites 2 name bad: cannot be seen|sites 3 demand_mbps bad: number|sites 5 demand_mbps bad: number"},
		{"a turning character", Sheets{Sites: "key,name\nt,Tarn\u202eworks\n"}, "sites 2 name bad: cannot be seen"},
		{"a line end in a subnet's name", Sheets{siteText, "", "site,prefix,name\ntarnhollow,10.0.0.0/24,\"a\nb\"\n"}, "sites 2 region normalised: new|subnets 2 name bad: cannot be seen"},
		{"keys that are options or devices", Sheets{Sites: "key\n-rf\n--\ncon\nLPT1\n"}, "sites 2 key bad: not beginning with -|sites 3 key bad: not beginning|sites 4 key bad: device|sites 5 key bad: device"},
		{"an address with a zone", Sheets{siteText, "site,key,reach,outside,next_hop\ntarnhollow,dsl,forwarded,fe80::1%lo,fe80::1%x\n", ""}, "sites 2 region normalised: new|links 2 outside bad: zone|links 2 next_hop bad: zone"},
		{"mask in place of the length", Sheets{siteText, "", "site,prefix\ntarnhollow,10.16.4.0 255.255.255.0\n"}, "sites 2 region normalised: new|subnets 2 prefix normalised: became 10.16.4.0/24"},
		{"a range that is a prefix", Sheets{siteText, "", "site,prefix\ntarnhollow,10.16.4.0-10.16.4.255\n"}, "sites 2 region normalised: new|subnets 2 prefix normalised: is 10.16.4.0/24"},
		{"a range that is none", Sheets{siteText, "", "site,prefix\ntarnhollow,10.16.4.0-10.16.6.255\n"}, "sites 2 region normalised: new|subnets 2 prefix bad: covered by 10.16.4.0/23, 10.16.6.0/24"},
		{"thousands with commas", Sheets{Sites: "key\tdemand_mbps\nt\t1,500\n"}, "sites 2 demand_mbps normalised: read as 1500"},
		{"thousands with spaces", Sheets{Sites: "key,demand_mbps,max_tunnels\nt,1 500,2\u00a0000\n"}, "sites 2 demand_mbps normalised: read as 1500|sites 2 max_tunnels normalised: read as 2000"},
		{"thousands with points", Sheets{Sites: "key;demand_mbps\nt;1.500,5\n"}, "sites 2 demand_mbps normalised: read as 1500.5"},
		{"a decimal comma with three digits", Sheets{Sites: "key;clock_skew_s\nt;1,125\n"}, "sites 2 clock_skew_s normalised: read as 1.125"},
		{"a point that may be either", Sheets{Sites: "key;demand_mbps\nt;1.500\n"}, "sites 2 demand_mbps bad: 1500 or 1.5"},
		{"a cell that is a formula", Sheets{Sites: "key,name\nt,'=1+1\n"}, ""},
		{"overlay that is not there yet", Sheets{siteText, "", "site,prefix,share\ntarnhollow,10.0.0.0/24,ops\n"}, "sites 2 region normalised: new|subnets 2 share normalised: overlay ops is new"},
		{"list with commas", Sheets{siteText, "", "site;prefix;share\ntarnhollow;10.0.0.0/24;ops,works\n"}, "sites 2 region normalised: new|subnets 2 share normalised: overlay ops|subnets 2 share normalised: overlay works|subnets 2 share normalised: list ops works"},
		{"Windows-1252", Sheets{Sites: "key,name\nt,K\xf6ln \x96 S\xfcd\n"}, "sites 0  normalised: Windows-1252"},
	} {
		var want []string
		if c.want != "" {
			want = strings.Split(c.want, "|")
		}
		reading := ReadSheets(empty(), c.sheets, nil)
		var got []string
		for _, r := range reading.Remarks {
			got = append(got, fmt.Sprintf("%s %d %s %s: %s", r.Sheet, r.Row, r.Column, r.Kind, r.Message))
		}
		if len(got) != len(want) {
			t.Errorf("%s: remarks %q, want %q", c.name, got, want)
			continue
		}
		for _, w := range want {
			head, part, _ := strings.Cut(w, ": ")
			if !slices.ContainsFunc(got, func(g string) bool { return strings.HasPrefix(g, head+": ") && strings.Contains(g, part) }) {
				t.Errorf("%s: no remark %q among %q", c.name, w, got)
			}
		}
	}
}

func TestSheetsInEveryDress(t *testing.T) {
	for name, text := range map[string]string{
		"plain":         "key,name\nt,Tarn\nu,Under\n",
		"BOM":           "\ufeffkey,name\nt,Tarn\nu,Under\n",
		"CRLF":          "key,name\r\nt,Tarn\r\nu,Under\r\n",
		"semicolons":    "key;name\nt;Tarn\nu;Under\n",
		"tabs":          "key\tname\nt\tTarn\nu\tUnder\n",
		"quoted":        "\"key\",\"name\"\n\"t\",\"Tarn\"\n\"u\",\"Under\"\n",
		"UTF-16":        "\xff\xfek\x00e\x00y\x00\t\x00n\x00a\x00m\x00e\x00\n\x00t\x00\t\x00T\x00a\x00r\x00n\x00\n\x00u\x00\t\x00U\x00n\x00d\x00e\x00r\x00\n\x00",
		"capitals":      "Key,Name\nt,Tarn\nu,Under\n",
		"blank rows":    "\nkey,name\n\nt,Tarn\n,\nu,Under\n\n",
		"no newline":    "key,name\nt,Tarn\nu,Under",
		"old line ends": "key,name\rt,Tarn\ru,Under\r",
	} {
		r := ReadSheets(empty(), Sheets{Sites: text}, nil)
		if len(r.Estate.Sites) != 2 || r.Estate.Sites[0].Name != "Tarn" || r.Estate.Sites[1].Key != "u" || r.BadRows() > 0 {
			t.Errorf("%s: %+v, %+v", name, r.Estate.Sites, r.Remarks)
		}
	}
}

func TestImportingAgainUpdatesByKey(t *testing.T) {
	first := ReadSheets(empty(), Sheets{siteText, linkText, subnetText}, nil)
	again := ReadSheets(first.Estate, Sheets{siteText, linkText, subnetText}, nil)
	for _, s := range again.Sheets {
		if s.Same != 1 || s.New+s.Changed+s.Bad != 0 {
			t.Errorf("the same sheet again: %+v", s)
		}
	}
	renamed := ReadSheets(first.Estate, Sheets{Sites: "key,name\ntarnhollow,Tarn Hollow Works\n"}, nil)
	site := renamed.Estate.Sites[0]
	if len(renamed.Estate.Sites) != 1 || site.Name != "Tarn Hollow Works" || site.Region != "north" || len(site.Links) != 1 {
		t.Errorf("a sheet without the region column: %+v", site)
	}
	if renamed.Sheets[0].Changed != 1 {
		t.Errorf("%+v", renamed.Sheets)
	}
	if first.Estate.Sites[0].Name != "Tarn Hollow" {
		t.Error("the base estate was changed")
	}
}

// Fifty thousand subnets at one site must not take a comparison of each with
// each, and importing them again must find them all.
func TestManySubnetsAtOneSite(t *testing.T) {
	var text strings.Builder
	text.WriteString("site,prefix\n")
	for i := range 50000 {
		fmt.Fprintf(&text, "tarnhollow,10.%d.%d.0/24\n", i>>8, i&255)
	}
	first := ReadSheets(empty(), Sheets{Sites: siteText, Subnets: text.String()}, nil)
	again := ReadSheets(first.Estate, Sheets{Subnets: text.String()}, nil)
	if first.Sheets[1].New != 50000 || again.Sheets[0].Same != 50000 || len(again.Estate.Sites[0].Subnets) != 50000 {
		t.Errorf("%+v, %+v", first.Sheets, again.Sheets)
	}
}

func TestFixesReplaceCells(t *testing.T) {
	sheets := Sheets{siteText, "", "site,prefix\ntarnhollow,10.16.4.0/240\n"}
	r := ReadSheets(empty(), sheets, []Fix{{Sheet: "subnets", Row: 2, Column: "prefix", Value: "10.16.4.0/24"}})
	if r.BadRows() != 0 || len(r.Estate.Sites[0].Subnets) != 1 {
		t.Errorf("%+v", r.Remarks)
	}
}

func TestGoodRowsAreTakenBesideBadOnes(t *testing.T) {
	var text strings.Builder
	text.WriteString("key,demand_mbps\n")
	for i := range 11000 {
		fmt.Fprintf(&text, "s%d,%s\n", i, map[bool]string{true: "x", false: "4"}[i%10 == 0])
	}
	r := ReadSheets(empty(), Sheets{Sites: text.String()}, nil)
	if got := r.Sheets[0]; got.Rows != 11000 || got.Bad != 1100 || got.New != 9900 {
		t.Errorf("%+v", got)
	}
	if len(r.Remarks) != MaxRemarks || r.Omitted != 1100-MaxRemarks {
		t.Errorf("%d remarks, %d omitted", len(r.Remarks), r.Omitted)
	}
}

// What is more than an estate has room for is a bad row, not work without end.
func TestSheetsAreBounded(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	lines := func(head string, n int, line func(int) string) string {
		var text strings.Builder
		text.WriteString(head + "\n")
		for i := range n {
			text.WriteString(line(i) + "\n")
		}
		return text.String()
	}
	for name, c := range map[string]struct {
		sheets Sheets
		taken  int // rows of the last sheet
	}{
		"sites":    {Sheets{Sites: lines("key", mostSites+5, func(i int) string { return fmt.Sprint("s", i) })}, mostSites},
		"regions":  {Sheets{Sites: lines("key,region", mostRegions+5, func(i int) string { return fmt.Sprintf("s%d,r%d", i, i) })}, mostRegions},
		"links":    {Sheets{Sites: siteText, Links: lines("site,key,reach", mostLinks+5, func(i int) string { return fmt.Sprintf("tarnhollow,l%d,nat", i) })}, mostLinks},
		"overlays": {Sheets{Sites: siteText, Subnets: lines("site,prefix,share", mostOverlays+5, func(i int) string { return fmt.Sprintf("tarnhollow,10.0.%d.0/24,o%d", i, i) })}, mostOverlays},
		"rows":     {Sheets{Sites: lines("key,name", mostRows+5, func(i int) string { return fmt.Sprintf("-%d,x", i) })}, 0},
	} {
		r := ReadSheets(empty(), c.sheets, nil)
		last := r.Sheets[len(r.Sheets)-1]
		if last.New != c.taken || last.Bad < 1 || len(Validate(r.Estate)) > 0 {
			t.Errorf("%s: %+v", name, last)
		}
	}
}

// A spreadsheet must not take a name for a formula, and gives back what it got.
func TestSheetsAreSafeForSpreadsheets(t *testing.T) {
	for _, name := range []string{"=1+1", "+1 2", "-x", "@a", "'quoted'", "'=1", "''", "'", "plain", "-5", "+44"} {
		e := empty()
		e.Sites = []Site{{Key: "t", Name: name, Gateway: Gateway{ClockSkewS: -5}, Subnets: []Subnet{{Prefix: netip.MustParsePrefix("10.0.0.0/24"), Name: name}}}}
		sheets := WriteSheets(e)
		cell := strings.Split(strings.Split(sheets.Sites, "\n")[1], ",")[1]
		if strings.ContainsRune("=@", rune(cell[0])) || strings.ContainsRune("+-", rune(cell[0])) && strings.Trim(cell, "+-0123456789") != "" {
			t.Errorf("%q is written as %s", name, cell)
		}
		again := ReadSheets(empty(), sheets, nil)
		if len(again.Estate.Sites) != 1 || again.Estate.Sites[0].Name != name || again.Estate.Sites[0].Subnets[0].Name != name || again.Estate.Sites[0].Gateway.ClockSkewS != -5 {
			t.Errorf("%q came back as %+v, %v", name, again.Estate.Sites, again.Remarks)
		}
	}
}

// What is imported can be read back, as a document and as sheets.
func readBack(t *testing.T, e *Estate) {
	t.Helper()
	if problems := Validate(e); len(problems) > 0 {
		t.Fatalf("sheets made an invalid estate: %v", problems)
	}
	for _, write := range []func(*Estate) ([]byte, error){WriteYAML, WriteJSON} {
		text, err := write(e)
		if err != nil {
			t.Fatal(err)
		}
		again, _, err := Read(bytes.NewReader(text))
		if err != nil {
			t.Fatalf("what was imported cannot be read: %v\n%s", err, text)
		}
		if was, is := WriteSheets(e), WriteSheets(again); was != is {
			t.Fatalf("what was imported is read as another estate:\n%v\n%v", was, is)
		}
	}
	sheets := WriteSheets(e)
	again := ReadSheets(empty(), sheets, nil)
	if again.BadRows() > 0 || len(e.Sites) > 0 && WriteSheets(again.Estate) != sheets {
		t.Fatalf("what was written cannot be imported: %v\n%v", again.Remarks, sheets)
	}
}

func TestRandomSheetsAreReadBack(t *testing.T) {
	random := rand.New(rand.NewPCG(12, 9))
	awkward := []string{"", " ", "a b", "x\ny", "\t", "é", "=1", "'", "\"\"", "日本", "\u202e", "\u200b", "\xff", "null", "~", "- a", "a: b", "#", "1e3", "yes", "0x1f", "{}", "\\n", "%s", "con", "-rf", "\u00a0x", "\r"}
	pick := func(good ...string) string {
		if random.IntN(4) == 0 {
			return awkward[random.IntN(len(awkward))]
		}
		return good[random.IntN(len(good))]
	}
	for range 400 {
		var texts [3]strings.Builder
		write := func(sheet int, cells ...string) {
			for i, c := range cells {
				if i > 0 {
					texts[sheet].WriteByte(',')
				}
				texts[sheet].WriteString(`"` + strings.ReplaceAll(c, `"`, `""`) + `"`)
			}
			texts[sheet].WriteByte('\n')
		}
		write(0, "key", "name", "region", "demand_mbps", "placement", "lan_address", "used_ports")
		write(1, "site", "key", "provider", "reach", "addresses", "hostname", "outside", "next_hop", "forwards", "rank")
		write(2, "site", "prefix", "zone", "name", "share", "map")
		for i := range 4 {
			site := fmt.Sprint("s", i)
			write(0, pick(site), pick("Works "+site), pick("north", "fen"), pick("40", "1,5", "1 500"), pick("inline", "one-armed", ""), pick("10.0.0.9", ""), pick("51820 51821", ""))
			write(1, pick(site), pick("fibre", "cell"), pick("Lumenway"), pick("static", "nat", "forwarded", "dynamic"), pick("203.0.113.9", "2001:db8::9", ""), pick("gw.example.net", ""),
				pick("203.0.113.7", "fe80::1%x", ""), pick("203.0.113.1", ""), pick("51820", "7-9", ""), pick("1", "2"))
			write(2, pick(site), pick("10.0.0.0/24", "10.0.1.0 255.255.255.0", "fd00::/64", "10.9.0.0-10.9.0.255"), pick("control", ""), pick("plant"), pick("ops", "ops works", ""), pick("", "10.8.0.0/24"))
		}
		readBack(t, ReadSheets(empty(), Sheets{texts[0].String(), texts[1].String(), texts[2].String()}, nil).Estate)
	}
}

func FuzzReadSheets(f *testing.F) {
	f.Add(siteText, linkText, subnetText)
	f.Add("key;name\n\"a\n", "site\tkey\n", "\xff\xfe")
	f.Add("key,name,demand_mbps\nt,\"a\nb\",\"1,500\"\n", "", "site,prefix,name\nt,10.0.0.0 255.0.0.0,'=x\n")
	f.Fuzz(func(t *testing.T, sites, links, subnets string) {
		readBack(t, ReadSheets(empty(), Sheets{sites, links, subnets}, nil).Estate)
	})
}
