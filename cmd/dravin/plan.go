package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravin/core/design"
	"dravin/core/overlap"
	"dravin/core/plan"
	"dravin/core/prefix"
	"dravin/core/provider"
	"dravin/core/snapshot"
	"dravin/core/translate"
	"dravin/core/words"
)

// planAsked is what `dravin plan` is asked for.
type planAsked struct {
	parties, intents, keep, closed, pools, by []string
	noBoxes, check, quiet                     bool
	wish, budget                              string
	gb                                        uint32
	option                                    int
	out                                       string
}

func planCommand() *cobra.Command {
	var out format
	var under condition
	var asked planAsked
	c := &cobra.Command{
		Use: "plan FILE.yaml [--for PARTY...] [--wish W] [--option N -o OUT]",
		Short: "Complete designs for what must talk: joints, routes and translations together, side by side, each " +
			"proven",
		Long: "Plans for the parties that are named, for the intents between them, or for the worst conflict if " +
			"none is " +
			"named. What is not joined is joined, what tables lack is\n" +
			"entered, what collides is translated; every option is complete to the last change at every party, " +
			"and proven: " +
			"all intents are walked before and after it,\n" +
			"today and when built. Where no intent says what must talk, everything of each with everything of the " +
			"others " +
			"stands in. --option N writes the design with that one applied.\n" +
			"--wish is least-to-do, cheapest, fewest-boxes, next-easy or surviving. --by names ways of joining " +
			"(vpn, vpn-bgp, " +
			"hub, peering, circuit). --keep names who keeps the range, --closed whose\n" +
			"boxes are not to be touched, --pool where mapped ranges come from, --budget what a month may cost more. " +
			"Ctrl-C breaks it off.\n" +
			"--check-least proves every choice of places to map, the smallest first, and tells how many parties the " +
			"smallest that serves maps.\n" +
			"Exit 0 if there is an answer; 1 if every option is refused; 2 if the input can not be used.",
		Args: exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := under.read(args[0])
			if err != nil {
				return err
			}
			return runPlan(c, s, asked, out)
		},
	}
	out.add(c)
	under.failed(c)
	f := c.Flags()
	f.StringArrayVar(&asked.parties, "for", nil, "a party, LAN or network that must talk (repeat it)")
	f.StringArrayVar(
		&asked.intents, "intent", nil, "an intent that must hold (repeat it); left out: those between the parties",
	)
	f.StringArrayVar(&asked.keep, "keep", nil, "who keeps the range (repeat it)")
	f.StringArrayVar(&asked.closed, "closed", nil, "a party whose boxes are not to be touched (repeat it)")
	f.StringArrayVar(&asked.pools, "pool", nil, "where mapped ranges come from (repeat it)")
	f.StringArrayVar(&asked.by, "by", nil, "a way of joining (repeat it); left out: any")
	f.StringVar(&asked.wish, "wish", "", "what makes one option better than another")
	f.StringVar(&asked.budget, "budget", "", "the most that an option may add to the bill of a month")
	f.Uint32Var(&asked.gb, "gb", 1000, "gigabytes a month over each new joint")
	f.BoolVar(&asked.noBoxes, "no-boxes", false, "no translating box may be added")
	f.BoolVar(&asked.check, "check-least", false, "prove that no smaller choice serves")
	f.BoolVarP(&asked.quiet, "quiet", "q", false, "do not tell how far it is")
	f.IntVar(&asked.option, "option", 0, "the number of an option to apply")
	f.StringVarP(&asked.out, "output", "o", "", "where to write the design with the option applied")
	return c
}

func runPlan(c *cobra.Command, s *snapshot.Solved, asked planAsked, out format) error {
	q, err := asked.question(s)
	if err != nil {
		return badInput(err)
	}
	if asked.check {
		return checkLeast(c, s, q)
	}
	ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt)
	defer stop()
	tell := func(p plan.Progress) {
		fmt.Fprintf(
			c.ErrOrStderr(), "\r\x1b[K%s of %s; %.90s", words.Count(p.Answers, "answer", "answers"),
			words.Count(p.Options, "option", "options"), p.Doing,
		)
	}
	if asked.quiet || !isTerminal(c.ErrOrStderr()) {
		tell = nil
	}
	p, err := plan.For(ctx, s.Proofs, q, tell)
	if tell != nil {
		fmt.Fprint(c.ErrOrStderr(), "\r\x1b[K")
	}
	switch {
	case ctx.Err() != nil:
		return errors.New("broken off; nothing was changed")
	case err != nil:
		return badInput(err)
	case asked.option != 0:
		return applyOption(c, s.Design, p, asked)
	}
	if err := out.write(c, p, func(w io.Writer) { printPlan(w, s.Design, p) }); err != nil {
		return err
	}
	if len(p.Options) == 0 || p.Options[0].Refused != "" {
		return errFound
	}
	return nil
}

