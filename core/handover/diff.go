package handover

import (
	"slices"
	"strings"

	"github.com/pmezard/go-difflib/difflib"
)

// Change is how a file differs from what was handed before.
type Change struct {
	Path string `json:"path"`
	How  string `json:"how" enum:"new,gone,changed"`
	Diff string `json:"diff"` // unified, as diff -u writes it
}

// Diff is what is another between what was handed and what there is now. Files that hold keys are compared as they
// stand: give them masked.
func Diff(before, now []File) []Change {
	out := []Change{}
	old, fresh := byPath(before), byPath(now)
	var paths []string
	for _, all := range []map[string]string{old, fresh} {
		for path := range all {
			if !slices.Contains(paths, path) {
				paths = append(paths, path)
			}
		}
	}
	slices.Sort(paths)
	for _, path := range paths {
		was, had := old[path]
		is, has := fresh[path]
		c := Change{Path: path, How: "changed"}
		switch {
		case had && has && was == is:
			continue
		case !had:
			c.How = "new"
		case !has:
			c.How = "gone"
		}
		c.Diff, _ = difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
			A: linesOf(was), B: linesOf(is), FromFile: "as handed: " + path, ToFile: "now: " + path, Context: 3,
		})
		out = append(out, c)
	}
	return out
}

func byPath(files []File) map[string]string {
	out := map[string]string{}
	for _, f := range files {
		out[f.Path] = f.Content
	}
	return out
}

func linesOf(text string) []string {
	if text == "" {
		return nil
	}
	lines := strings.SplitAfter(text, "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}
