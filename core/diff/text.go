package diff

import (
	"bytes"
	"fmt"
	"strings"

	"wideknot/core/render"
)

// A FileDiff is the text diff of one file; Old or New is false where it is
// only on one side.
type FileDiff struct {
	Path string `json:"path"`
	Old  bool   `json:"old"`
	New  bool   `json:"new"`
	Text string `json:"text"` // unified, with three lines of context
}

// Files compares two bundles file by file and lists those that differ; the manifest
// and the number of the release, which follow from the rest, are left out.
func Files(old, new []render.File) []FileDiff {
	was, is := map[string][]byte{}, map[string][]byte{}
	paths := map[string]bool{}
	for _, f := range old {
		was[f.Path], paths[f.Path] = f.Text, true
	}
	for _, f := range new {
		is[f.Path], paths[f.Path] = f.Text, true
	}
	var out []FileDiff
	for _, path := range sorted(paths) {
		if strings.HasSuffix(path, "/manifest") || strings.HasSuffix(path, "/release") {
			continue
		}
		a, inOld := was[path]
		b, inNew := is[path]
		if inOld && inNew && bytes.Equal(a, b) {
			continue
		}
		out = append(out, FileDiff{path, inOld, inNew, Unified(string(a), string(b))})
	}
	return out
}

const context = 3

// Unified returns the unified diff of two texts without file heads; it is
// empty when they are equal.
func Unified(old, new string) string {
	a, b := lines(old), lines(new)
	edits := shortest(a, b)
	var out strings.Builder
	for i := 0; i < len(edits); {
		if edits[i].kind == ' ' {
			i++
			continue
		}
		// A hunk reaches to the last change before a longer calm.
		first, last := i, i
		for j := i; j < len(edits) && j <= last+2*context; j++ {
			if edits[j].kind != ' ' {
				last = j
			}
		}
		from, to := max(0, first-context), min(len(edits), last+context+1)
		hunk(&out, edits[from:to])
		i = to
	}
	return out.String()
}

func hunk(out *strings.Builder, edits []edit) {
	olds, news := 0, 0
	for _, e := range edits {
		if e.kind != '+' {
			olds++
		}
		if e.kind != '-' {
			news++
		}
	}
	// An empty side is given by the line before it, as the format wants.
	at := func(line, count int) int {
		if count == 0 {
			return line
		}
		return line + 1
	}
	fmt.Fprintf(out, "@@ -%d,%d +%d,%d @@\n", at(edits[0].old, olds), olds, at(edits[0].new, news), news)
	for _, e := range edits {
		out.WriteByte(e.kind)
		out.WriteString(e.line)
		out.WriteByte('\n')
	}
}

func lines(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(strings.TrimSuffix(text, "\n"), "\n")
}

// An edit keeps ( ), removes (-) or adds (+) a line; old and new are the
// counts of lines before it on each side.
type edit struct {
	kind     byte
	line     string
	old, new int
}

// maxEffort bounds the search: beyond so many differing lines the rest is
// given as removed and added whole.
const maxEffort = 2000

// shortest finds a shortest edit script (E. Myers, An O(ND) Difference
// Algorithm, 1986).
func shortest(a, b []string) []edit {
	n, m := len(a), len(b)
	start := 0
	for start < n && start < m && a[start] == b[start] {
		start++
	}
	end := 0
	for end < n-start && end < m-start && a[n-1-end] == b[m-1-end] {
		end++
	}
	var out []edit
	for i := range start {
		out = append(out, edit{' ', a[i], i, i})
	}
	out = append(out, middle(a[start:n-end], b[start:m-end], start)...)
	for i := range end {
		out = append(out, edit{' ', a[n-end+i], n - end + i, m - end + i})
	}
	return out
}

func middle(a, b []string, base int) []edit {
	n, m := len(a), len(b)
	limit := min(n+m, maxEffort)
	reach := make([]int, 2*limit+3)
	at := func(k int) *int { return &reach[k+limit+1] }
	var history [][]int
	for d := 0; d <= limit; d++ {
		history = append(history, append([]int(nil), reach...))
		for k := -d; k <= d; k += 2 {
			x := *at(k - 1) + 1
			if k == -d || k != d && *at(k - 1) < *at(k + 1) {
				x = *at(k + 1)
			}
			for x < n && x-k < m && x-k >= 0 && a[x] == b[x-k] {
				x++
			}
			*at(k) = x
			if x >= n && x-k >= m {
				return backtrack(a, b, base, history, limit)
			}
		}
	}
	var out []edit
	for i, line := range a {
		out = append(out, edit{'-', line, base + i, base})
	}
	for i, line := range b {
		out = append(out, edit{'+', line, base + n, base + i})
	}
	return out
}

func backtrack(a, b []string, base int, history [][]int, limit int) []edit {
	x, y := len(a), len(b)
	var back []edit
	for d := len(history) - 1; d >= 0; d-- {
		reach := history[d]
		k := x - y
		at := func(k int) int { return reach[k+limit+1] }
		before := k - 1
		if k == -d || k != d && at(k-1) < at(k+1) {
			before = k + 1
		}
		px := at(before)
		py := px - before
		for x > px && y > py && x > 0 && y > 0 {
			x, y = x-1, y-1
			back = append(back, edit{' ', a[x], base + x, base + y})
		}
		if d == 0 {
			break
		}
		if x == px {
			y--
			back = append(back, edit{'+', b[y], base + x, base + y})
		} else {
			x--
			back = append(back, edit{'-', a[x], base + x, base + y})
		}
	}
	for i, j := 0, len(back)-1; i < j; i, j = i+1, j-1 {
		back[i], back[j] = back[j], back[i]
	}
	return back
}
