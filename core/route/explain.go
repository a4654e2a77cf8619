package route

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/bgp"
	"dravin/core/design"
	"dravin/core/prefix"
)

// WayStep is one table on the way of a route, from where it was originated.
type WayStep struct {
	Table Key       `json:"-"`
	At    design.ID `json:"at"`
	Title string    `json:"title"`
	// By is the link, circuit or attachment that it came by; empty where it was originated.
	By    design.ID `json:"by,omitempty"`
	ByWho string    `json:"by_name,omitempty"`
	Path  []uint32  `json:"path"`
	Says  string    `json:"says"`
}

// Rival is a route that a table does not use, and the rule that beat it.
type Rival struct {
	Prefix netip.Prefix `json:"prefix"`
	Source Source       `json:"source"`
	Via    string       `json:"via"`
	Path   []uint32     `json:"path"`
	Rule   string       `json:"rule"`
}

// Explanation tells of one table why it sends an address or range where it does.
type Explanation struct {
	Title  string       `json:"title"`
	Asked  netip.Prefix `json:"asked"`
	Winner *Route       `json:"winner,omitempty"` // nil: no usable route
	Shares []Route      `json:"shares"`
	Way    []WayStep    `json:"way"`
	Rivals []Rival      `json:"rivals"`
}

// Explain tells why a table sends what is asked for where it does. Of a range
// its first address is asked.
func (t *Tables) Explain(k Key, asked netip.Prefix) Explanation {
	p := t.PointIn(k.At, k.Segment)
	c := p.Lookup(asked.Addr())
	if asked.Bits() < asked.Addr().BitLen() {
		c = p.exact(asked, c)
	}
	out := Explanation{
		Title: p.Title, Asked: asked, Winner: c.Winner, Shares: c.Branches, Way: []WayStep{}, Rivals: []Rival{},
	}
	if out.Shares == nil {
		out.Shares = []Route{}
	}
	if c.Winner != nil {
		out.Way = t.wayOf(k, c.Winner)
	}
	for _, l := range c.Losers {
		if l.Expected == Lost {
			continue // it is told of below, with its path
		}
		out.Rivals = append(out.Rivals, Rival{l.Prefix, l.Source, l.Via, pathOf(l.Learned), p.beat(c.Winner, l)})
	}
	if c.Winner != nil && c.Winner.Learned != nil {
		out.Rivals = append(out.Rivals, t.unlucky(k, c.Winner)...)
	}
	return out
}

// exact is a choice of what a table has for just that range, or what covers it.
func (p *Point) exact(asked netip.Prefix, c Choice) Choice {
	out := Choice{Losers: []Route{}}
	for _, r := range p.Routes {
		switch {
		case !prefix.Contains(r.Prefix, asked):
		case r.Unusable == "" && (out.Winner == nil || r.Prefix.Bits() > out.Winner.Prefix.Bits()):
			if out.Winner != nil {
				out.Losers = append(out.Losers, *out.Winner)
			}
			out.Winner = &r
		case out.Winner != nil && r.sharesWith(out.Winner):
			out.Branches = append(out.Branches, r)
		default:
			out.Losers = append(out.Losers, r)
		}
	}
	return out
}

func pathOf(l *Learned) []uint32 {
	if l == nil {
		return []uint32{}
	}
	return l.Path
}

// beat is the rule by which the winner goes before another route of a table.
func (p *Point) beat(w *Route, l Route) string {
	switch {
	case l.Unusable != "":
		return l.Unusable
	case w == nil:
		return ""
	case w.Prefix.Bits() > l.Prefix.Bits():
		return fmt.Sprintf("%s is longer", w.Prefix)
	case w.Source != l.Source:
		return fmt.Sprintf("%s goes before %s here", w.Source, l.Source)
	}
	return "it comes first in the design; nothing else tells them apart"
}

