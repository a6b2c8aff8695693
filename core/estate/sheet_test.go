package estate

import (
	"fmt"
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
		{"number outside its range", Sheets{Sites: "key,max_tunnels\nt,-4\n"}, "sites 2 max_tunnels bad: outside"},
		{"dangling site", Sheets{Links: "site,key,reach\nnowhere,fibre,nat\n"}, `links 2 site bad: no site "nowhere"`},
		{"site whose own row is bad", Sheets{"key,demand_mbps\nt,x\n", "site,key,reach\nt,fibre,nat\n", ""}, `sites 2 demand_mbps bad: number|links 2 site bad: error in row 2`},
		{"duplicate row", Sheets{Sites: "key\nt\nu\nt\n"}, "sites 4 key bad: stands in row 2 already"},
		{"static without address", Sheets{siteText, "site,key,reach\ntarnhollow,fibre,static\n", ""}, "sites 2 region normalised: new|links 2 addresses bad: fixed address"},
		{"unknown column", Sheets{Sites: "key,colour\nt,red\n"}, "sites 1 colour ignored: unknown column"},
		{"missing column", Sheets{Links: "key,reach\nfibre,nat\n"}, "links 1  bad: lacks the column site"},
		{"column twice", Sheets{Sites: "key,name,Name\nt,a,b\n"}, "sites 1 name bad: stands twice"},
		{"too many cells", Sheets{Sites: "key,name\nt,a,b\n"}, "sites 2  bad: 3 cells"},
		{"broken quotes", Sheets{Sites: "key,name\nt,\"a\nu,b\n"}, "sites 2  bad: quotes"},
		{"only space", Sheets{Sites: " \n "}, ""},
		{"overlay that is not there yet", Sheets{siteText, "", "site,prefix,share\ntarnhollow,10.0.0.0/24,ops\n"}, "sites 2 region normalised: new|subnets 2 share normalised: overlay ops is new"},
		{"list with commas", Sheets{siteText, "", "site;prefix;share\ntarnhollow;10.0.0.0/24;ops,works\n"}, "sites 2 region normalised: new|subnets 2 share normalised: overlay ops|subnets 2 share normalised: overlay works|subnets 2 share normalised: list ops works"},
		{"Latin-1", Sheets{Sites: "key,name\nt,K\xf6ln\n"}, "sites 0  normalised: Latin-1"},
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
		"plain":      "key,name\nt,Tarn\nu,Under\n",
		"BOM":        "\ufeffkey,name\nt,Tarn\nu,Under\n",
		"CRLF":       "key,name\r\nt,Tarn\r\nu,Under\r\n",
		"semicolons": "key;name\nt;Tarn\nu;Under\n",
		"tabs":       "key\tname\nt\tTarn\nu\tUnder\n",
		"quoted":     "\"key\",\"name\"\n\"t\",\"Tarn\"\n\"u\",\"Under\"\n",
		"UTF-16":     "\xff\xfek\x00e\x00y\x00\t\x00n\x00a\x00m\x00e\x00\n\x00t\x00\t\x00T\x00a\x00r\x00n\x00\n\x00u\x00\t\x00U\x00n\x00d\x00e\x00r\x00\n\x00",
		"capitals":   "Key,Name\nt,Tarn\nu,Under\n",
		"blank rows": "\nkey,name\n\nt,Tarn\n,\nu,Under\n\n",
		"no newline": "key,name\nt,Tarn\nu,Under",
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

func TestMendsReplaceCells(t *testing.T) {
	sheets := Sheets{siteText, "", "site,prefix\ntarnhollow,10.16.4.0/240\n"}
	r := ReadSheets(empty(), sheets, []Mend{{Sheet: "subnets", Row: 2, Column: "prefix", Value: "10.16.4.0/24"}})
	if r.BadRows() != 0 || len(r.Estate.Sites[0].Subnets) != 1 {
		t.Errorf("%+v", r.Remarks)
	}
}

func TestGoodRowsAreTakenBesideBadOnes(t *testing.T) {
	var text strings.Builder
	text.WriteString("key,demand_mbps\n")
	for i := range 50000 {
		fmt.Fprintf(&text, "s%d,%s\n", i, map[bool]string{true: "x", false: "4"}[i%10 == 0])
	}
	r := ReadSheets(empty(), Sheets{Sites: text.String()}, nil)
	if got := r.Sheets[0]; got.Rows != 50000 || got.Bad != 5000 || got.New != 45000 {
		t.Errorf("%+v", got)
	}
	if len(r.Remarks) != MaxRemarks || r.Omitted != 5000-MaxRemarks {
		t.Errorf("%d remarks, %d omitted", len(r.Remarks), r.Omitted)
	}
}

func FuzzReadSheets(f *testing.F) {
	f.Add(siteText, linkText, subnetText)
	f.Add("key;name\n\"a\n", "site\tkey\n", "\xff\xfe")
	f.Fuzz(func(t *testing.T, sites, links, subnets string) {
		r := ReadSheets(empty(), Sheets{sites, links, subnets}, nil)
		if problems := Validate(r.Estate); len(problems) > 0 {
			t.Errorf("sheets made an invalid estate: %v", problems)
		}
	})
}
