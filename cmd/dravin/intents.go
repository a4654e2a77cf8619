package main

import (
	"encoding/json"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"dravin/core/design"
	"dravin/core/proof"
)

func intentsCommand() *cobra.Command {
	var out format
	var under condition
	c := &cobra.Command{
		Use:   "intents FILE.yaml [--format text|json|sarif]",
		Short: "Hold every intent against the design; exit 1 if one does not hold",
		Args:  exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			d, lines, err := readLines(args[0])
			if err != nil {
				return err
			}
			s, err := under.solve(d)
			if err != nil {
				return err
			}
			all, err := s.Proofs.Within(c.Context())
			if err != nil {
				return err
			}
			if out.name == "sarif" {
				err = writeSARIF(c.OutOrStdout(), s.Design, sarifFile{args[0], lines}, all)
			} else {
				err = out.write(c, all, func(w io.Writer) { printIntents(w, all) })
			}
			if err != nil {
				return err
			}
			if proof.Holding(all) < len(all) {
				return errFound
			}
			return nil
		},
	}
	out.add(c)
	under.add(c)
	c.Flags().Lookup("format").Usage = "text for people, json for programs, sarif for what reads SARIF 2.1.0"
	return c
}

// cause is why an intent does not hold.
func cause(r proof.Result) string {
	switch stop := r.Stop(); {
	case r.Error != "":
		return r.Error
	case r.Slow != "":
		return r.Slow
	case r.Never:
		return r.Leak()
	case r.Without != "":
		return "without " + r.WithoutTitle + ": " + stop.Why
	case stop != nil:
		return stop.Why
	}
	return ""
}

func printIntents(w io.Writer, all []proof.Result) {
	for _, r := range all {
		word := "holds"
		if !r.Holds {
			word = "fails"
		}
		fmt.Fprintf(w, "%s  %s\n", word, r.Name)
		if !r.Holds {
			fmt.Fprintf(w, "       %s\n", cause(r))
		}
	}
	fmt.Fprintf(w, "%d of %d hold\n", proof.Holding(all), len(all))
}

// The parts of SARIF 2.1.0 (an OASIS standard) that are written: a run with a result for each intent that fails.
type (
	sarifLog struct {
		Version string     `json:"version"`
		Schema  string     `json:"$schema"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool struct {
			Driver sarifDriver `json:"driver"`
		} `json:"tool"`
		Results []sarifResult `json:"results"`
	}
	sarifDriver struct {
		Name  string      `json:"name"`
		Rules []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID               string    `json:"id"`
		ShortDescription sarifText `json:"shortDescription"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID    string          `json:"ruleId"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations"`
		Prints    map[string]any  `json:"partialFingerprints"`
	}
	sarifLocation struct {
		Physical struct {
			Artifact struct {
				URI string `json:"uri"`
			} `json:"artifactLocation"`
			Region struct {
				Line int `json:"startLine"`
			} `json:"region"`
		} `json:"physicalLocation"`
		Logical []sarifLogical `json:"logicalLocations"`
	}
	sarifLogical struct {
		Name string `json:"fullyQualifiedName"`
		Kind string `json:"kind"`
	}
)

// sarifFile is where intents are said: the file, and on which line each begins.
type sarifFile struct {
	path  string
	lines map[design.ID]int
}

func writeSARIF(w io.Writer, d *design.Design, file sarifFile, all []proof.Result) error {
	log := sarifLog{
		Version: "2.1.0",
		Schema:  "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
	}
	run := sarifRun{Results: []sarifResult{}}
	run.Tool.Driver = sarifDriver{Name: "dravin", Rules: []sarifRule{}}
	told := map[string]bool{}
	for _, r := range all {
		if r.Holds {
			continue
		}
		rule := ruleOf(r)
		if !told[rule] {
			told[rule] = true
			run.Tool.Driver.Rules = append(
				run.Tool.Driver.Rules, sarifRule{rule, sarifText{"an intent does not hold: " + rule}},
			)
		}
		at := sarifLocation{Logical: []sarifLogical{{d.Path(r.Intent), "resource"}}}
		at.Physical.Artifact.URI = file.path
		at.Physical.Region.Line = file.lines[r.Intent]
		run.Results = append(run.Results, sarifResult{
			RuleID: rule, Level: "error", Message: sarifText{r.Name + ": " + cause(r)}, Locations: []sarifLocation{at},
			Prints: map[string]any{"intent/v1": string(r.Intent)},
		})
	}
	log.Runs = []sarifRun{run}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(log)
}

// ruleOf is the code under which a failing intent is told.
func ruleOf(r proof.Result) string {
	switch stop := r.Stop(); {
	case r.Error != "":
		return "can-not-be-walked"
	case r.Undecided:
		return "not-decided"
	case r.Slow != "":
		return "too-slow"
	case r.Never:
		return "leaking"
	case stop != nil:
		return string(stop.Code)
	}
	return "fails"
}
