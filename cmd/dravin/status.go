package main

import (
	"fmt"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"dravin/core/design"
	"dravin/core/snapshot"
	"dravin/core/status"
)

// condition is under what a command looks at a design.
type condition struct {
	today   bool
	without []string
}

func (x *condition) add(c *cobra.Command) {
	c.Flags().BoolVar(
		&x.today, "today", false,
		"look at what is built; otherwise at what is planned, as if all of it were done",
	)
	x.failed(c)
}

// failed adds the flag of what is taken away alone, where it is always the plan that is looked at.
func (x *condition) failed(c *cobra.Command) {
	c.Flags().
		StringArrayVar(&x.without, "without", nil, "take something away first: a party, gateway, link, tunnel, session, "+
			"circuit, peering or attachment by its path, a zone, or a public address; may be repeated")
}

// solve solves a design under the condition.
func (x *condition) solve(d *design.Design) (*snapshot.Solved, error) {
	var c status.Condition
	if x.today {
		d = d.Built()
	}
	var err error
	if c.Without, err = thingsOf(d, x.without); err != nil {
		return nil, err
	}
	return snapshot.Of(d, c), nil
}

// thingsOf reads what is taken away.
func thingsOf(d *design.Design, texts []string) ([]status.Thing, error) {
	out, err := status.ParseThings(d, texts)
	if err != nil {
		return nil, badInput(fmt.Errorf("--without: %w", err))
	}
	return out, nil
}

// read reads a design file and solves it under the condition.
func (x *condition) read(path string) (*snapshot.Solved, error) {
	d, err := readDesign(path)
	if err != nil {
		return nil, err
	}
	return x.solve(d)
}

// statusRow is how one thing stands.
type statusRow struct {
	Kind  design.Kind `json:"kind"`
	Path  string      `json:"path"`
	State string      `json:"state"`
	status.Verdict
}

func statusCommand() *cobra.Command {
	var out format
	var under condition
	var all bool
	c := &cobra.Command{
		Use:   "status FILE.yaml",
		Short: "List what is down, with the first cause; exit 1 if anything is",
		Args:  exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := under.read(args[0])
			if err != nil {
				return err
			}
			d := s.Tables.Design
			rows, down := []statusRow{}, false
			for _, o := range d.All() {
				if !slices.Contains(status.CanFail, o.Kind) || o.Kind == design.KindOutside {
					continue
				}
				v := s.Tables.Status.Of(o.ID)
				down = down || !v.Up
				if all || !v.Up {
					rows = append(rows, statusRow{o.Kind, d.Path(o.ID), design.StateOf(o), v})
				}
			}
			side := d.Side().Word()
			if err := out.write(c, rows, func(w io.Writer) { printStatus(w, rows, side) }); err != nil {
				return err
			}
			if down {
				return errFound
			}
			return nil
		},
	}
	out.add(c)
	under.add(c)
	c.Flags().BoolVar(&all, "all", false, "list what is up, too")
	return c
}

func printStatus(w io.Writer, rows []statusRow, side string) {
	if len(rows) == 0 {
		fmt.Fprintf(w, "Everything is up %s.\n", side)
	}
	for _, r := range rows {
		if r.Up {
			fmt.Fprintf(w, "up    %-12s %s\n", r.Kind, r.Path)
			continue
		}
		fmt.Fprintf(w, "down  %-12s %s\n      %s, %s: %s\n", r.Kind, r.Path, r.Cause, side, r.Why)
	}
}
