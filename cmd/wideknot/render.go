package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wideknot/core/estate"
	"wideknot/core/render"
	"wideknot/core/render/bundle"
	"wideknot/core/render/custom"
	"wideknot/core/render/linux"
	"wideknot/core/render/sheet"
	"wideknot/core/render/topology"
	"wideknot/core/route"
)

// rendering is what the render command is asked for.
type rendering struct {
	folder, keyFile, target, template, since string
	release                                  int
	withKeys, allocate                       bool
}

func renderCommand() *cobra.Command {
	var r rendering
	c := &cobra.Command{
		Use:   "render FILE --out DIR",
		Short: "Write every site's configuration into a folder",
		Long: "Render writes every site's configuration into a folder of its own below DIR.\n" +
			"It gives no number and makes no key that is recorded nowhere: see allocate and keys.",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return r.run(c, args[0]) },
	}
	c.Flags().StringVar(&r.folder, "out", "", "folder to write into")
	c.Flags().StringVar(&r.keyFile, "keys", "", "key file (default beside FILE, ending in .keys.json)")
	c.Flags().BoolVar(&r.withKeys, "with-keys", false, "write private keys into the bundles, in files of their own")
	c.Flags().BoolVar(&r.allocate, "allocate", false, "record new numbers in FILE first")
	c.Flags().IntVar(&r.release, "release", 0, "number of the release, told in each bundle")
	c.Flags().StringVar(&r.since, "since", "", "only the sites whose configuration differs from that of this document")
	c.Flags().StringVar(&r.target, "target", "", "linux, restconf, gateway, topology or sheets (default: each site's own target)")
	c.Flags().StringVar(&r.template, "template", "", "render each site by this text template instead")
	_ = c.MarkFlagRequired("out")
	return c
}

func (r *rendering) run(c *cobra.Command, name string) error {
	e, text, err := readText(c, name)
	if err != nil {
		return err
	}
	m := derive(e)
	if !m.Plan.Recorded() {
		if !r.allocate {
			return unusable(fmt.Errorf("some numbers that tunnels would get are nowhere recorded, so the next rendering could give others: record them with wideknot allocate %s, or render with --allocate", name))
		}
		if err := record(c, name, text, m.Plan.Allocations()); err != nil {
			return err
		}
	}
	written, err := r.files(c, name, m)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.OutOrStdout(), "%d files for %d sites in %s\n", written.files, written.sites, r.folder)
	return nil
}

// files writes what is asked for, site by site.
func (r *rendering) files(c *cobra.Command, name string, m *route.Map) (w writer, err error) {
	w.folder = r.folder
	switch {
	case r.template != "":
		return w, r.byTemplate(m, &w)
	case r.target == "topology":
		file, err := topology.File(m.Plan)
		return w, errors.Join(err, w.write([]render.File{file}))
	case r.target == "sheets":
		return w, w.write(sheet.Files(m))
	case !slices.Contains([]estate.Target{"", estate.TargetLinux, estate.TargetRestconf, bundle.Gateway}, estate.Target(r.target)):
		return w, unusable(fmt.Errorf("there is no target %q: linux, restconf, gateway, topology or sheets", r.target))
	}
	path := keyFileOf(name, r.keyFile)
	if within(r.folder, path) {
		return w, unusable(fmt.Errorf("the key file %s lies in the folder to be shipped: keep it elsewhere", path))
	}
	held, err := readKeys(path)
	if err == nil {
		err = held.check(m.Plan)
	}
	if err == nil && r.withKeys && len(held) == 0 {
		err = fmt.Errorf("there is no key file %s: make it with wideknot keys", path)
	}
	if err != nil {
		return w, unusable(err)
	}
	a := bundle.Archive{Estate: m.Plan.Estate.About.Name, Options: bundle.Options{Target: estate.Target(r.target), Release: r.release}}
	if r.withKeys {
		a.Keys = held.secrets()
	}
	if r.since != "" {
		was, err := readDocument(c, r.since)
		if err != nil {
			return w, err
		}
		a.Since = derive(was)
	}
	return w, a.Each(m, w.write)
}

func (r *rendering) byTemplate(m *route.Map, w *writer) error {
	text, err := os.ReadFile(r.template)
	if err != nil {
		return unusable(err)
	}
	parsed, err := custom.Parse(string(text))
	if err != nil {
		return unusable(fmt.Errorf("%s cannot be used:\n%w", r.template, err))
	}
	for i := range m.Plan.Estate.Sites {
		site := m.Plan.Site(i)
		text, err := parsed.Render(custom.DataOf(m, i))
		if err != nil {
			return unusable(fmt.Errorf("%s, for site %s:\n%w", r.template, site.Key, err))
		}
		if err := w.write([]render.File{{Path: site.Key + "/" + strings.TrimSuffix(filepath.Base(r.template), ".tmpl"), Text: text}}); err != nil {
			return err
		}
	}
	return nil
}

// within reports whether a file lies below a folder.
func within(folder, file string) bool {
	a, errA := filepath.Abs(folder)
	b, errB := filepath.Abs(file)
	return errA == nil && errB == nil && strings.HasPrefix(b, a+string(filepath.Separator))
}

// A writer writes the files of sites below a folder.
type writer struct {
	folder       string
	files, sites int
}

// write writes the files of one site, and takes away those of an older bundle of
// the same site that are not among them.
func (w *writer) write(files []render.File) error {
	if len(files) == 0 {
		return nil
	}
	site, _, inFolder := strings.Cut(files[0].Path, "/")
	if inFolder {
		w.sites++
		if err := w.clear(site, files); err != nil {
			return err
		}
	}
	for _, f := range files {
		w.files++
		path := filepath.Join(w.folder, filepath.FromSlash(f.Path))
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(path, f.Text, os.FileMode(linux.Mode(f.Path))); err != nil {
			return err
		}
	}
	return nil
}

// clear removes what the manifest of an older bundle lists and the new one has not.
func (w *writer) clear(site string, files []render.File) error {
	old, err := os.ReadFile(filepath.Join(w.folder, site, "manifest"))
	if err != nil {
		return nil // no older bundle
	}
	keep := map[string]bool{}
	for _, f := range files {
		keep[f.Path] = true
	}
	for line := range strings.Lines(string(old)) {
		_, name, ok := strings.Cut(strings.TrimSpace(line), "  ")
		if !ok || keep[site+"/"+name] || !filepath.IsLocal(name) {
			continue
		}
		if err := os.Remove(filepath.Join(w.folder, site, filepath.FromSlash(name))); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}
