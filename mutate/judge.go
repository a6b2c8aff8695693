package main

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

type verdict string

const (
	killed     verdict = "killed"
	survived   verdict = "survived"
	equivalent verdict = "equivalent"
	uncompiled verdict = "uncompiled"
)

// A pack is a package with those whose tests use it.
type pack struct {
	path  string
	users []string
}

// list returns the packages under a folder, by their folders.
func list(ctx context.Context, root string) (map[string]*pack, error) {
	text, err := exec.CommandContext(ctx, "go", "list", "-test", "-json=ImportPath,Dir,Deps,ForTest", "./"+root+"/...").Output()
	if err != nil {
		return nil, err
	}
	here, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	folders, byPath := map[string]*pack{}, map[string]*pack{}
	type entry struct {
		ImportPath, Dir, ForTest string
		Deps                     []string
	}
	var entries []entry
	for d := json.NewDecoder(strings.NewReader(string(text))); ; {
		var e entry
		if err := d.Decode(&e); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, err
		}
		entries = append(entries, e)
		if e.ForTest == "" && !strings.HasSuffix(e.ImportPath, ".test") {
			folder, err := filepath.Rel(here, e.Dir)
			if err != nil {
				return nil, err
			}
			p := &pack{path: e.ImportPath}
			folders[folder], byPath[e.ImportPath] = p, p
		}
	}
	for _, e := range entries {
		tested, isTest := strings.CutSuffix(e.ImportPath, ".test")
		for _, dep := range e.Deps {
			dep, _, _ = strings.Cut(dep, " ")
			if p := byPath[dep]; isTest && p != nil && dep != tested && !slices.Contains(p.users, tested) {
				p.users = append(p.users, tested)
			}
		}
	}
	return folders, nil
}

type judge struct {
	packages map[string]*pack
	limit    time.Duration
}

// kernels is the package whose tests bring gateways up on the kernel: long, and no
// judge of what others compute.
const kernels = "wideknot/core/render/linux"

// of runs the tests of the mutant's own package, then what is quick of those of its
// users and, where nobody noticed, all of theirs but those that need a kernel.
func (j *judge) of(ctx context.Context, m mutant) verdict {
	folder, err := os.MkdirTemp("", "mutate-")
	if err != nil {
		return uncompiled
	}
	defer os.RemoveAll(folder)
	overlay, err := show(m, folder)
	if err != nil {
		return uncompiled
	}
	own := j.packages[filepath.Dir(m.file)]
	if exec.CommandContext(ctx, "go", "build", "-overlay", overlay, own.path).Run() != nil {
		return uncompiled
	}
	if !j.passes(ctx, overlay, []string{own.path}) || !j.passes(ctx, overlay, own.users, "-short") {
		return killed
	}
	long := slices.DeleteFunc(slices.Clone(own.users), func(path string) bool { return path == kernels })
	if !j.passes(ctx, overlay, long) {
		return killed
	}
	return survived
}

// show writes the changed file and what tells the compiler to read it.
func show(m mutant, folder string) (overlay string, err error) {
	text, err := os.ReadFile(m.file)
	if err != nil {
		return "", err
	}
	right, err := filepath.Abs(m.file)
	if err != nil {
		return "", err
	}
	wrong := filepath.Join(folder, filepath.Base(m.file))
	if err := os.WriteFile(wrong, []byte(string(text[:m.from])+m.is+string(text[m.to:])), 0o600); err != nil {
		return "", err
	}
	body, err := json.Marshal(map[string]any{"Replace": map[string]string{right: wrong}})
	if err != nil {
		return "", err
	}
	overlay = filepath.Join(folder, "overlay.json")
	return overlay, os.WriteFile(overlay, body, 0o600)
}

func (j *judge) passes(ctx context.Context, overlay string, packages []string, flags ...string) bool {
	if len(packages) == 0 {
		return true
	}
	args := slices.Concat([]string{"test", "-overlay", overlay, "-vet=off", "-failfast", "-timeout", j.limit.String()}, flags, packages)
	return exec.CommandContext(ctx, "go", args...).Run() == nil
}
