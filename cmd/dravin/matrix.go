package main

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravin/core/proof"
	"dravin/core/snapshot"
)

// mostListed is how many flows of a kind are listed.
const mostListed = 200

// matrixAnswer is what dravin matrix prints.
type matrixAnswer struct {
	proof.View
	Left    int             `json:"left,omitempty"` // hosts that are left out
	Changes []proof.Changed `json:"changes,omitempty"`
	Leaking []proof.Flow    `json:"leaking,omitempty"`
	Missing []proof.Flow    `json:"missing,omitempty"`
}

func matrixCommand() *cobra.Command {
	var out format
	var under condition
	var before, by string
	var services []string
	c := &cobra.Command{
		Use:   "matrix FILE.yaml [--by party] [--service tcp/443] [--before FILE.yaml]",
		Short: "Who reaches whom, against what is meant; exit 1 if something is missing or leaking, or has changed",
		Long: "Every host, and every LAN, inner route and subnet without one, against every other, for the " +
			"services in use.\n" +
			"--before compares with another design file: what has opened, what has closed. With --without the matrix\n" +
			"is compared with that of the whole.",
		Args: exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			if !slices.Contains(proof.Bys, proof.By(by)) {
				return badInput(fmt.Errorf("--by %q is not known; give %s", by, bysWords()))
			}
			s, err := under.read(args[0])
			if err != nil {
				return err
			}
			old, err := comparedWith(s, before, under, args[0])
			if err != nil {
				return err
			}
			answer, found, err := answerMatrix(c.Context(), s, old, proof.By(by), services)
			if err != nil {
				return err
			}
			if err := out.write(c, answer, func(w io.Writer) { printMatrix(w, answer) }); err != nil {
				return err
			}
			if found {
				return errFound
			}
			return nil
		},
	}
	out.add(c)
	under.add(c)
	c.Flags().StringVar(&before, "before", "", "a design file to compare with")
	c.Flags().StringVar(&by, "by", string(proof.ByParty), "what a row stands for: "+bysWords())
	c.Flags().StringArrayVar(&services, "service", nil, "only this service, such as tcp/443; may be repeated")
	return c
}

func bysWords() string {
	var out []string
	for _, b := range proof.Bys {
		out = append(out, string(b))
	}
	return strings.Join(out, ", ")
}

// comparedWith is what a matrix is compared with: that of another file, or of the whole where something is taken away;
// nil with neither.
func comparedWith(s *snapshot.Solved, before string, under condition, path string) (*snapshot.Solved, error) {
	switch {
	case before != "":
		under.without = nil
		return under.read(before)
	case len(under.without) > 0:
		whole := under
		whole.without = nil
		return whole.read(path)
	}
	return nil, nil
}

func answerMatrix(ctx context.Context, s, old *snapshot.Solved, by proof.By, services []string) (
	out matrixAnswer, found bool, err error,
) {
	m, err := s.Matrix(ctx, nil)
	if err != nil {
		return out, false, err
	}
	if err := m.InUse(services); err != nil {
		return out, false, badInput(fmt.Errorf("--service: %w", err))
	}
	out.Left = m.Left
	if old != nil {
		was, err := old.Matrix(ctx, nil)
		if err != nil {
			return out, false, err
		}
		out.View, out.Changes = m.Against(was, by, "", services, mostListed)
		return out, len(out.Changes) > 0, nil
	}
	out.View = m.View(by, "", services)
	for _, f := range m.Worst(services, mostListed) {
		if f.State == string(proof.Leaking) {
			out.Leaking = append(out.Leaking, f)
		} else {
			out.Missing = append(out.Missing, f)
		}
	}
	return out, len(out.Leaking)+len(out.Missing) > 0, nil
}

func printMatrix(w io.Writer, a matrixAnswer) {
	width := 0
	for _, l := range a.Lines {
		width = max(width, len([]rune(l.Title)))
	}
	for n := range a.Rows {
		fmt.Fprintf(w, "%3d %-*s %s\n", n+1, width, a.Lines[n].Title, a.Rows[n])
	}
	if len(a.Rows) < len(a.Lines) {
		fmt.Fprintf(w, "%d lines are too many to print; fold them by --by place or party.\n", len(a.Lines))
	}
	if a.Left > 0 {
		fmt.Fprintf(w, "%d hosts are left out: each place shows its first ones.\n", a.Left)
	}
	fmt.Fprintf(w, "\nRows start, columns answer, in the order of the rows; for %s.\n", strings.Join(a.Services, ", "))
	if a.Changes != nil {
		fmt.Fprintf(w, "g opened: %d flows; l closed: %d\n", a.Counts["g"], a.Counts["l"])
		for _, c := range a.Changes {
			word := "closed"
			if c.Works {
				word = "opened"
			}
			fmt.Fprintf(w, "%s  %s to %s on %s%s\n", word, c.FromTitle, c.ToTitle, c.Service, ofState(c.State))
		}
		if more := a.Counts["g"] + a.Counts["l"] - len(a.Changes); more > 0 {
			fmt.Fprintf(w, "and %d more; --service keeps to one service\n", more)
		}
		return
	}
	for _, s := range proof.States {
		fmt.Fprintf(w, "%s %-14s %7d flows: %s\n", s.Code, s.Title, a.Counts[s.Code], s.Doc)
	}
	for _, f := range append(slices.Clone(a.Leaking), a.Missing...) {
		fmt.Fprintf(w, "%s %s to %s on %s", stateTitle(f.State), f.FromTitle, f.ToTitle, f.Service)
		if f.Code != "" {
			fmt.Fprintf(w, " (%s)", f.Code)
		}
		fmt.Fprintln(w)
	}
	if len(a.Leaking)+len(a.Missing) == mostListed {
		fmt.Fprintf(w, "the worst %d are listed; --service keeps to one service\n", mostListed)
	}
}

func stateTitle(code string) string {
	for _, s := range proof.States {
		if s.Code == code {
			return s.Title
		}
	}
	return code
}

func ofState(code string) string {
	if code == string(proof.Closed) {
		return ""
	}
	return ": " + stateTitle(code)
}
