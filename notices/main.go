// Command notices writes the licences of everything that is built into the
// program: Go modules, and the packages and fonts of the front end.
package main

import (
	"bufio"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// A notice is a package with the text of its licence.
type notice struct{ name, version, text string }

func main() {
	modules, err := goModules("./cmd/wideknot")
	if err != nil {
		log.Fatal(err)
	}
	packages, err := webPackages("web")
	if err != nil {
		log.Fatal(err)
	}
	out := bufio.NewWriter(os.Stdout)
	defer out.Flush()
	fmt.Fprintln(out, "Wide Knot is built with the following; each is under its own licence.")
	write(out, modules)
	write(out, packages)
}

// write writes notices by name, one text for all that have the same.
func write(w io.Writer, list []notice) {
	slices.SortFunc(list, func(a, b notice) int { return cmp.Compare(a.name, b.name) })
	written := map[string]bool{}
	for _, n := range list {
		if written[n.text] {
			continue
		}
		written[n.text] = true
		fmt.Fprintf(w, "\n%s\n", strings.Repeat("-", 80))
		for _, same := range list {
			if same.text == n.text {
				fmt.Fprintf(w, "%s %s\n", same.name, same.version)
			}
		}
		fmt.Fprintf(w, "\n%s\n", strings.TrimSpace(n.text))
	}
}

// goModules lists the modules that a command is built from.
func goModules(command string) ([]notice, error) {
	text, err := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}} {{.Dir}}{{end}}{{end}}", command).Output()
	if err != nil {
		return nil, fmt.Errorf("go list: %w", err)
	}
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	slices.Sort(lines)
	var out []notice
	for _, line := range slices.Compact(lines) {
		fields := strings.Fields(line)
		if len(fields) != 3 {
			continue
		}
		licence, err := licenceIn(fields[2])
		if err != nil {
			return nil, err
		}
		out = append(out, notice{fields[0], fields[1], licence})
	}
	licence, err := licenceIn(strings.TrimSpace(goroot()))
	if err != nil {
		return nil, err
	}
	return append(out, notice{"The Go standard library", "", licence}), nil
}

func goroot() string {
	text, _ := exec.Command("go", "env", "GOROOT").Output() // an empty one has no licence, which is an error then
	return string(text)
}

// webPackages lists what the lock file has that is no tool of development.
func webPackages(folder string) ([]notice, error) {
	text, err := os.ReadFile(filepath.Join(folder, "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version, License    string
			Dev, Optional, Peer bool
		}
	}
	if err := json.Unmarshal(text, &lock); err != nil {
		return nil, err
	}
	var out []notice
	for path, p := range lock.Packages {
		if path == "" || p.Dev {
			continue
		}
		dir := filepath.Join(folder, filepath.FromSlash(path))
		if _, err := os.Stat(dir); err != nil && (p.Optional || p.Peer) {
			continue // not for this platform
		}
		licence, err := licenceIn(dir)
		if err != nil {
			licence = "Licence: " + p.License
			if p.License == "" {
				return nil, err
			}
		}
		out = append(out, notice{path[strings.LastIndex(path, "node_modules/")+len("node_modules/"):], p.Version, licence})
	}
	return out, nil
}

// licenceIn returns the licence of a folder, with its notice if there is one.
func licenceIn(dir string) (string, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return "", err
	}
	var texts []string
	for _, e := range entries {
		name := strings.ToUpper(e.Name())
		for _, want := range []string{"LICENSE", "LICENCE", "COPYING", "NOTICE", "OFL"} {
			if strings.HasPrefix(name, want) && e.Type().IsRegular() {
				text, err := os.ReadFile(filepath.Join(dir, e.Name()))
				if err != nil {
					return "", err
				}
				texts = append(texts, strings.ReplaceAll(string(text), "\r\n", "\n"))
				break
			}
		}
	}
	if len(texts) == 0 {
		return "", fmt.Errorf("%s has no licence", dir)
	}
	return strings.Join(texts, "\n\n"), nil
}