// isTerminal reports whether somebody looks at what is written.
func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	if !ok {
		return false
	}
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

// question reads the flags against the design.
func (a planAsked) question(s *snapshot.Solved) (q plan.Question, err error) {
	d := s.Design
	find := func(flag string, texts []string, kinds ...design.Kind) (out []design.ID) {
		for _, text := range texts {
			found := d.Find(text, kinds...)
			if len(found) != 1 && err == nil {
				err = fmt.Errorf(
					"--%s: %d things are called %q; give the path of one, such as %s", flag, len(found), text,
					example(d, kinds),
				)
			}
			for _, o := range found {
				out = append(out, o.ID)
			}
		}
		return out
	}
	holders := []design.Kind{design.KindSite, design.KindNetwork, design.KindLAN, design.KindInnerRoute}
	talkers := append(holders, design.KindHub, design.KindEdgeRouter, design.KindSubnet)
	q = plan.Question{
		Parties: find("for", a.parties, talkers...),
		Intents: find("intent", a.intents, design.KindIntent),
		Keep:    find("keep", a.keep, holders...),
		Closed:  find("closed", a.closed, design.KindSite, design.KindNetwork, design.KindHub),
		NoBoxes: a.noBoxes, By: a.by, Wish: plan.Wish(a.wish), GB: a.gb,
	}
	if known := words.CodesOf(plan.Wishes); a.wish != "" && !slices.Contains(known, q.Wish) && err == nil {
		err = fmt.Errorf("--wish %q is not known; write %s", a.wish, words.List(texts(known)))
	}
	if a.budget != "" && err == nil {
		if q.Budget, err = provider.ParseMoney(a.budget); err != nil {
			err = fmt.Errorf("--budget: %w", err)
		}
	}
	for _, text := range a.pools {
		p, bad := prefix.Parse(text)
		if bad != nil && err == nil {
			err = fmt.Errorf("--pool: %w", bad)
		}
		q.Pools = append(q.Pools, p)
	}
	if err != nil || len(q.Parties)+len(q.Intents) > 0 {
		return q, err
	}
	for _, g := range s.Findings.Groups() {
		if group := translate.OfGroup(g); len(group.Places) > 1 && g.Weight != overlap.Answered {
			q.Places = group.Places
			return q, nil
		}
	}
	return q, fmt.Errorf("nothing collides that is not answered; name who must talk with --for")
}

func texts[T ~string](list []T) (out []string) {
	for _, x := range list {
		out = append(out, string(x))
	}
	return out
}

func example(d *design.Design, kinds []design.Kind) string {
	for _, k := range kinds {
		if all := d.Of(k); len(all) > 0 {
			return d.Path(all[0].ID)
		}
	}
	return "marrow-hill"
}

func checkLeast(c *cobra.Command, s *snapshot.Solved, q plan.Question) error {
	places := q.Places
	if len(places) == 0 {
		places = q.Parties
	}
	n, tried, err := translate.Search(c.Context(), s.Proofs, translate.Question{
		Places: places, Intents: q.Intents, Keep: q.Keep, Closed: q.Closed, Pools: q.Pools, NoBoxes: q.NoBoxes,
	})
	if err != nil {
		return err
	}
	if n == 0 {
		fmt.Fprintf(c.OutOrStdout(), "No choice of places to map serves: %d were proven.\n", tried)
		return errFound
	}
	fmt.Fprintf(
		c.OutOrStdout(), "%s at least: %d choices were proven, the smallest first, and no smaller one serves.\n",
		words.Upper(words.Count(n, "party is mapped", "parties are mapped")), tried,
	)
	return nil
}

