package main

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"dravin/core/finding"
)

func checkCommand() *cobra.Command {
	var out format
	var under condition
	c := &cobra.Command{
		Use:   "check FILE.yaml",
		Short: "List every finding of a design; exit 1 if something is broken or at risk",
		Args:  exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := under.read(args[0])
			if err != nil {
				return err
			}
			findings := s.Findings.All()
			if err := out.write(c, findings, func(w io.Writer) { printFindings(w, findings) }); err != nil {
				return err
			}
			for _, f := range findings {
				if f.Severity == finding.Broken || f.Severity == finding.Risk {
					return errFound
				}
			}
			return nil
		},
	}
	out.add(c)
	under.add(c)
	return c
}

func printFindings(w io.Writer, findings []finding.Finding) {
	if len(findings) == 0 {
		fmt.Fprintln(w, "Nothing found.")
	}
	for _, f := range findings {
		fmt.Fprintf(w, "%-8s %s: %s\n", f.Severity, f.Code, f.Sentence)
		for _, e := range f.Evidence {
			fmt.Fprintf(w, "         - %s\n", e)
		}
		for _, m := range f.Fixes {
			fmt.Fprintf(w, "         fix: %s\n", m.Title)
		}
	}
}
