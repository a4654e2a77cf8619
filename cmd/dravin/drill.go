package main

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravin/core/proof"
	"dravin/core/remedy"
	"dravin/core/status"
	"dravin/core/words"
)

// drilled is a drill with what would let its intents survive it.
type drilled struct {
	proof.Drill
	Remedies []remedy.Remedy `json:"remedies,omitempty"`
}

func drillCommand() *cobra.Command {
	var out format
	var under condition
	var all, plans bool
	c := &cobra.Command{
		Use:   "drill FILE.yaml [--without THING]... [--plans]",
		Short: "What dies and what moves, and for how long, when something fails; exit 1 if an intent dies",
		Long: "Without --without everything that may fail alone is taken away, one at a time, worst first.\n" +
			"With it that is taken away, all of it together.",
		Args: exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			without := under.without
			under.without = nil
			s, err := under.read(args[0])
			if err != nil {
				return err
			}
			things := status.Single(s.Design)
			if len(without) > 0 {
				if things, err = thingsOf(s.Design, without); err != nil {
					return err
				}
			}
			x, err := proof.DrillsOf(c.Context(), s.Proofs)
			if err != nil {
				return err
			}
			var list []proof.Drill
			if len(without) > 0 {
				one, err := x.Without(c.Context(), things...)
				if err != nil {
					return err
				}
				list = []proof.Drill{one}
			} else if list, err = x.Each(c.Context(), things, nil); err != nil {
				return err
			}
			answer := []drilled{}
			dies := false
			for _, d := range list {
				dies = dies || len(d.Dies) > 0
				one := drilled{Drill: d}
				if plans && len(d.Dies) > 0 {
					if one.Remedies, err = remedy.ForFailure(c.Context(), s.Proofs, d); err != nil {
						return err
					}
				}
				if all || len(without) > 0 || len(d.Dies)+len(d.Moves)+len(d.Heals) > 0 {
					answer = append(answer, one)
				}
			}
			if err := out.write(c, answer, func(w io.Writer) { printDrills(w, answer, len(list), plans) }); err != nil {
				return err
			}
			if dies {
				return errFound
			}
			return nil
		},
	}
	out.add(c)
	under.add(c)
	c.Flags().BoolVar(&all, "all", false, "list what changes nothing, too")
	c.Flags().BoolVar(&plans, "plans", false, "work out what would let intents survive")
	return c
}

func printDrills(w io.Writer, list []drilled, of int, plans bool) {
	for _, x := range list {
		fmt.Fprintf(w, "without %s (%s)\n", x.Title, x.Kind)
		for _, h := range x.Dies {
			fmt.Fprintf(w, "  dies   %s\n         %s\n", h.Name, h.Why)
		}
		for _, m := range x.Moves {
			fmt.Fprintf(
				w, "  moves  %s: from %s to %s, %s\n", m.Name, listed(m.Left), listed(m.Now), untilWords(m.Until),
			)
		}
		for _, h := range x.Heals {
			fmt.Fprintf(w, "  works  %s, only then\n", h.Name)
		}
		if len(x.Dies)+len(x.Moves)+len(x.Heals) == 0 {
			fmt.Fprintln(w, "  nothing dies and nothing moves")
		}
		for _, r := range x.Remedies {
			fmt.Fprintf(w, "  plan   %s: tried, and it survives\n", r.Title)
		}
		if plans && len(x.Dies) > 0 && len(x.Remedies) == 0 {
			fmt.Fprintln(w, "  plan   none was found by which it survives")
		}
	}
	deadly := slices.DeleteFunc(slices.Clone(list), func(x drilled) bool { return len(x.Dies) == 0 })
	fmt.Fprintf(
		w, "%s, %d of which %s an intent\n", words.Count(of, "drill", "drills"), len(deadly),
		words.Verb(len(deadly), "kills", "kill"),
	)
}

func listed(list []string) string {
	if len(list) == 0 {
		return "its tunnel"
	}
	return strings.Join(list, ", ")
}

func untilWords(u proof.Until) string {
	switch {
	case u.Never:
		return "never by itself: " + u.Why
	case u.Seconds > 0:
		return fmt.Sprintf("within %d s: %s", u.Seconds, u.Why)
	case u.Why != "":
		return "at once: " + u.Why
	}
	return "at once"
}
