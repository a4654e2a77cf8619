package main

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravin/core/design"
	"dravin/core/ingest"
)

// brought is what one file would do, or did.
type brought struct {
	File string `json:"file"`
	*ingest.Plan
}

func importCommand() *cobra.Command {
	var out format
	var into, fresh, file string
	var how importing
	var dry bool
	c := &cobra.Command{
		Use:   "import FILE... --into DESIGN.yaml | --new NAME -o DESIGN.yaml",
		Short: "Bring spreadsheets, router output, text or designs into a design file; exit 1 if a line is refused",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 || (into == "") == (fresh == "") || fresh != "" && file == "" {
				return badInput(errors.New(
					"give one or more files, and --into the design file that they go into, or --new with a name and -o with a file",
				))
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			to := cmp.Or(file, into)
			d, err := before(into, to, fresh)
			if err != nil {
				return err
			}
			d, all, refused, err := bringAll(c, d, args, how)
			if err != nil {
				return err
			}
			if !dry {
				if err := replace(to, d); err != nil {
					return err
				}
			}
			if err := out.write(c, all, func(w io.Writer) { printBrought(w, all, dry) }); err != nil {
				return err
			}
			if refused > 0 {
				return errFound
			}
			return nil
		},
	}
	out.add(c)
	c.Flags().StringVar(&into, "into", "", "the design file")
	c.Flags().StringVarP(
		&file, "output", "o", "", "the design file to write; with --new one that is not there; default: that of --into",
	)
	c.Flags().StringVar(&fresh, "new", "", "makes a new design of that name")
	c.Flags().StringVar(&how.party, "party", "", "whose the lines are that do not say")
	c.Flags().StringVar(&how.sheet, "sheet", "", "the sheet of a workbook, or * for all; default: the first")
	c.Flags().StringVar(&how.encoding, "encoding", "",
		"what text is in, of "+strings.Join(ingest.Encodings(), ", ")+"; default: told by its beginning")
	c.Flags().BoolVar(&how.refuseHosts, "refuse-hosts", false,
		"refuse a host's address with a length; default: take the range that holds it")
	c.Flags().BoolVar(&how.planned, "planned", false, "it is planned; otherwise what is brought in is taken to be there")
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would be done, line by line, and do nothing")
	return c
}

// importing directs how files are read.
type importing struct {
	party, sheet, encoding string
	refuseHosts, planned   bool
}

// before is the design that files are brought into: one that is there, or a new one of a name.
func before(into, to, fresh string) (*design.Design, error) {
	if fresh == "" {
		if _, err := os.Stat(into); errors.Is(err, os.ErrNotExist) {
			return nil, badInput(fmt.Errorf("%s is not there yet; give --new with a name, and -o %s, to make it", into, into))
		}
		return readDesign(into)
	}
	if _, err := os.Stat(to); err == nil {
		return nil, badInput(fmt.Errorf("%s is there already; give --into to bring the files into it, or another file", to))
	}
	return design.New(fresh, nil), nil
}

// bringAll brings the files in, one after the other, and counts refused lines.
func bringAll(
	c *cobra.Command,
	d *design.Design,
	paths []string,
	how importing,
) (_ *design.Design, all []brought, refused int, err error) {
	for _, path := range paths {
		var b brought
		if d, b, err = bring(c, d, path, how); err != nil {
			return nil, nil, 0, err
		}
		all = append(all, b)
		refused += b.Counts[ingest.Refused]
	}
	return d, all, refused, nil
}

func bring(c *cobra.Command, d *design.Design, path string, how importing) (*design.Design, brought, error) {
	unusable := func(err error) (*design.Design, brought, error) {
		return nil, brought{}, badInput(fmt.Errorf("%s can not be used\n%w", path, err))
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, brought{}, badInput(err)
	}
	defer f.Close()
	table, err := ingest.Read(c.Context(), f, ingest.Options{Sheet: how.sheet, Encoding: how.encoding})
	if err != nil {
		return unusable(err)
	}
	plan, err := ingest.Make(c.Context(), d, table, ingest.How{Party: how.party, RefuseHosts: how.refuseHosts})
	if err != nil {
		return unusable(err)
	}
	edits := plan.Edits
	if !how.planned {
		edits = d.SaidThere(edits)
	}
	next, _, err := d.Apply(edits)
	if err != nil {
		return unusable(err)
	}
	return next, brought{path, plan}, nil
}

// replace writes the design file anew, whole or not at all.
func replace(path string, d *design.Design) error {
	text, err := d.Write()
	if err != nil {
		return err
	}
	return writeFile(path, text, 0o644)
}

func printBrought(w io.Writer, all []brought, dry bool) {
	for _, b := range all {
		fmt.Fprintf(w, "%s (%s): %d new, %d changed, %d the same, %d refused\n", b.File, b.Format,
			b.Counts[ingest.New], b.Counts[ingest.Changed], b.Counts[ingest.Kept], b.Counts[ingest.Refused])
		for _, note := range b.Notes {
			fmt.Fprintf(w, "  %s\n", note)
		}
		if slices.Contains(b.Asks, "party") {
			fmt.Fprintln(w, "  Some lines do not say whose they are: name the party with --party.")
		}
		for _, i := range b.Items {
			if dry || i.Outcome == ingest.Refused || i.Why != "" && i.Outcome == ingest.New {
				fmt.Fprintf(w, "  line %-6d %-8s %s", i.Line, i.Outcome, i.Subject)
				if i.Why != "" {
					fmt.Fprintf(w, ": %s", i.Why)
				}
				fmt.Fprintln(w)
			}
		}
	}
}
