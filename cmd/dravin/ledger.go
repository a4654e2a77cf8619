package main

import (
	"bytes"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"dravin/core/design"
	"dravin/core/ingest"
	"dravin/core/ledger"
	"dravin/core/snapshot"
	"dravin/core/walk"
	"dravin/core/words"
)

func ledgerCommand() *cobra.Command {
	var under condition
	var as, viewer, ask, origin, path string
	c := &cobra.Command{
		Use:   "ledger FILE.yaml [--ask ADDRESS] [--for PARTY] [--format text|csv|xlsx|zone]",
		Short: "Who sees whom as what, as text, table or zone file",
		Long: "Lists every mapped range, whoever is hidden, every published service and every pool; with --for what one " +
			"party dials to reach whom.\n" +
			"--ask looks an address, range or host up, both ways.\n" +
			"--format csv and xlsx list every named host under every name but its own, as seen by every party or by --for; " +
			"zone writes the names that\n" +
			"--for should use, forward and reverse (RFC 1035), under --origin.",
		Args: exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := under.read(args[0])
			if err != nil {
				return err
			}
			var text bytes.Buffer
			if err := writeLedger(&text, s, as, viewer, ask, origin); err != nil {
				return badInput(err)
			}
			if path != "" {
				return writeFile(path, text.Bytes(), 0o644)
			}
			_, err = c.OutOrStdout().Write(text.Bytes())
			return err
		},
	}
	under.add(c)
	c.Flags().StringVar(&as, "format", "text", "text, csv, xlsx or zone")
	c.Flags().StringVar(&viewer, "for", "", "the party that looks")
	c.Flags().StringVar(&ask, "ask", "", "an address, a range or a host")
	c.Flags().StringVar(&origin, "origin", "internal", "of zone files")
	c.Flags().StringVarP(&path, "output", "o", "", "a file to write")
	return c
}

func writeLedger(w io.Writer, s *snapshot.Solved, as, viewer, ask, origin string) error {
	var who design.ID
	if viewer != "" {
		found := s.Design.Find(viewer, ledger.Viewers...)
		if len(found) != 1 {
			return fmt.Errorf("--for: %d sites and networks are called %q; give the path of one", len(found), viewer)
		}
		who = found[0].ID
	}
	switch as {
	case "csv", "xlsx":
		header, rows := ledger.Rows(ledger.EntriesOf(s.Tables, who))
		if as == "csv" {
			return ingest.WriteCSV(w, header, rows)
		}
		return ingest.WriteXLSX(w, header, rows)
	case "zone":
		if who == "" {
			return fmt.Errorf("--format zone: say with --for who looks; names differ by who asks")
		}
		below, err := ledger.ParseOrigin(origin)
		if err != nil {
			return fmt.Errorf("--origin: %w", err)
		}
		_, err = io.WriteString(w, ledger.Zone(s.Tables, who, below))
		return err
	case "text":
	default:
		return fmt.Errorf("--format %q is not known; give text, csv, xlsx or zone", as)
	}
	if ask != "" {
		a, err := ledger.Ask(s.Tables, ask)
		if err != nil {
			return fmt.Errorf("--ask: %w", err)
		}
		printAsked(w, a)
		return nil
	}
	if who != "" {
		printView(w, s.Design, ledger.ViewOf(s.Tables, who))
		return nil
	}
	printLedger(w, ledger.Of(s.Tables))
	return nil
}

// printView is what one party dials.
func printView(w io.Writer, d *design.Design, v ledger.View) {
	for _, h := range v.Hosts {
		for n, name := range h.Names {
			how := "its own"
			switch {
			case name.Listener != "":
				how = "published, " + name.Service.String()
			case name.Mapping != "":
				how = "mapped"
			}
			if n == 0 {
				fmt.Fprintf(w, "%s, really %s\n", h.Title, h.Real)
			}
			fmt.Fprintf(w, "    %s dials %s (%s)\n", d.Title(v.Viewer), name.Address, how)
		}
	}
	if v.Left > 0 {
		fmt.Fprintf(w, "%s more; --format csv lists all\n", words.Count(v.Left, "host", "hosts"))
	}
	if v.Unreached > 0 {
		fmt.Fprintf(
			w, "%s reached under no name\n",
			words.Count(v.Unreached, "named host of others is", "named hosts of others are"),
		)
	}
}

func printIdentity(w io.Writer, who walk.Identity, indent string) {
	fmt.Fprintf(w, "%s%s, really %s\n", indent, who.Title, who.Real)
	for _, n := range who.Names {
		service := ""
		if n.Service.Port != 0 {
			service = " " + n.Service.String()
		}
		fmt.Fprintf(w, "%s  %s%s seen by %s\n", indent, n.Address, service, n.Seen)
	}
}

func printAsked(w io.Writer, a ledger.Asked) {
	for _, h := range a.Hosts {
		printIdentity(w, h, "")
	}
	for _, p := range a.Part {
		fmt.Fprintf(w, "%s %s %s\n", p.Asked, p.Word, p.Is)
	}
	for _, k := range a.Ranges {
		fmt.Fprintf(w, "%s: %s is seen as %s; %s\n", k.Title, k.Real, k.Mapped, k.Sum)
	}
	for _, h := range a.Hidden {
		printHidden(w, h)
	}
	if len(a.Hosts)+len(a.Ranges)+len(a.Hidden) == 0 {
		fmt.Fprintln(w, "Nobody has it, under any name.")
	}
}

func printHidden(w io.Writer, h ledger.Hidden) {
	toward := ""
	if h.Toward != "" {
		toward = " toward " + h.Toward
	}
	fmt.Fprintf(w, "%s: %s hidden behind %s at %s%s\n", h.Title, orAll(h.Ranges), orAll(h.As), h.AtTitle, toward)
}

func orAll[T fmt.Stringer](list []T) string {
	if len(list) == 0 {
		return "everything"
	}
	out := make([]string, len(list))
	for n, v := range list {
		out[n] = v.String()
	}
	return words.List(out)
}

func printLedger(w io.Writer, l ledger.Ledger) {
	if len(l.Ranges)+len(l.Hidden)+len(l.Services) == 0 {
		fmt.Fprintln(w, "Nothing is translated: everyone is seen by their real address.")
	}
	for _, k := range l.Ranges {
		fmt.Fprintf(w, "%s: %s is seen as %s beyond %s, at %s\n", k.Title, k.Real, k.Mapped, k.Toward, k.AtTitle)
		for _, h := range k.Hosts {
			printIdentity(w, h, "    ")
		}
	}
	for _, h := range l.Hidden {
		printHidden(w, h)
	}
	for _, s := range l.Services {
		fmt.Fprintf(w, "%s:\n", s.Name)
		for _, x := range s.Chain {
			fmt.Fprintf(w, "    %s %s at %s, %s, to %s port %d\n", x.Address, x.Service, x.At, x.How, x.To, x.Port)
		}
		fmt.Fprintf(
			w, "    ends at %s%s\n", s.Title,
			map[bool]string{true: "", false: ", which does not listen for it"}[s.Answers],
		)
	}
	for _, p := range l.Pools {
		fmt.Fprintf(w, "pool %s at %s: %s\n", p.Pool, p.Title, p.Ends)
	}
	for _, u := range l.Unneeded {
		fmt.Fprintf(w, "not needed: %s: %s\n", u.Title, u.Why)
	}
}
