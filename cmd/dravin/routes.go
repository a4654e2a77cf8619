package main

import (
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/snapshot"
)

// routesAsked is what `dravin routes` is asked for.
type routesAsked struct {
	table, prefix string
	explain       bool
	without       []string
}

// routesAnswer is what it answers: tables, or explanations, or where a prefix
// is; and what is otherwise without something.
type routesAnswer struct {
	Tables   []tableAnswer       `json:"tables,omitempty"`
	Explain  []route.Explanation `json:"explain,omitempty"`
	Spread   *route.Spread       `json:"spread,omitempty"`
	Limits   []route.Use         `json:"limits,omitempty"`
	Without  []string            `json:"without,omitempty"`
	Effect   *snapshot.Effect    `json:"effect,omitempty"`
	Troubles []string            `json:"troubles,omitempty"`

	Sessions []route.SessionState `json:"sessions,omitempty"`
}

type tableAnswer struct {
	Table   string        `json:"table"`
	Segment string        `json:"segment,omitempty"`
	Title   string        `json:"title"`
	Routes  []route.Route `json:"routes"`

	Candidates []route.Candidate `json:"candidates"` // all that sessions brought, used or not
}

func routesCommand() *cobra.Command {
	var out format
	var under condition
	var asked routesAsked
	c := &cobra.Command{
		Use:   "routes FILE.yaml [--table PATH] [--prefix PREFIX] [--explain] [--without THING]",
		Short: "The tables of an estate, why each entry won, and where a prefix stopped",
		Long: "Without a flag, every table. --table takes the path of a gateway, route table, hub table, edge router or " +
			"inner route;\n" +
			"--prefix leaves the entries that touch a prefix or address, and without --table tells every table that has it " +
			"and where it stopped;\n" +
			"--explain tells the way of each entry and the rule that beat each rival; --without tells what would be " +
			"gained, lost and moved.",
		Args: exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			asked.without, under.without = under.without, nil
			s, err := under.read(args[0])
			if err != nil {
				return err
			}
			answer, err := answerRoutes(s, asked)
			if err != nil {
				return badInput(err)
			}
			return out.write(c, answer, func(w io.Writer) { printRoutes(w, answer) })
		},
	}
	out.add(c)
	under.add(c)
	c.Flags().StringVar(&asked.table, "table", "", "the path of what the table is of")
	c.Flags().StringVar(&asked.prefix, "prefix", "", "a prefix or address")
	c.Flags().BoolVar(
		&asked.explain, "explain", false, "tell the way of each entry, and each rival with the rule that beat it",
	)
	return c
}

func answerRoutes(s *snapshot.Solved, asked routesAsked) (a routesAnswer, err error) {
	d := s.Design
	var p netip.Prefix
	if asked.prefix != "" {
		if p, err = prefix.ParseAsked(asked.prefix); err != nil {
			return a, fmt.Errorf("--prefix: %w", err)
		}
	}
	if len(asked.without) > 0 {
		gone, err := thingsOf(d, asked.without)
		if err != nil {
			return a, err
		}
		after := s.Without(gone...)
		effect := snapshot.EffectOf(s, after)
		a.Without, a.Effect, s = asked.without, &effect, after
	}
	if p.IsValid() && asked.table == "" {
		spread := s.Tables.Spread(p)
		a.Spread = &spread
	}
	points := s.Tables.Points()
	if asked.table != "" {
		found := d.Find(asked.table, route.PointKinds...)
		if len(found) != 1 {
			return a, fmt.Errorf(
				"--table: %d things with a table are called %q; give the path of a gateway, route table, hub table, edge "+
					"router or inner route, such as %s",
				len(found),
				asked.table,
				d.Path(points[0].ID),
			)
		}
		points = nil
		for _, segment := range route.Instances(d, found[0]) {
			points = append(points, s.Tables.PointIn(found[0].ID, segment))
		}
	}
	if asked.explain && !p.IsValid() && asked.table == "" {
		return a, errors.New("--explain: say of what, by --table or --prefix")
	}
	for _, point := range points {
		t := tableAnswer{
			Table: d.Path(point.ID), Segment: d.Path(point.Segment), Title: point.Title, Routes: []route.Route{},
		}
		for _, r := range point.Routes {
			if !p.IsValid() || r.Prefix.Overlaps(p) {
				t.Routes = append(t.Routes, r)
			}
		}
		t.Candidates = slices.DeleteFunc(
			s.Tables.Candidates(route.Key{At: point.ID, Segment: point.Segment}),
			func(c route.Candidate) bool { return p.IsValid() && !c.Prefix.Overlaps(p) },
		)
		if asked.explain {
			a.Explain = append(a.Explain, explanations(s.Tables, point, t.Routes, p)...)
		}
		if len(t.Routes) > 0 {
			a.Tables = append(a.Tables, t)
		}
	}
	for _, t := range s.Tables.Troubles() {
		a.Troubles = append(
			a.Troubles,
			fmt.Sprintf(
				"%v: %s", t.Prefixes,
				map[bool]string{true: "no outcome lasts", false: "the outcome depends on who is heard first"}[t.Never],
			),
		)
	}
	if asked.table == "" && !p.IsValid() {
		a.Limits, a.Sessions = s.Tables.Uses(), s.Tables.Sessions()
	}
	return a, nil
}

