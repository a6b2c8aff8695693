package main

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wideknot/core/estate"
)

// call runs the program as from a shell.
func call(t *testing.T, arguments ...string) (code int, out, errors string) {
	t.Helper()
	oldOut, oldErr := os.Stdout, os.Stderr
	defer func() { os.Stdout, os.Stderr = oldOut, oldErr }()
	read := func(into **os.File) func() string {
		r, w, err := os.Pipe()
		if err != nil {
			t.Fatal(err)
		}
		*into = w
		done := make(chan string)
		go func() {
			text, _ := io.ReadAll(r)
			done <- string(text)
		}()
		return func() string { w.Close(); return <-done }
	}
	outText, errText := read(&os.Stdout), read(&os.Stderr)
	code = run(context.Background(), arguments)
	return code, outText(), errText()
}

func write(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

const three = "../../examples/three-sites.yaml"

// ready is an example as its owner has it who has recorded numbers and made keys.
func ready(t *testing.T, text string) (document string) {
	t.Helper()
	document = write(t, "estate.yaml", text)
	for _, command := range []string{"allocate", "keys"} {
		if code, _, errors := call(t, command, document); code != 0 {
			t.Fatalf("%s: %d %s", command, code, errors)
		}
	}
	return document
}

func TestExitCodes(t *testing.T) {
	text, err := os.ReadFile(three)
	if err != nil {
		t.Fatal(err)
	}
	collision := write(t, "collision.yaml", strings.Replace(string(text), "10.40.3.0/24", "10.40.2.0/24", 1))
	template := write(t, "peers.txt.tmpl", "{{range .Tunnels}}{{.Peer}}\n{{end}}")
	broken := write(t, "broken.yaml", "wideknot: 1\nestate: {nam: x}\n")
	whole := ready(t, string(text))
	grown := write(t, "grown.yaml", strings.Replace(string(text), "10.40.3.0/24", "10.40.9.0/24", 1))
	for _, c := range []struct {
		arguments string
		code      int
		out, err  string
	}{
		{"check " + three, 0, "0 errors, 2 warnings", ""},
		{"check " + collision, 1, "stonebeck and withybrook both use 10.40.2.0/24 in ops", ""},
		{"check " + broken, 2, "", "line 2, column 10 (estate.nam): unknown key"},
		{"check nowhere.yaml", 2, "", "no such file"},
		{"check", 2, "", "accepts 1 arg"},
		{"check --format xml " + three, 2, "", "neither text nor json"},
		{"derive " + three, 0, "withybrook: 2 tunnels", ""},
		{"derive --site withybrook " + three, 0, "10.40.2.0/24       millgate-1 100, millgate-2 110", ""},
		{"derive --site nowhere " + three, 2, "", `no site "nowhere"`},
		{"trace " + three + " 10.40.2.9 10.40.3.9", 0, "MTU 1368, symmetric: true", ""},
		{"trace " + three + " 10.40.2.9 192.168.77.9", 1, "shared into no overlay that 10.40.2.0/24", ""},
		{"trace " + three + " here there", 2, "", "not an IPv4 or IPv6 address"},
		{"diff " + three + " " + three, 0, "+0 tunnels, −0, 0 changed; 0 routes move; 0 sites touched", ""},
		{"diff --files " + three + " " + collision, 0, "withybrook: subnet 10.40.2.0/24 added", ""},
		{"diff " + three + " " + broken, 2, "", "unknown key"},
		{"render --out " + t.TempDir() + " --template " + template + " " + whole, 0, "3 files for 3 sites", ""},
		{"render --out " + t.TempDir() + " --template " + broken + "x " + whole, 2, "", "no such file"},
		{"render --out " + t.TempDir() + " --target topology " + whole, 0, "1 files", ""},
		{"render --out " + t.TempDir() + " --target restconf " + whole, 0, "4 files", ""},
		{"render --out " + t.TempDir() + " --target gateway " + whole, 0, "4 files", ""},
		{"render --out " + t.TempDir() + " --target carrier-pigeon " + whole, 2, "", "there is no target"},
		{"render --out " + t.TempDir() + " " + three, 2, "", "wideknot allocate " + three},
		{"render --out " + t.TempDir() + " --with-keys --keys nowhere.json " + whole, 2, "", "there is no key file nowhere.json"},
		{"render --out " + filepath.Dir(whole) + " " + whole, 2, "", "keep it elsewhere"},
		{"render --allocate --out " + t.TempDir() + " " + collision, 2, "", "make them with wideknot keys"},
		{"render --out " + t.TempDir() + " --since " + whole + " " + whole, 0, "1 files for 0 sites", ""},
		{"diff --exit-code " + three + " " + three, 0, "rendering changes 0 bundles", ""},
		{"diff --exit-code " + three + " " + grown, 1, "rendering changes 3 bundles: millgate, stonebeck, withybrook", ""},
		{"diff --exit-code --format json " + three + " " + grown, 1, `"bundles": [`, ""},
		{"allocate " + whole, 0, "", "all numbers are in"},
		{"allocate " + broken, 2, "", "unknown key"},
		{"keys " + broken, 2, "", "unknown key"},
		{"repair " + three, 2, "", "name repairs by their labels"},
		{"repair --all no/such " + three, 2, "", "finds nothing of the kind"},
		{"schema", 0, "https://json-schema.org/draft/2020-12/schema", ""},
		{"import", 2, "", "name at least one sheet"},
		{"render " + three, 2, "", "required flag"},
		{"trace --port 70000 --protocol tcp " + three + " 10.40.2.9 10.40.3.9", 2, "", "outside 0 to 65535"},
		{"trace --port 80 " + three + " 10.40.2.9 10.40.3.9", 2, "", "needs the protocol"},
		{"trace --protocol foo " + three + " 10.40.2.9 10.40.3.9", 2, "", "not one of the protocols"},
		{"trace " + three + " fe80::1%lo 10.40.3.9", 2, "", "zone"},
		{"space --size 999 " + three, 2, "", "no length"},
		{"import --sites " + write(t, "empty.csv", ""), 2, "", "is empty"},
		{"import --sites " + write(t, "blank.csv", "\n\n"), 2, "", "the sheet is empty"},
		{"import --leave-bad --sites " + write(t, "book.xlsx", "PK\x03\x04x"), 2, "", "a workbook"},
		{"import --leave-bad --sites " + write(t, "title.csv", "Our sites\nkey,name\nt,T\n"), 2, "", "row 2 looks like it"},
		{"import --leave-bad --sites " + write(t, "double.csv", "key,key\nt,T\n"), 2, "", "there twice"},
		{"import --leave-bad --sites " + write(t, "wide.csv", "k\x00e\x00y\x00\n\x00t\x00"), 2, "", "zero bytes"},
		{"import --sites " + write(t, "heading.csv", "key,name\n"), 2, "", "no rows"},
		{"sample --links 9", 2, "", "1 to 3 links"},
		{"unknown", 2, "", "unknown command"},
	} {
		code, out, errors := call(t, strings.Fields(c.arguments)...)
		if code != c.code || !strings.Contains(out, c.out) || !strings.Contains(errors, c.err) {
			t.Errorf("%s: %d\n%s\n%s\nwant %d, %q, %q", c.arguments, code, out, errors, c.code, c.out, c.err)
		}
	}
}

func TestSpaceAndRepair(t *testing.T) {
	code, out, _ := call(t, "space", "--size", "24", three)
	for _, want := range []string{"vale 10.40.0.0/16", "used: 10.40.1.0/24 10.40.2.0/23", "summary: 10.40.0.0/22, holes: 10.40.0.0/24", "best /24: 10.40.0.0/24"} {
		if code != 0 || !strings.Contains(out, want) {
			t.Errorf("%d: no %q in\n%s", code, want, out)
		}
	}
	text, err := os.ReadFile(three)
	if err != nil {
		t.Fatal(err)
	}
	collision := write(t, "collision.yaml", strings.Replace(string(text), "10.40.3.0/24", "10.40.2.0/24", 1))
	repaired := filepath.Join(t.TempDir(), "repaired.yaml")
	code, _, errors := call(t, "repair", collision, "Renumber 10.40.2.0/24 at withybrook to 10.40.0.0/24", "--out", repaired)
	if code != 0 || !strings.Contains(errors, "afterwards: 0 errors") {
		t.Errorf("%d %s", code, errors)
	}
	if code, out, _ := call(t, "check", repaired); code != 0 {
		t.Errorf("%d\n%s", code, out)
	}
	if code, _, errors := call(t, "repair", collision, "Wish it away"); code != 2 || !strings.Contains(errors, "no repair") {
		t.Errorf("%d %s", code, errors)
	}
}

func TestJSONOutput(t *testing.T) {
	for _, arguments := range [][]string{{"check", "--format", "json", three}, {"derive", "--format", "json", three}, {"sample", "--sites", "3", "--format", "json"},
		{"space", "--format", "json", three}, {"diff", "--format", "json", "--files", three, three}, {"trace", "--format", "json", three, "10.40.2.9", "10.40.3.9"}} {
		code, out, _ := call(t, arguments...)
		if code != 0 || !json.Valid([]byte(out)) {
			t.Errorf("%v: %d, %.100s", arguments, code, out)
		}
	}
	_, out, _ := call(t, "derive", "--format", "json", "--site", "stonebeck", three)
	var derived struct {
		Sites []struct {
			Site    string
			Tunnels []struct{ Interface, Endpoint string }
			Routes  []struct {
				Prefix string
				Hops   []struct{ Metric int }
			}
		}
	}
	if err := json.Unmarshal([]byte(out), &derived); err != nil {
		t.Fatal(err)
	}
	if len(derived.Sites) != 1 || derived.Sites[0].Tunnels[0].Endpoint != "203.0.113.10:51820" || derived.Sites[0].Routes[0].Hops[0].Metric != 100 {
		t.Errorf("%+v", derived)
	}
}

func TestSheetsThereAndBack(t *testing.T) {
	sites := write(t, "sites.csv", "key,name\na,A\nb,B\n")
	links := write(t, "links.csv", "site,key,reach,addresses\na,fibre,static,203.0.113.1\nb,cell,nat,\n")
	bad := write(t, "bad.csv", "site,prefix\na,10.0.0.0/24\nb,10.0.1.0\n")
	code, _, errors := call(t, "import", "--sites", sites, "--links", links, "--subnets", bad)
	if code != 1 || !strings.Contains(errors, "subnets, row 3, prefix: bad") {
		t.Errorf("%d %s", code, errors)
	}
	out := filepath.Join(t.TempDir(), "estate.yaml")
	if code, _, errors := call(t, "import", "--sites", sites, "--links", links, "--subnets", bad, "--leave-bad", "--out", out); code != 0 {
		t.Errorf("%d %s", code, errors)
	}
	if code, text, _ := call(t, "check", out); code != 0 {
		t.Errorf("%d %s", code, text)
	}
	code, text, _ := call(t, "import", "--sites", sites, "--into", out)
	if original, _ := os.ReadFile(out); code != 0 || text != string(original) {
		t.Errorf("importing the same again changes the document:\n%s", text)
	}
}

// Both ends of a tunnel are told the same pre-shared key, and no other tunnel.
func TestPresharedKeys(t *testing.T) {
	text, err := os.ReadFile("../../examples/two-hubs.yaml")
	if err != nil {
		t.Fatal(err)
	}
	document := ready(t, strings.Replace(string(text), "shape: hub-and-spoke,", "shape: hub-and-spoke, preshared_keys: true,", 1))
	folder := t.TempDir()
	if code, _, errors := call(t, "render", document, "--out", folder, "--with-keys"); code != 0 {
		t.Fatalf("%d %s", code, errors)
	}
	files, err := filepath.Glob(filepath.Join(folder, "*", "secrets", "*.psk"))
	if err != nil {
		t.Fatal(err)
	}
	ends := map[string]int{}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		key := strings.TrimSpace(string(text))
		if _, err := estate.ParseKey(key); err != nil {
			t.Errorf("%s: %q, %v", file, key, err)
		}
		ends[key]++
	}
	if len(files) == 0 || len(ends) != len(files)/2 {
		t.Errorf("%d keys in %d files", len(ends), len(files))
	}
	for key, n := range ends {
		if n != 2 {
			t.Errorf("%s is in %d files", key, n)
		}
	}
}

