package main

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/runbook"
	"dravin/core/status"
	"dravin/core/words"
)

func runbookCommand() *cobra.Command {
	var out format
	var party, from string
	var check int
	c := &cobra.Command{
		Use:   "runbook FILE.yaml [--from OLDER.yaml] [--party PATH] [--check N]",
		Short: "The order of work from what is built to what is planned: who, what, its check, what is down, the way back",
		Args:  exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			d, err := readDesign(args[0])
			if err != nil {
				return err
			}
			if from != "" {
				older, err := readDesign(from)
				if err != nil {
					return err
				}
				d = d.WithBuilt(older.Built())
			}
			book, err := runbook.Of(c.Context(), proof.Of(route.Solve(d.Built(), status.Condition{})), d, nil, nil, nil)
			if err != nil {
				return err
			}
			if party != "" {
				found := d.Find(party, design.Parties...)
				if len(found) != 1 {
					return badInput(fmt.Errorf("--party %q is no party of this design; give its path, such as marrow-hill", party))
				}
				book.Steps = slices.DeleteFunc(book.Steps, func(s runbook.Step) bool { return s.Party != found[0].ID })
			}
			if check > 0 {
				list, err := checked(c.Context(), book, check)
				if err != nil {
					return err
				}
				if err := out.write(c, list, func(w io.Writer) { printChecked(w, list) }); err != nil {
					return err
				}
				return untrue(list)
			}
			return out.write(c, book, func(w io.Writer) { printRunbook(w, book) })
		},
	}
	out.add(c)
	c.Flags().StringVar(&from, "from", "", "what is built, in place of what FILE says: a design file from before")
	c.Flags().IntVar(
		&check, "check", 0, "run the checks of the step with this number here, at its box and as root, and tell what "+
			"came of them",
	)
	c.Flags().StringVar(&party, "party", "", "only the steps of this party")
	return c
}

var windowHeads = map[runbook.Window]string{
	runbook.Before: "Before the window: nothing that works changes",
	runbook.During: "In the window",
	runbook.After:  "After the window",
}

// gateLine is what is waited for, for whom, how long, and from which step on.
func gateLine(b *runbook.Runbook, g runbook.Gate) string {
	out := g.Text
	if g.For != "" {
		out += ", for " + g.For
	}
	if g.Days > 0 {
		out += ", up to " + words.Count(int(g.Days), "day", "days")
	}
	for _, s := range b.Steps {
		if s.ID == g.Begins && !g.Begun {
			out += fmt.Sprintf(", once step %d is done", s.N)
		}
	}
	return out
}

func printRunbook(w io.Writer, b *runbook.Runbook) {
	window := runbook.Window("")
	for _, s := range b.Steps {
		if s.Window != window {
			window = s.Window
			fmt.Fprintf(w, "%s\n\n", windowHeads[window])
		}
		who := ""
		if s.Who != "" {
			who = " (" + s.Who + ")"
		}
		fmt.Fprintf(w, "[ ] %d. %s%s: %s\n", s.N, s.Where, who, s.Does)
		for _, id := range s.After {
			if k := slices.IndexFunc(b.Steps, func(x runbook.Step) bool { return x.ID == id }); k >= 0 {
				fmt.Fprintf(w, "      not before step %d, which brings an address that this one is set to\n", b.Steps[k].N)
			}
		}
		for _, l := range s.Enter {
			fmt.Fprintf(w, "      %s\n", l)
		}
		for _, f := range s.Files {
			fmt.Fprintf(w, "      file  /etc/%s\n", f)
		}
		for _, r := range s.Run {
			fmt.Fprintf(w, "      run   %s\n", r.Line)
		}
		for _, x := range s.Checks {
			fmt.Fprintf(w, "      check %s\n", strings.TrimSpace(x.Text+"  "+x.Line))
		}
		for _, list := range []struct {
			word string
			hits []runbook.Hit
		}{{"down", s.Down}, {"moves", s.Moves}, {"pause", s.Blinks}, {"works", s.Works}} {
			for _, h := range list.hits {
				fmt.Fprintf(w, "      %-5s %s %s\n", list.word, h.Name, h.Why)
			}
		}
		for _, l := range s.Back {
			fmt.Fprintf(w, "      back  %s\n", l)
		}
		fmt.Fprintln(w)
	}
	for _, g := range b.Gates {
		fmt.Fprintf(w, "waits: %s\n", gateLine(b, g))
	}
	for _, l := range b.Cannot {
		fmt.Fprintf(w, "can not be made: %s\n", l)
	}
	fmt.Fprintf(
		w, "%s; %d of %d intents hold today, %d once all is done\n", words.Count(len(b.Steps), "step", "steps"),
		b.Holds, b.Of, b.Then,
	)
}
