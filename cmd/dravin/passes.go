package main

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"dravin/core/design"
	"dravin/core/passes"
)

func passesCommand() *cobra.Command {
	var out format
	var under condition
	var party string
	c := &cobra.Command{
		Use:   "passes FILE.yaml [--party P]",
		Short: "What filters let pass, by which rule, against what intents need; exit 1 if anything is missing",
		Args:  exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := under.read(args[0])
			if err != nil {
				return err
			}
			of, err := partyNamed(s.Design, party)
			if err != nil {
				return badInput(err)
			}
			held := s.Findings.Needs().Filters(passes.Concerning(s.Design, of))
			if err := out.write(c, held, func(w io.Writer) { printPasses(w, s.Design, held) }); err != nil {
				return err
			}
			for _, h := range held {
				for _, side := range h.Sides {
					if len(side.Missing) > 0 {
						return errFound
					}
				}
			}
			return nil
		},
	}
	out.add(c)
	under.add(c)
	c.Flags().StringVar(&party, "party", "", "only the filters of this party, host, group or crossing (path or name)")
	return c
}

// partyNamed is what filters are asked for; empty for all.
func partyNamed(d *design.Design, text string) (design.ID, error) {
	if text == "" {
		return "", nil
	}
	kinds := append([]design.Kind{
		design.KindEndpoint, design.KindGroup, design.KindLAN, design.KindSubnet, design.KindCrossing,
	}, design.Parties...)
	found := d.Find(text, kinds...)
	o, err := theOne(d, "--party", text, found)
	if err != nil {
		return "", err
	}
	return o.ID, nil
}

// theOne is the one thing that was found under a name.
func theOne(d *design.Design, flag, text string, found []*design.Object) (*design.Object, error) {
	if len(found) == 1 {
		return found[0], nil
	}
	if len(found) == 0 {
		return nil, fmt.Errorf(
			"%s: nothing of the kind is called %q in %s; give a name or path of it", flag, text, d.Name,
		)
	}
	var paths []string
	for _, o := range found[:min(len(found), 5)] {
		paths = append(paths, d.Path(o.ID))
	}
	return nil, fmt.Errorf("%s: %q may be %s; give the whole path", flag, text, strings.Join(paths, " or "))
}

func printPasses(w io.Writer, d *design.Design, list []passes.Held) {
	if len(list) == 0 {
		fmt.Fprintln(w, "No filter stands there: nothing is refused.")
	}
	for _, h := range list {
		memory := "remembers conversations"
		if h.Stateless {
			memory = "remembers nothing"
		}
		fmt.Fprintf(w, "%s, at %s (%s)\n", h.Name, h.AtTitle, memory)
		for _, s := range h.Sides {
			fmt.Fprintf(w, "  %s\n", map[string]string{
				design.Incoming: "may come in", design.Outgoing: "may go out", design.Forwarded: "may pass",
			}[s.Direction])
			for _, r := range s.Rules {
				fmt.Fprintf(w, "  %3d. %-10s %s\n", r.N+1, standingWords(r), r.Text)
				for _, i := range r.Intents {
					fmt.Fprintf(w, "                  for %q\n", d.Title(i))
				}
			}
			for _, m := range s.Missing {
				fmt.Fprintf(w, "       missing    %s\n", m.Text)
				for _, i := range m.Intents {
					fmt.Fprintf(w, "                  for %q\n", d.Title(i))
				}
			}
			fmt.Fprintf(w, "       else       %s\n", s.Default)
		}
	}
}

func standingWords(r passes.Rule) string {
	if r.By > 0 {
		return fmt.Sprintf("%s by %d", r.Standing, r.By)
	}
	return string(r.Standing)
}

func filtersCommand() *cobra.Command {
	var out format
	var under condition
	var intents, keep bool
	var file string
	var only []string
	c := &cobra.Command{
		Use:   "filters FILE.yaml --for-intents [-o OUT]",
		Short: "Work out from the intents the fewest rules of every filter; without -o only told",
		Long: "The rules of every filter are worked out anew: the fewest that let pass exactly what intents need, " +
			"on the " +
			"addresses that are on the wire there; what no rule is for is refused. --keep leaves the rules that " +
			"name no intent.",
		Args: exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			if !intents {
				return badInput(fmt.Errorf("say what rules are to follow from: --for-intents"))
			}
			s, err := under.read(args[0])
			if err != nil {
				return err
			}
			wish := passes.Wish{Keep: keep}
			for _, text := range only {
				o, err := theOne(s.Design, "--only", text, s.Design.Find(text, design.KindFilter))
				if err != nil {
					return badInput(err)
				}
				wish.Filters = append(wish.Filters, o.ID)
			}
			plan := s.Findings.Needs().FromIntents(wish)
			if err := out.write(c, plan, func(w io.Writer) { printWorked(w, s.Design, plan) }); err != nil ||
				file == "" {
				return err
			}
			next, _, err := s.Design.Apply(plan.Edits)
			if err != nil {
				return err
			}
			text, err := next.Write()
			if err != nil {
				return err
			}
			return writeFile(file, text, 0o644)
		},
	}
	out.add(c)
	under.add(c)
	c.Flags().BoolVar(&intents, "for-intents", false, "let pass exactly what intents need")
	c.Flags().BoolVar(&keep, "keep", false, "leave the rules that name no intent as they are")
	c.Flags().StringArrayVar(&only, "only", nil, "only this filter (repeat it)")
	c.Flags().StringVarP(&file, "output", "o", "", "where to write the design with these rules")
	return c
}

func printWorked(w io.Writer, d *design.Design, p passes.Plan) {
	switch {
	case len(d.Of(design.KindFilter)) == 0:
		fmt.Fprintln(w, "There is no filter, so that everything passes that has a route. Put one at something first.")
	case len(p.Filters) == 0:
		fmt.Fprintln(w, "Every filter lets pass exactly what intents need.")
	}
	for _, f := range p.Filters {
		owner := ""
		if o := d.Get(f.Owner); o != nil {
			owner = ", " + o.Name
		}
		fmt.Fprintf(w, "%s%s: %d added, %d gone\n", f.Title, owner, f.Added, f.Gone)
		for _, r := range f.Before {
			if !hasRule(f.After, r) {
				fmt.Fprintln(w, "  - "+passes.RuleWords(d, r))
			}
		}
		for _, r := range f.After {
			if !hasRule(f.Before, r) {
				fmt.Fprintln(w, "  + "+passes.RuleWords(d, r)+forWords(d, r))
			}
		}
		if f.Closes {
			fmt.Fprintln(w, "  + what no rule is for is refused")
		}
		if f.Over != "" {
			fmt.Fprintln(w, "  ! "+f.Over)
		}
	}
	for _, u := range p.Unmet {
		fmt.Fprintln(w, "not possible: "+u.Why)
	}
}

func hasRule(list []design.FilterRule, r design.FilterRule) bool {
	for _, x := range list {
		if passes.Same(x, r) {
			return true
		}
	}
	return false
}

func forWords(d *design.Design, r design.FilterRule) string {
	var out []string
	for _, i := range r.For {
		out = append(out, fmt.Sprintf("%q", d.Title(i)))
	}
	if len(out) == 0 {
		return ""
	}
	return "  for " + strings.Join(out, ", ")
}
