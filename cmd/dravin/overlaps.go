package main

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"dravin/core/overlap"
	"dravin/core/prefix"
)

// pairFormat is how pairs are written, one after the other.
type pairFormat struct {
	open    func(io.Writer)
	between string
	pair    func(w io.Writer, s *stock, a, b int)
	close   func(w io.Writer, pairs int)
}

func overlapsCommand() *cobra.Command {
	var format string
	var groups, count, within, strict bool
	c := &cobra.Command{
		Use:   "overlaps FILE",
		Short: "List the overlapping ranges of a design, or of a CSV file with the columns party and prefix",
		Long: `List every pair of overlapping ranges of different parties, once.

FILE is a design, or delimited text whose first line names the columns party and
prefix. CSV output has the columns party_a, prefix_a, party_b, prefix_b, relation
(of a to b: equal, contains or within) and shared (the smaller of the two).
Exit 0; 1 only with --strict and any pair; 2 if the file can not be used.`,
		Args: exactly(1, "one design or CSV file"),
		RunE: func(c *cobra.Command, args []string) error {
			write, known := pairFormats[format]
			if !known {
				return badInput(fmt.Errorf("--format %q is not known; give text, csv or json", format))
			}
			s, err := readStock(args[0])
			if err != nil {
				return err
			}
			out := bufio.NewWriterSize(c.OutOrStdout(), 1<<16)
			var any bool
			switch {
			case count:
				any = writeCount(out, s, within)
			case groups:
				any, err = writeGroups(out, s, within, format)
			default:
				any = writePairs(out, s, within, write)
			}
			err = firstError(err, out.Flush())
			if err == nil && strict && any {
				return errFound
			}
			return err
		},
	}
	c.Flags().StringVar(&format, "format", "text", "text for people; csv or json for programs")
	c.Flags().BoolVar(&groups, "groups", false, "list what hangs together instead of pairs, worst first")
	c.Flags().BoolVar(&count, "count", false, "print the number of pairs alone")
	c.Flags().BoolVar(&within, "within-party", false, "pairs within one party too")
	c.Flags().BoolVar(&strict, "strict", false, "exit 1 if there is any pair")
	return c
}

func firstError(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func writeCount(w io.Writer, s *stock, within bool) bool {
	ranges, parties := s.flat()
	if within {
		parties = nil
	}
	n := prefix.Count(ranges, parties)
	fmt.Fprintln(w, n)
	return n > 0
}

func writePairs(w *bufio.Writer, s *stock, within bool, f pairFormat) bool {
	ranges, parties := s.flat()
	n := 0
	f.open(w)
	for a, b := range prefix.Pairs(ranges) {
		if within || parties[a] != parties[b] {
			if n > 0 {
				_, _ = w.WriteString(f.between)
			}
			f.pair(w, s, a, b)
			n++
		}
	}
	f.close(w, n)
	return n > 0
}

func writeGroups(w io.Writer, s *stock, within bool, format string) (bool, error) {
	list := s.groups(within)
	switch format {
	case "json":
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		return len(list) > 0, e.Encode(list)
	case "csv":
		c := csv.NewWriter(w)
		_ = c.Write([]string{"group", "weight", "party", "prefix"})
		for _, g := range list {
			for _, claim := range g.Claims {
				_ = c.Write([]string{g.Span.String(), string(g.Weight), claim.Title, claim.Prefix.String()})
			}
		}
		c.Flush()
		return len(list) > 0, c.Error()
	}
	printGroups(w, list)
	return len(list) > 0, nil
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

var pairFormats = map[string]pairFormat{
	"text": {
		open: func(io.Writer) {},
		pair: func(w io.Writer, s *stock, a, b int) { fmt.Fprintln(w, s.sentence(a, b)) },
		close: func(w io.Writer, pairs int) {
			if pairs == 0 {
				fmt.Fprintln(w, "No range is held by more than one party.")
			}
		},
	},
	"csv": {
		open: func(w io.Writer) { fmt.Fprintln(w, "party_a,prefix_a,party_b,prefix_b,relation,shared") },
		pair: func(w io.Writer, s *stock, a, b int) {
			r := rowOf(s, a, b)
			c := csv.NewWriter(w) // quotes what needs it; w is buffered
			_ = c.Write([]string{r.PartyA, r.PrefixA, r.PartyB, r.PrefixB, string(r.Relation), r.Shared})
			c.Flush()
		},
		close: func(io.Writer, int) {},
	},
	"json": {
		open:    func(w io.Writer) { fmt.Fprint(w, "[") },
		between: ",\n",
		pair: func(w io.Writer, s *stock, a, b int) {
			text, _ := json.Marshal(rowOf(s, a, b)) // strings alone: it can not fail
			_, _ = w.Write(text)
		},
		close: func(w io.Writer, _ int) { fmt.Fprintln(w, "]") },
	},
}

// row is a pair as programs get it.
type row struct {
	PartyA   string          `json:"party_a"`
	PrefixA  string          `json:"prefix_a"`
	PartyB   string          `json:"party_b"`
	PrefixB  string          `json:"prefix_b"`
	Relation prefix.Relation `json:"relation"` // of a to b
	Shared   string          `json:"shared"`   // the smaller prefix
}

func rowOf(s *stock, a, b int) row {
	x, y := s.prefix(a), s.prefix(b)
	return row{s.party(a), x.String(), s.party(b), y.String(), prefix.Relate(x, y), y.String()}
}