// The keys stay in one file beside the document, which alone others cannot read, and
// go into no bundle unless they are asked for.
func TestKeysAreKept(t *testing.T) {
	text, err := os.ReadFile(three)
	if err != nil {
		t.Fatal(err)
	}
	document := ready(t, "# ours\n"+string(text))
	keyFile := strings.TrimSuffix(document, ".yaml") + ".keys.json"
	if info, err := os.Stat(keyFile); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key file can be read by others: %v, %v", info, err)
	}
	first, err := os.ReadFile(keyFile)
	if err != nil {
		t.Fatal(err)
	}
	if code, _, errors := call(t, "keys", document); code != 0 || !strings.Contains(errors, "made 0 keys") {
		t.Errorf("%d %s", code, errors)
	}
	if again, _ := os.ReadFile(keyFile); !bytes.Equal(first, again) {
		t.Error("making keys again gives others")
	}
	if now, _ := os.ReadFile(document); !strings.HasPrefix(string(now), "# ours\n"+string(text)) {
		t.Errorf("recording changed more than it should:\n%s", now)
	}
	with, without := t.TempDir(), t.TempDir()
	for folder, arguments := range map[string][]string{with: {"--with-keys"}, without: nil} {
		if code, _, errors := call(t, append([]string{"render", document, "--out", folder, "--release", "3"}, arguments...)...); code != 0 || errors != "" {
			t.Fatalf("%d %s", code, errors)
		}
		secret, err := os.ReadFile(filepath.Join(folder, "stonebeck", "secrets", "private.key"))
		if (err == nil) != (folder == with) || err == nil && !strings.Contains(string(first), strings.TrimSpace(string(secret))) {
			t.Errorf("%v: %q, %v", arguments, secret, err)
		}
		if release, _ := os.ReadFile(filepath.Join(folder, "stonebeck", "release")); !strings.HasPrefix(string(release), "stonebeck, release 3, digest ") {
			t.Errorf("%s", release)
		}
	}
	damaged := strings.Replace(string(first), `"millgate": "`, `"millgate": "x`, 1)
	if err := os.WriteFile(keyFile, []byte(damaged), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, _, errors := call(t, "render", document, "--out", without); code != 2 || !strings.Contains(errors, "millgate") {
		t.Errorf("%d %s", code, errors)
	}
}

