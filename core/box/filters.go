package box

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/route"
	"dravin/core/topology"
)

// Filter is a filter of a box or host of one's own.
type Filter struct {
	*filter.Filter
	Itself bool     // it is for what comes to and from the box, and not for what it forwards
	Notes  []string // each rule as a person reads it
}

// Host is a host that gets a filter of its own.
type Host struct {
	ID      design.ID
	Name    string
	Place   string // the LAN, inner route or subnet
	Filters []Filter
}

func filtersAt(t *route.Tables, id design.ID) []Filter {
	var out []Filter
	all := slices.Concat(t.Design.FiltersAt(id, false), t.Design.FiltersAt(id, true))
	for o, b := range design.Each[design.PacketFilter](design.InOrder(all)) {
		out = append(out, filterOf(t, o, b))
	}
	return out
}

func filterOf(t *route.Tables, o *design.Object, b *design.PacketFilter) Filter {
	f := Filter{Filter: t.Filter(o.ID), Itself: b.Covers == design.Itself}
	for _, r := range b.Rules {
		f.Notes = append(f.Notes, ruleWords(t.Design, b, r))
	}
	return f
}

// hosts are the hosts of a party that have filters of their own, by themselves or in groups.
func hosts(t *route.Tables, party design.ID) []Host {
	d := t.Design
	out := []Host{}
	for _, place := range d.Inside(party, design.HostPlaces...) {
		for _, e := range d.Inside(place.ID, design.KindEndpoint) {
			h := Host{ID: e.ID, Name: e.Name, Place: place.Name, Filters: filtersAt(t, e.ID)}
			for _, g := range d.GroupsOf(e.ID, place.ID) {
				h.Filters = append(h.Filters, filtersAt(t, g.ID)...)
			}
			h.Filters = slices.DeleteFunc(h.Filters, func(f Filter) bool { return !f.Manner.Own })
			if len(h.Filters) > 0 {
				out = append(out, h)
			}
		}
	}
	return out
}

// ruleWords are a rule with the ranges that are entered, since what enters them knows no names.
func ruleWords(d *design.Design, f *design.PacketFilter, r design.FilterRule) string {
	side := func(ranges []netip.Prefix, of []design.ID) string {
		all := slices.Clone(ranges)
		var names []string
		for _, id := range of {
			all = append(all, filter.NamedAt(d, f, id)...)
			names = append(names, d.Title(id))
		}
		switch {
		case len(names) > 0:
			return fmt.Sprintf("%s (%s)", strings.Join(names, ", "), list(all))
		case len(all) == 0:
			return "anywhere"
		}
		return list(all)
	}
	does := "allows"
	if r.Refuses() {
		does = "refuses"
	}
	if d.Directed(f) {
		does = map[string]string{design.Incoming: "in: ", design.Outgoing: "out: "}[r.Goes()] + does
	}
	if r.Family != "" {
		does += " IPv" + r.Family[3:] + ","
	}
	return fmt.Sprintf(
		"%s %s from %s to %s", does, filter.Words(r.Services, r.Replies), side(r.From, r.FromOf), side(r.To, r.ToOf),
	)
}

func filterSays(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.PacketFilter)
	m := filter.MannerOf(w.design, b)
	s := says{
		does: fmt.Sprintf("the filter %s at %s", o.Name, w.design.Title(b.At)), why: "only what is meant passes",
		check:  seen{Listed, "it lists these rules in this order, and no others"},
		covers: []string{"at", "covers", "default", "default_out", "rules", "stateless"},
	}
	if b.Covers == design.Itself {
		s.does += ", for what is for the box itself"
	}
	memory := "it remembers conversations: answers pass by themselves"
	if m.Stateless {
		memory = "it remembers nothing: answers need the rules that are for them"
	}
	s.line("%s", memory)
	for n, r := range b.Rules {
		s.line("%d. %s", n+1, ruleWords(w.design, b, r))
	}
	if m.Directed {
		s.line("what comes in and no rule is for: %s; what goes out: %s", m.In, m.Out)
	} else {
		s.line("what no rule is for: %s", m.In)
	}
	return s
}

func groupSays(w *writer, o *design.Object, _ int) says {
	s := says{
		does: the("group", o.Name), why: "its hosts have rules in common",
		check: seen{Listed, "it lists these hosts and no others"}, covers: []string{"members"},
	}
	for _, m := range o.Body.(*design.Group).Members {
		s.line("%s is in it", w.design.Title(m))
	}
	return s
}

func crossingSays(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Crossing)
	from, to := w.design.Title(b.From), w.design.Title(b.To)
	s := says{
		does: fmt.Sprintf("a crossing from %s to %s", from, to), why: "the two segments may meet there, and " +
			"nowhere else",
		check: seen{
			Forwards, "its files are loaded, where it is a box of one's own",
		}, covers: []string{"from", "to", "does"},
	}
	switch b.Does {
	case design.CrossingOpen:
		s.line("each table of the two has the ranges of the other")
	case design.CrossingOneWay:
		s.line("the table of %s has the ranges of %s; sources are hidden behind the own address of where it is", from, to)
	default:
		s.line("no table of one has a range of the other; only published services lead across")
	}
	for _, at := range route.CrossedAt(w.design, o.ID) {
		if x := w.design.Get(at); x.Kind == design.KindHub && w.design.Party(at).ID == w.party.ID {
			crossingAtHub(w, &s, b, x)
		}
	}
	return s
}

// crossingAtHub says what a hub's administrator enters for a crossing: which attachments must be known to which tables.
func crossingAtHub(w *writer, s *says, b *design.Crossing, hub *design.Object) {
	s.check = seen{Entries, "the tables of the two segments have the ranges that it lets them have"}
	tables := map[design.ID][]string{}
	for _, t := range w.design.Inside(hub.ID, design.KindHubTable) {
		segment := t.Body.(*design.HubTable).Segment
		tables[segment] = append(tables[segment], t.Name)
	}
	feeds := func(of, into design.ID) {
		for _, a := range w.design.Inside(hub.ID, design.KindAttachment) {
			bound := w.design.Get(topology.BoundTable(w.design, a))
			if bound == nil || bound.Body.(*design.HubTable).Segment != of || len(tables[into]) == 0 {
				continue
			}
			s.line("%s feeds %s, too", a.Name, strings.Join(tables[into], " and "))
		}
	}
	if b.Does == design.CrossingOpen || b.Does == design.CrossingOneWay {
		feeds(b.To, b.From)
	}
	if b.Does == design.CrossingOpen {
		feeds(b.From, b.To)
	}
}

func namesSays(w *writer, o *design.Object, _ int) says {
	b := o.Body.(*design.Names)
	s := says{
		does: the("zone", o.Name), why: "hosts there ask for names in it",
		check: seen{Answered, "a host there is told these addresses"}, covers: []string{"for", "records", "forward"},
	}
	for _, id := range b.For {
		s.line("hosts of %s ask here", w.design.Title(id))
	}
	for _, r := range b.Records {
		who := ""
		if h := w.design.Get(r.Host); h != nil {
			who = ": " + w.design.Title(r.Host)
		}
		s.line("%s is %s%s", r.Name, r.Address, who)
	}
	for _, a := range b.Forward {
		s.line("for all other names %s is asked", a)
	}
	return s
}
