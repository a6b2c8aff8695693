package examples

import (
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"wideknot/core/check"
	"wideknot/core/estate"
	"wideknot/core/route"
	"wideknot/core/tunnel"
)

func read(t *testing.T, text string) *estate.Estate {
	t.Helper()
	e, _, err := estate.Read(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func TestEveryDocumentCanBeRead(t *testing.T) {
	names, err := filepath.Glob("*.yaml")
	if err != nil || len(names) < 3 {
		t.Fatal(names, err)
	}
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		read(t, string(text))
	}
}

// The demo ships as sheets too; they hold the same sites.
func TestSheetsOfTheDemoAreItsDocument(t *testing.T) {
	e := read(t, Brindlewater)
	var sheets estate.Sheets
	for name, into := range map[string]*string{"sites": &sheets.Sites, "links": &sheets.Links, "subnets": &sheets.Subnets} {
		text, err := os.ReadFile("brindlewater/" + name + ".csv")
		if err != nil {
			t.Fatal(err)
		}
		*into = string(text)
	}
	bare := e.Clone()
	bare.Sites = nil
	reading := estate.ReadSheets(bare, sheets, nil)
	if reading.BadRows() > 0 || !reflect.DeepEqual(reading.Estate.Sites, e.Sites) {
		t.Errorf("%d bad rows, or other sites", reading.BadRows())
	}
}

// The demo's trouble is there for every stage to find.
func TestTheDemoHasItsTrouble(t *testing.T) {
	p := tunnel.Derive(read(t, Brindlewater))
	var titles []string
	for _, f := range check.Run(p, route.Build(p)) {
		titles = append(titles, f.Title)
	}
	all := strings.Join(titles, "\n")
	for _, want := range []string{
		"crossfold and dockside both use 192.168.40.0/24",
		"overlaps subnet 100.96.8.0/24 at wintermere",
		"all 2 links of eelgate share mast-34",
		"all 2 links of kelpwick share mast-39",
		"van-1 and van-2 cannot be joined in ops; cinderhall carries their traffic",
		"harrowmere terminates 174 tunnels; its gateway is limited to 185",
		"by a pin, traffic of larkspit to",
		"rule 6 of ops (permit camera to at cinderhall tcp 554) is shadowed by rule 5",
		"heronstow/cell is numbered from carrier space",
	} {
		if !strings.Contains(all, want) {
			t.Errorf("not found: %s\nfound:\n%s", want, all)
		}
	}
	if len(p.Estate.Sites) != 40 {
		t.Errorf("%d sites", len(p.Estate.Sites))
	}
}
