package main

import (
	"context"
	"fmt"
	"io"
	"os/exec"
	"slices"
	"strings"
	"time"

	"dravin/core/runbook"
	"dravin/core/words"
)

// Checked is what came of one check of a step, run on the box at which the step is done.
type Checked struct {
	Text string `json:"text"`
	Line string `json:"line,omitempty"` // empty: nobody can type it, and it is looked at by hand
	Good bool   `json:"good"`
	Says string `json:"says,omitempty"` // what the line printed, if it is not true
}

// checkWithin is how long one line may take.
const checkWithin = 30 * time.Second

// checked runs the checks of a step that are lines for a shell on this machine.
func checked(ctx context.Context, b *runbook.Runbook, number int) ([]Checked, error) {
	k := slices.IndexFunc(b.Steps, func(s runbook.Step) bool { return s.N == number })
	if k < 0 {
		return nil, badInput(fmt.Errorf(
			"--check %d is no step of this runbook; it has the steps 1 to %d", number, len(b.Steps),
		))
	}
	out := []Checked{}
	for _, c := range b.Steps[k].Checks {
		x := Checked{Text: c.Text, Line: c.Line}
		if c.Line != "" {
			ctx, end := context.WithTimeout(ctx, checkWithin)
			text, err := exec.CommandContext(ctx, "/bin/sh", "-c", c.Line).CombinedOutput()
			end()
			if x.Good = err == nil; !x.Good {
				x.Says = telling(string(text))
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// telling is the line of an output that tells most: that of an error, or the last.
func telling(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	for _, l := range lines {
		if strings.Contains(strings.ToLower(l), "error") {
			return strings.TrimSpace(l)
		}
	}
	return strings.TrimSpace(lines[len(lines)-1])
}

// printChecked tells what came of checks, and returns an error if any is not true.
func printChecked(w io.Writer, list []Checked) {
	for _, x := range list {
		word := map[bool]string{true: "true     ", false: "not true "}[x.Good]
		if x.Line == "" {
			word = "by hand  "
		}
		fmt.Fprintf(w, "%s %s\n", word, x.Text)
		if x.Line != "" && !x.Good {
			fmt.Fprintf(w, "           %s\n", x.Line)
			if x.Says != "" {
				fmt.Fprintf(w, "           %s\n", x.Says)
			}
		}
	}
}

// untrue is the error of checks that were run and are not true; nil if there is none.
func untrue(list []Checked) error {
	n := 0
	for _, x := range list {
		if x.Line != "" && !x.Good {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return fmt.Errorf("%s not true", words.Count(n, "check is", "checks are"))
}