func applyOption(c *cobra.Command, d *design.Design, plan plan.Plan, asked planAsked) error {
	if asked.option < 1 || asked.option > len(plan.Options) {
		return badInput(fmt.Errorf("--option %d: there are options 1 to %d", asked.option, len(plan.Options)))
	}
	o := plan.Options[asked.option-1]
	if o.Refused != "" {
		return badInput(fmt.Errorf("--option %d (%s) is refused: %s", asked.option, o.Title, o.Refused))
	}
	next, _, err := d.Apply(o.Edits)
	if err != nil {
		return err
	}
	file, err := next.Write()
	if err != nil {
		return err
	}
	if asked.out == "" {
		_, err = c.OutOrStdout().Write(file)
		return err
	}
	return writeFile(asked.out, file, 0o644)
}

func printPlan(w io.Writer, d *design.Design, p plan.Plan) {
	fmt.Fprintf(
		w, "%s in scope; %s.\n", words.Upper(words.Count(p.Intents, "intent is", "intents are")),
		words.Count(len(p.Places), "place collides", "places collide"),
	)
	if p.Stands != "" {
		fmt.Fprintln(w, p.Stands)
	}
	for _, pair := range p.Apart {
		fmt.Fprintf(w, "Nothing joins %s and %s.\n", d.Title(pair[0]), d.Title(pair[1]))
	}
	for n, o := range p.Options {
		fmt.Fprintf(w, "\n%d. %s\n", n+1, o.Title)
		if o.Refused != "" {
			fmt.Fprintf(w, "   refused: %s\n", o.Refused)
		}
		if o.First != "" {
			fmt.Fprintf(w, "   %s\n", o.First)
		}
		fmt.Fprintf(w, "   %d of %d intents hold; %s\n", o.Holding, o.Total, o.Start)
		fmt.Fprintf(
			w,
			"   addresses spent %s; entries per added host %d, per added service %d; callers told apart: %s; %s a "+
				"month more%s\n",
			spentWords(o.Option), o.PerHost, o.PerServe, yes(o.Tells), o.Month, unpriced(o.Unpriced),
		)
		if o.Refused == "" && p.Intents > 0 {
			fmt.Fprintf(w, "   %s\n", survivalWords(o))
		}
		for _, m := range o.Maps {
			fmt.Fprintf(w, "   %s: %s is seen as %s\n", m.Title, m.Real, m.Mapped)
		}
		for _, why := range o.WhyMore {
			fmt.Fprintf(w, "   because %s\n", why)
		}
		for _, x := range o.Capacity {
			fmt.Fprintf(w, "   pool %s: %s\n", x.Pool, x.Ends)
		}
		if o.Refused == "" {
			for _, c := range o.Changes {
				fmt.Fprintf(w, "     - %s: %s\n", c.Where, c.Text)
			}
		}
		for _, left := range o.Left {
			fmt.Fprintf(w, "   %s\n", left)
		}
		if o.Next != "" {
			fmt.Fprintf(w, "   next: %s\n", o.Next)
		}
	}
	if l := p.Least; l.Mapped > 0 {
		fewest := words.Upper(words.Count(l.Mapped, "party is", "parties are"))
		if l.Exact {
			fmt.Fprintf(w, "\n%s mapped, which are the fewest that serve one to one: no smaller choice does.\n", fewest)
		} else {
			fmt.Fprintf(w, "\n%s mapped one to one; at least %d must be, by what is known (not every smaller "+
				"choice was "+
				"proven).\n", fewest, l.Bound)
		}
		for _, why := range l.Why {
			fmt.Fprintf(w, "  %s\n", why)
		}
	}
	if len(p.Excluded) > 0 {
		fmt.Fprintf(w, "\nNot offered:\n  %s\n", strings.Join(p.Excluded, "\n  "))
	}
}

func unpriced(what string) string {
	if what == "" {
		return ""
	}
	return ", and " + what
}

// survivalWords say what failure the intents live through.
func survivalWords(o plan.Option) string {
	switch {
	case o.Survives:
		return "survives any single failure on the way"
	case o.Weakest != "":
		return "does not survive " + o.Weakest
	}
	return "single failures were not walked"
}

// spentWords are the addresses of IPv4 and the ranges of IPv6 that an option takes.
func spentWords(o translate.Option) string {
	if o.Ranges6 == 0 {
		return fmt.Sprint(o.Addresses)
	}
	return fmt.Sprintf("%d and %s of IPv6", o.Addresses, words.Count(o.Ranges6, "range", "ranges"))
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}
