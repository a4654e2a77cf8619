package main

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"dravin/core/overlap"
)

func overlapsCommand() *cobra.Command {
	var out format
	c := &cobra.Command{
		Use:   "overlaps FILE.yaml",
		Short: "List the ranges that several parties hold, worst first; exit 1 if there are any unanswered",
		Args:  exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			d, err := readDesign(args[0])
			if err != nil {
				return err
			}
			groups := overlap.Find(d)
			if err := out.write(c, groups, func(w io.Writer) { printGroups(w, groups) }); err != nil {
				return err
			}
			for _, g := range groups {
				if g.Weight != overlap.Answered {
					return errFound
				}
			}
			return nil
		},
	}
	out.add(c)
	return c
}

func printGroups(w io.Writer, groups []overlap.Group) {
	if len(groups) == 0 {
		fmt.Fprintln(w, "No range is held by more than one party.")
	}
	for _, g := range groups {
		fmt.Fprintf(w, "%-8s %s: %s\n", g.Weight, g.Span, g.Sentence)
		for _, c := range g.Claims {
			fmt.Fprintf(w, "         - %-18s %s\n", c.Prefix, c.Title)
		}
	}
}