// A spoke that is added in the midst leaves the bundles of all other spokes as they
// are, and what left the design leaves the folder.
func TestNumbersStay(t *testing.T) {
	code, text, _ := call(t, "sample", "--sites", "12", "--hubs", "1", "--links", "2")
	if code != 0 {
		t.Fatal(code)
	}
	document := ready(t, text)
	folder := t.TempDir()
	if code, _, errors := call(t, "render", document, "--out", folder); code != 0 {
		t.Fatalf("%d %s", code, errors)
	}
	before := tree(t, folder)
	was, err := os.ReadFile(document)
	if err != nil {
		t.Fatal(err)
	}
	e, _, err := estate.Read(bytes.NewReader(was))
	if err != nil {
		t.Fatal(err)
	}
	gone := e.Sites[5].Key
	e.Sites = append(e.Sites[:5], e.Sites[6:]...)
	o := &e.Overlays[0]
	for i := range o.Spokes {
		if o.Spokes[i].Site == gone {
			o.Spokes = append(o.Spokes[:i], o.Spokes[i+1:]...)
			break
		}
	}
	less, err := estate.WriteYAML(e)
	if err != nil {
		t.Fatal(err)
	}
	short := write(t, "less.yaml", string(less))
	if code, _, errors := call(t, "allocate", short); code != 0 {
		t.Fatalf("%d %s", code, errors)
	}
	changed := 0
	smaller := t.TempDir()
	if code, _, errors := call(t, "render", short, "--out", smaller); code != 0 {
		t.Fatalf("%d %s", code, errors)
	}
	for name, text := range tree(t, smaller) {
		if strings.Contains(name, "/wg/") && before[name] != text && !strings.HasPrefix(name, e.Overlays[0].Hubs[0]) && !strings.Contains(text, "AllowedIPs") {
			changed++
		}
		if strings.HasSuffix(name, "/tunnels") && !strings.HasPrefix(name, e.Overlays[0].Hubs[0]) && before[name] != text {
			t.Errorf("%s: other numbers than before", name)
		}
	}
	if changed > 0 {
		t.Errorf("%d files of other spokes changed", changed)
	}
	hub := filepath.Join(folder, e.Overlays[0].Hubs[0], "wg")
	all, _ := os.ReadDir(hub)
	if code, _, errors := call(t, "render", short, "--out", folder, "--keys", strings.TrimSuffix(document, ".yaml")+".keys.json"); code != 0 {
		t.Fatalf("%d %s", code, errors)
	}
	if left, _ := os.ReadDir(hub); len(left) >= len(all) {
		t.Errorf("%d of %d tunnels of the hub are left in the folder", len(left), len(all))
	}
}

// tree is every file below a folder.
func tree(t *testing.T, folder string) map[string]string {
	t.Helper()
	out := map[string]string{}
	if err := filepath.WalkDir(folder, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		name, _ := filepath.Rel(folder, path)
		out[name] = string(text)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return out
}