// unlucky are the routes that were learned for the winner's range and did not
// become the best.
func (t *Tables) unlucky(k Key, w *Route) []Rival {
	var out []Rival
	at := k
	if w.Hop.Kind == Gateway { // fed by it
		at = Key{w.Hop.To, ""}
	}
	for _, h := range t.Trace(w.Prefix).Held {
		if h.Speaker != at.String() {
			continue
		}
		for _, r := range h.Rivals {
			via, source := t.Design.Title(t.tableOf(r.Route.At).At), w.Source
			if r.Route.Session != nil {
				group := t.Design.Get(design.ID(r.Route.Session.Ends[r.Route.End].Group))
				via, source = group.Name, sourcesOf(group).learned
			}
			path := r.Route.Path
			if path == nil {
				path = []uint32{}
			}
			rival := Rival{w.Prefix, source, via, path, r.By.String()}
			if !slices.ContainsFunc(
				out,
				func(x Rival) bool { return x.Via == via && x.Rule == rival.Rule && slices.Equal(x.Path, path) },
			) { // each tunnel has a session
				out = append(out, rival)
			}
		}
	}
	return out
}

// tableOf is the table of a speaker.
func (t *Tables) tableOf(speaker string) Key {
	at, segment, _ := strings.Cut(speaker, "\x00")
	return Key{design.ID(at), design.ID(segment)}
}

// Trace is what became of a range at every speaker. It follows from all of them.
func (t *Tables) Trace(p netip.Prefix) bgp.Trace {
	t.Design.NoteLearned(everywhere)
	return t.network.learn().Trace(p)
}

// Troubles are the ranges that have no lasting outcome or several.
func (t *Tables) Troubles() []bgp.Trouble {
	t.Design.NoteLearned(everywhere)
	return t.network.learn().Troubles()
}

// Result is what all speakers have learned.
func (t *Tables) Result() *bgp.Result {
	t.Design.NoteLearned(everywhere)
	return t.network.learn()
}

// TitleOf is how the table of a speaker is called.
func (t *Tables) TitleOf(speaker string) string {
	k := t.tableOf(speaker)
	if k.Segment != "" {
		return t.Design.Title(k.At) + ", " + t.Design.Title(k.Segment)
	}
	return t.Design.Title(k.At)
}

// BoxOf is the object that a speaker's table belongs to.
func (t *Tables) BoxOf(speaker string) design.ID { return t.tableOf(speaker).At }

// Way is the way of a table's route through the estate, from where it was originated.
func (t *Tables) Way(k Key, r *Route) []WayStep { return t.wayOf(k, r) }

// wayOf is the way of a route through the estate, from where it was originated.
func (t *Tables) wayOf(k Key, r *Route) []WayStep {
	d := t.Design
	last := WayStep{
		Table: k, At: k.At, Title: t.TitleOf(k.String()), By: r.Hop.To, ByWho: r.Via, Path: pathOf(r.Learned),
		Says: string(r.Source),
	}
	if r.Learned == nil {
		return []WayStep{last}
	}
	at := k
	if r.Hop.Kind == Gateway || r.Hop.Kind == Peer {
		at = Key{r.Hop.To, ""}
	}
	t.Design.NoteLearned(at.String())
	e, ok := t.network.learn().Best(at.String(), r.Prefix)
	if !ok {
		return []WayStep{last}
	}
	var out []WayStep
	if at != k {
		last.Says = "fed by " + d.Title(at.At)
		out = append(out, last)
	}
	for x := e.Routes[0]; x != nil; x = x.Parent {
		step := WayStep{Table: t.tableOf(x.At), Title: t.TitleOf(x.At), Path: x.Path, Says: "originated here"}
		step.At = step.Table.At
		if x.Path == nil {
			step.Path = []uint32{}
		}
		if x.Summary {
			step.Says = "a summary, made here"
		}
		if x.Session != nil {
			group := design.ID(x.Session.Ends[x.End].Group)
			step.By, step.ByWho, step.Says = group, d.Title(group), changes(x)
		}
		out = append(out, step)
	}
	slices.Reverse(out)
	return out
}

// changes says what is other about a route than where it came from.
func changes(x *bgp.Route) string {
	out := []string{"learned"}
	p := x.Parent
	if p == nil {
		return out[0]
	}
	if n := len(x.Path) - len(p.Path); !x.Internal && n > 1 {
		out = append(out, fmt.Sprintf("prepended %d times", n-1))
	}
	if x.LocalPref != 100 && x.LocalPref != p.LocalPref {
		out = append(out, fmt.Sprintf("local preference %d", x.LocalPref))
	}
	if x.MED != 0 && x.MED != p.MED {
		out = append(out, fmt.Sprintf("MED %d", x.MED))
	}
	if !slices.Equal(x.Communities, p.Communities) {
		out = append(out, fmt.Sprintf("communities %v", x.Communities))
	}
	return strings.Join(out, ", ")
}
