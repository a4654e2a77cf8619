package main

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"dravin/core/design"
	"dravin/core/words"
)

func builtCommand() *cobra.Command {
	return sideCommand("built", "Print what is built as a design of its own", design.Built)
}

func plannedCommand() *cobra.Command {
	return sideCommand("planned", "Print what is planned as a design of its own, all of it built", design.Planned)
}

func sideCommand(name, short string, side design.Side) *cobra.Command {
	return &cobra.Command{
		Use: name + " FILE.yaml", Short: short, Args: exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			d, err := readDesign(args[0])
			if err != nil {
				return err
			}
			of := d.On(side)
			text, err := of.WithBuilt(of).Write()
			if err != nil {
				return err
			}
			_, err = c.OutOrStdout().Write(text)
			return err
		},
	}
}

func diffCommand() *cobra.Command {
	var out format
	var built bool
	c := &cobra.Command{
		Use:   "diff A.yaml [B.yaml]",
		Short: "What differs between two designs, by object and field; of one file between what is built and what is planned",
		Long: "Objects of two files are told to be the same by their kind and path. Exit 0 if nothing differs, 1 if " +
			"something does, 2 if the input can not be used.",
		Args: cobra.RangeArgs(1, 2),
		RunE: func(c *cobra.Command, args []string) error {
			a, err := readDesign(args[0])
			if err != nil {
				return err
			}
			b := a
			if len(args) == 1 {
				a = a.Built()
			} else if b, err = readDesign(args[1]); err != nil {
				return err
			}
			if built && len(args) == 2 {
				a, b = a.Built(), b.Built()
			}
			x := design.Compare(a, b)
			if len(args) == 1 {
				x = design.CompareSides(b)
			}
			if err := out.write(c, x, func(w io.Writer) { printDiff(w, x) }); err != nil {
				return err
			}
			if len(x.Here)+len(x.There)+len(x.Changed) > 0 {
				return errFound
			}
			return nil
		},
	}
	out.add(c)
	c.Flags().BoolVar(&built, "built", false, "of two files: compare what is built, not what is planned")
	return c
}

func printDiff(w io.Writer, x design.Comparison) {
	for _, list := range []struct {
		sign string
		of   []design.Difference
	}{{"-", x.Here}, {"+", x.There}, {"~", x.Changed}} {
		for _, d := range list.of {
			fmt.Fprintf(w, "%s %s %s\n", list.sign, d.Kind, d.Path)
			for _, f := range d.Fields {
				switch {
				case list.sign == "~":
					fmt.Fprintf(w, "    %s: %s -> %s\n", f.Key, orNone(f.Old), orNone(f.New))
				case f.Key != "name":
					fmt.Fprintf(w, "    %s: %s\n", f.Key, f.Old+f.New)
				}
			}
		}
	}
	fmt.Fprintf(
		w, "%s taken away, %d new, %d changed, %d the same\n", words.Count(len(x.Here), "object", "objects"), len(x.There),
		len(x.Changed), x.Same,
	)
}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}