// explanations are of what is asked for, or of every entry.
func explanations(t *route.Tables, p *route.Point, routes []route.Route, asked netip.Prefix) []route.Explanation {
	k := route.Key{At: p.ID, Segment: p.Segment}
	if asked.IsValid() {
		if len(routes) == 0 {
			return nil
		}
		return []route.Explanation{t.Explain(k, asked)}
	}
	var out []route.Explanation
	for n, r := range routes {
		if n == 0 || routes[n-1].Prefix != r.Prefix {
			out = append(out, t.Explain(k, r.Prefix))
		}
	}
	return out
}

func printRoutes(w io.Writer, a routesAnswer) {
	if a.Effect != nil {
		fmt.Fprintf(w, "Without %s:\n", strings.Join(a.Without, ", "))
		printEffect(w, *a.Effect)
	}
	if a.Spread != nil {
		printSpread(w, *a.Spread)
	}
	if len(a.Explain) > 0 {
		for _, e := range a.Explain {
			printExplanation(w, e)
		}
	} else if a.Spread == nil {
		for _, t := range a.Tables {
			fmt.Fprintf(w, "%s (%s)\n", t.Title, t.Table)
			for _, r := range t.Routes {
				fmt.Fprintf(w, "  %s\n", routeLine(r))
			}
		}
	}
	for _, t := range a.Troubles {
		fmt.Fprintf(w, "never settles: %s\n", t)
	}
	for _, u := range a.Limits {
		fmt.Fprintf(w, "limit: %s: %d of %d %s\n", u.Title, u.Has, u.Most, u.What)
	}
}

func routeLine(r route.Route) string {
	out := fmt.Sprintf("%-20s %-14s %s", r.Prefix, r.Source, r.Via)
	if r.Learned != nil && len(r.Learned.Path) > 0 {
		out += fmt.Sprintf(", path %s", strings.Trim(fmt.Sprint(r.Learned.Path), "[]"))
	}
	if r.Unusable != "" {
		out += " - not used: " + r.Unusable
	}
	return out
}

func printExplanation(w io.Writer, e route.Explanation) {
	if e.Winner == nil {
		fmt.Fprintf(w, "%s: no usable route for %s\n", e.Title, e.Asked)
	} else {
		fmt.Fprintf(w, "%s: %s\n", e.Title, routeLine(*e.Winner))
	}
	for _, s := range e.Shares {
		fmt.Fprintf(w, "  shares with %s\n", s.Via)
	}
	for n, s := range e.Way {
		by := ""
		if s.ByWho != "" {
			by = " by " + s.ByWho
		}
		fmt.Fprintf(w, "  %d %s: %s%s\n", n+1, s.Title, s.Says, by)
	}
	for _, r := range e.Rivals {
		fmt.Fprintf(w, "  lost: %s by %s: %s\n", r.Prefix, r.Via, r.Rule)
	}
}

func printSpread(w io.Writer, s route.Spread) {
	fmt.Fprintf(w, "%s is in %d tables\n", s.Prefix, len(s.Has))
	for _, h := range s.Has {
		fmt.Fprintf(w, "  %-40s %s, %s\n", h.Title, h.Route.Source, h.Route.Via)
	}
	for _, h := range s.Halts {
		fmt.Fprintf(w, "  stopped (%s): %s", h.Code, h.Why)
		if h.Rule != "" {
			fmt.Fprintf(w, " (%s)", h.Rule)
		}
		fmt.Fprintln(w)
	}
}

func printEffect(w io.Writer, e snapshot.Effect) {
	for _, t := range e.Tables {
		fmt.Fprintf(w, "%s\n", t.Title)
		for _, r := range t.Gained {
			fmt.Fprintf(w, "  + %s %s, %s\n", r.Prefix, r.Source, r.Via)
		}
		for _, r := range t.Lost {
			fmt.Fprintf(w, "  - %s %s, %s\n", r.Prefix, r.Source, r.Via)
		}
		for _, m := range t.Moved {
			fmt.Fprintf(w, "  > %s from %s to %s\n", m.Prefix, m.Was.Via, m.Now.Via)
		}
	}
	for _, f := range e.Flows {
		fmt.Fprintf(
			w, "%s: %s to %s on %s\n", map[bool]string{true: "starts", false: "stops"}[f.Works], f.From, f.To, f.What,
		)
	}
	if len(e.Tables)+len(e.Flows) == 0 {
		fmt.Fprintln(w, "nothing differs")
	}
}
