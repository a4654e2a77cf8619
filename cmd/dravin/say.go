package main

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"dravin/core/command"
	"dravin/core/design"
)

func sayCommand() *cobra.Command {
	var out format
	var into, fresh string
	var built bool
	c := &cobra.Command{
		Use:   `say FILE "LINE"... [-o OUT]`,
		Short: "Make and change things in a design by saying them; without lines, write the design as sayings",
		Long: "Each line is one saying; docs/sayings.md has the language. Nothing is written unless all of it is " +
			"understood. Without -o it is only told what would be done. With --new NAME it begins with an empty design and " +
			"needs no FILE.",
		RunE: func(c *cobra.Command, args []string) error {
			d, lines, err := spoken(args, fresh)
			if err != nil {
				return err
			}
			if len(lines) == 0 {
				fmt.Fprint(c.OutOrStdout(), command.Sayings(d))
				return nil
			}
			side := design.Planned
			if built {
				side = design.Built
			}
			u, err := command.Understand(c.Context(), d.On(side), strings.Join(lines, "\n"), "")
			if err != nil {
				return err
			}
			if err := out.write(c, u, func(w io.Writer) { printUnderstood(w, u) }); err != nil {
				return err
			}
			if u.Wrong || u.Leads != nil { // what only leads on makes nothing
				return errFound
			}
			if into == "" {
				return nil
			}
			next, _, err := d.Apply(d.Said(d.On(side).Said(u.Edits)))
			if err != nil {
				return badInput(err)
			}
			return replace(into, next)
		},
	}
	out.add(c)
	c.Flags().StringVarP(&into, "output", "o", "", "the design file to write")
	c.Flags().BoolVar(&built, "built", false, "say what is there; the plan follows as far as it does not differ there")
	c.Flags().StringVar(&fresh, "new", "", "begin with an empty design of this name")
	return c
}

// spoken is the design that is spoken of, and the lines.
func spoken(args []string, fresh string) (*design.Design, []string, error) {
	if fresh != "" {
		return design.New(fresh, nil), args, nil
	}
	if len(args) == 0 {
		return nil, nil, badInput(errors.New("give a design file, or --new and a name"))
	}
	d, err := readDesign(args[0])
	return d, args[1:], err
}

func printUnderstood(w io.Writer, u command.Understood) {
	for _, l := range u.Lines {
		for _, p := range l.Problems {
			fmt.Fprintf(
				w, "  %s\n  %s%s\n%s", l.Text, strings.Repeat(" ", p.From), strings.Repeat("^", max(p.To-p.From, 1)),
				p.Why,
			)
			if p.Want != "" {
				fmt.Fprintf(w, "; %s", p.Want)
			}
			fmt.Fprintln(w)
		}
		for _, d := range l.Does {
			fmt.Fprintln(w, d.Text)
		}
		for _, f := range l.Filled {
			fmt.Fprintf(w, "  %s %s: %s\n", f.What, f.Value, f.Why)
		}
		for _, n := range l.Notes {
			fmt.Fprintf(w, "  %s\n", n)
		}
	}
	if u.Leads != nil {
		fmt.Fprintln(
			w, "  Nothing is joined yet. Say by which shape, such as: by vpn, by peering, by a hub; where ranges collide, "+
				"also: translated.",
		)
	}
}
