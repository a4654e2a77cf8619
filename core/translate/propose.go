// Package translate plans address translation for ranges that collide. A
// [Proposal] is a remedy worked out to the last change that it needs, and
// already proven: the intents are walked before and after it.
package translate

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/inuse"
	"dravin/core/overlap"
	"dravin/core/prefix"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/standing"
	"dravin/core/walk"
)

// Change is one edit of a proposal, in words and at its place.
type Change struct {
	Party design.ID `json:"party"` // whose administrator makes it
	Where string    `json:"where"` // the party's name
	Text  string    `json:"text"`
}

// Proposal is a remedy for a conflict, ready to apply.
type Proposal struct {
	Key     string         `json:"key"` // names it among the proposals of one group
	Title   string         `json:"title"`
	Why     string         `json:"why"`   // why this pool
	Start   string         `json:"start"` // who can start a conversation
	Maps    []Pair         `json:"maps"`
	Changes []Change       `json:"changes"`
	Edits   []design.Edit  `json:"edits"`
	Before  []proof.Result `json:"before"`
	After   []proof.Result `json:"after"`
	// Holding and Total count the intents that hold afterwards.
	Holding int `json:"holding"`
	Total   int `json:"total"`
}

// Pair is one range and what it becomes.
type Pair struct {
	Place  design.ID    `json:"place"`
	Title  string       `json:"title"`
	Real   netip.Prefix `json:"real"`
	Mapped netip.Prefix `json:"mapped"`
}

// private are the ranges that mapped ranges are carved from when the design
// reserves none (RFC 1918, RFC 4193).
var private = []netip.Prefix{
	netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"), netip.MustParsePrefix("192.168.0.0/16"),
	netip.MustParsePrefix("fd00::/8"),
}

// ForGroup proposes remedies for a group of overlapping ranges: a one-to-one
// mapping of each LAN in it that has a link, and of every pair of them. Best
// first: most intents held, then fewest changes.
func ForGroup(p *proof.Proofs, g overlap.Group) []Proposal {
	out := slices.Collect(Each(p, g))
	if out == nil {
		out = []Proposal{}
	}
	slices.SortStableFunc(out, func(a, b Proposal) int {
		if a.Holding != b.Holding {
			return b.Holding - a.Holding
		}
		return len(a.Edits) - len(b.Edits)
	})
	return out
}

// Each works the remedies of a group out one by one.
func Each(p *proof.Proofs, g overlap.Group) iter.Seq[Proposal] {
	d := p.Tables().Design
	return func(yield func(Proposal) bool) {
		before := p.All()
		lans := candidates(d, g)
		try := func(lans ...design.ID) bool {
			x, err := propose(p, before, lans...)
			return err != nil || yield(x)
		}
		for i, a := range lans {
			if !try(a) {
				return
			}
			for _, b := range lans[i+1:] {
				if d.Party(a) != d.Party(b) && !try(a, b) {
					return
				}
			}
		}
	}
}

// candidates are the LANs of a group that can be mapped, those that most intents
// end in if there are many.
func candidates(d *design.Design, g overlap.Group) []design.ID {
	var lans []design.ID
	for _, c := range g.Claims {
		if c.Kind == design.KindLAN && len(c.Mapped) == 0 && !slices.Contains(lans, c.Owner) && len(linksOf(d, d.Get(c.Owner))) > 0 {
			lans = append(lans, c.Owner)
		}
	}
	if inOrder := slices.Clone(lans); len(lans) > maxLANs {
		slices.SortStableFunc(lans, func(a, b design.ID) int { return ends(d, g.Intents, b) - ends(d, g.Intents, a) })
		lans = lans[:maxLANs]
		slices.SortFunc(lans, func(a, b design.ID) int { return slices.Index(inOrder, a) - slices.Index(inOrder, b) })
	}
	return lans
}

// ends counts the intents of a list that end in a LAN.
func ends(d *design.Design, intents []design.ID, lan design.ID) int {
	n := 0
	for _, id := range intents {
		if in := d.Get(id).Body.(*design.Intent); d.Concerns(in.From, lan) || d.Concerns(in.To, lan) {
			n++
		}
	}
	return n
}

// maxLANs bounds the work for a range that very many share; those
// that intents end in are kept.
const maxLANs = 6

func propose(proofs *proof.Proofs, before []proof.Result, lans ...design.ID) (Proposal, error) {
	t := proofs.Tables()
	d := t.Design
	p := Proposal{Before: before, Total: len(before)}
	e := &editor{d: d, now: d, proposal: &p}
	var titles []string
	for _, lan := range lans {
		if err := e.mapLAN(lan); err != nil {
			return Proposal{}, err
		}
		titles = append(titles, d.Title(lan))
		p.Key += string(lan)
	}
	p.Start = "Both sides can start, once the mapped range is routed; host parts stay the same."
	p.Title = "Map " + strings.Join(titles, " and ") + " one to one"
	p.Edits = e.edits()
	changes := d.ChangedBy(p.Edits, e.now)
	p.After = proofs.After(t.After(e.now, changes), changes).All()
	p.Holding = proof.Holding(p.After)
	p.Why = strings.Join(e.reasons, " ")
	return p, nil
}

// editor collects the changes of a proposal. now is the design with all of
// them applied.
type editor struct {
	d, now   *design.Design
	touched  []design.ID
	reasons  []string
	proposal *Proposal
}

// edits sums the changes up: one edit for each object touched.
func (e *editor) edits() []design.Edit {
	out := []design.Edit{}
	for _, id := range e.touched {
		out = append(out, design.PutEdit(e.now.Get(id)))
	}
	return out
}

func (e *editor) put(o *design.Object, party design.ID, text string, args ...any) error {
	next, _, err := e.now.Apply([]design.Edit{design.PutEdit(o)})
	if err != nil {
		return err
	}
	e.now = next
	if !slices.Contains(e.touched, o.ID) {
		e.touched = append(e.touched, o.ID)
	}
	e.proposal.Changes = append(e.proposal.Changes, Change{Party: party, Where: e.d.Title(party), Text: fmt.Sprintf(text, args...)})
	return nil
}

func (e *editor) mapLAN(lan design.ID) error {
	o := e.d.Get(lan)
	if o == nil || o.Kind != design.KindLAN {
		return fmt.Errorf("only a LAN can be mapped at a gateway of ours; %s is none", e.d.Title(lan))
	}
	links := linksOf(e.d, o)
	if len(links) == 0 {
		return fmt.Errorf("%s has no link; draft one before mapping", e.d.Title(lan))
	}
	for _, real := range o.Body.(*design.LAN).Prefixes {
		mapped, why, ok := Carve(e.now, real.Addr().Is4(), real.Bits())
		if !ok {
			return fmt.Errorf("no free /%d is left to map %s into; reserve a larger range for mapping", real.Bits(), real)
		}
		e.reasons = append(e.reasons, fmt.Sprintf("%s becomes %s: %s.", real, mapped, why))
		e.proposal.Maps = append(e.proposal.Maps, Pair{Place: lan, Title: e.d.Title(lan), Real: real, Mapped: mapped})
		for _, l := range links {
			if err := e.mapToward(o, l, real, mapped); err != nil {
				return err
			}
		}
		if err := e.openTo(o, real, mapped); err != nil {
			return err
		}
	}
	return nil
}

// Carve finds a free range to map into: inside the ranges reserved for mapping
// if there are any, else inside the private ranges, and clear of everything
// that any party holds, routes or names.
func Carve(d *design.Design, v4 bool, bits int) (p netip.Prefix, why string, ok bool) {
	var pools []netip.Prefix
	var names []string
	for _, o := range d.Of(design.KindReservation) {
		if b := o.Body.(*design.Reservation); b.Use == design.UseMapping && b.Prefix.Addr().Is4() == v4 {
			pools, names = append(pools, b.Prefix), append(names, o.Name+" "+b.Prefix.String())
		}
	}
	if why = "free in " + strings.Join(names, " and "); len(pools) == 0 {
		pools, why = private, "free among the private ranges (none is reserved for mapping)"
	}
	p, ok = prefix.Carve(ofFamily(pools, v4), inuse.ForMapping(d), bits)
	return p, why, ok
}

func ofFamily(ps []netip.Prefix, v4 bool) []netip.Prefix {
	return slices.DeleteFunc(slices.Clone(ps), func(p netip.Prefix) bool { return p.Addr().Is4() != v4 })
}

// linksOf lists the links at the gateways that a LAN's hosts use.
func linksOf(d *design.Design, lan *design.Object) []*design.Object {
	gateways := lan.Body.(*design.LAN).Gateways
	if len(gateways) == 0 {
		for _, g := range d.Inside(lan.Parent, design.KindGateway) {
			gateways = append(gateways, g.ID)
		}
	}
	var out []*design.Object
	for _, o := range d.Of(design.KindLink) {
		for _, g := range gateways {
			if !standing.Exists(o) {
				continue
			}
			if _, _, _, ok := o.Body.(*design.Link).End(g); ok {
				out = append(out, o)
			}
		}
	}
	return out
}

// mapToward maps the range at the near gateway of a link, and puts the mapped
// range in the place of the real one in what the link's ends say of it.
func (e *editor) mapToward(lan, link *design.Object, real, mapped netip.Prefix) error {
	l := e.now.Get(link.ID).Body.(*design.Link)
	n := endAt(e.d, l, lan.Parent)
	gateway := l.Ends[n].Gateway
	m := &design.Mapping{Gateway: gateway, Link: link.ID, Real: real, Mapped: mapped}
	name := fmt.Sprintf("%s as %s toward %s", lan.Name, mapped, link.Name)
	id := design.IDFor(design.KindMapping, string(lan.ID)+string(link.ID)+real.String())
	if err := e.put(&design.Object{ID: id, Kind: design.KindMapping, Name: name, Body: m}, lan.Parent,
		"at %s map %s to %s toward %s", e.d.Get(gateway).Name, real, mapped, link.Name); err != nil {
		return err
	}
	return e.editLink(link.ID, func(b *design.Link, say func(int, string, ...any)) {
		near, far := &b.Ends[n], &b.Ends[1-n]
		if translateIn(&near.Local, real, mapped) {
			say(n, "in the selectors of %s name %s as local instead of %s", link.Name, mapped, real)
		}
		if translateIn(&far.Remote, real, mapped) {
			say(1-n, "in the selectors of %s name %s as remote instead of %s", link.Name, mapped, real)
		}
		if translateIn(&far.Routes, real, mapped) {
			say(1-n, "route %s into %s instead of %s", mapped, link.Name, real)
		}
	})
}

func endAt(d *design.Design, l *design.Link, party design.ID) int {
	if d.Party(l.Ends[1].Gateway).ID == party {
		return 1
	}
	return 0
}

// translateIn replaces the parts of the real range in a list by the same parts
// of the mapped one and tells whether there were any.
func translateIn(list *[]netip.Prefix, real, mapped netip.Prefix) bool {
	found := false
	out := slices.Clone(*list)
	for n, p := range out {
		if t := prefix.TranslatePrefix(p, real, mapped); t.IsValid() {
			out[n], found = t, true
		}
	}
	*list = out
	return found
}

// editLink changes a copy of a link and puts it if change said anything.
func (e *editor) editLink(id design.ID, change func(b *design.Link, say func(end int, text string, args ...any))) error {
	o := e.now.Get(id)
	body := *o.Body.(*design.Link)
	body.Ends = slices.Clone(body.Ends)
	type remark struct {
		end  int
		text string
	}
	var said []remark
	change(&body, func(end int, text string, args ...any) {
		said = append(said, remark{end, fmt.Sprintf(text, args...)})
	})
	for _, s := range said {
		if err := e.put(o.With(&body), e.d.Party(body.Ends[s.end].Gateway).ID, "%s", s.text); err != nil {
			return err
		}
	}
	return nil
}

// openTo makes the mapped range known to everyone who has an intent with the
// LAN: selectors and routes at every link on the way, and route tables.
func (e *editor) openTo(lan *design.Object, real, mapped netip.Prefix) error {
	done := map[design.ID]bool{}
	for _, o := range e.d.Of(design.KindIntent) {
		in := o.Body.(*design.Intent)
		if in.Never {
			continue
		}
		other := in.To
		if e.d.Concerns(in.To, lan.ID) {
			other = in.From
		} else if !e.d.Concerns(in.From, lan.ID) {
			continue
		}
		for _, id := range e.d.StandsFor(other) {
			place := placeOf(e.d, id)
			if done[place] || e.d.Party(place).ID == lan.Parent {
				continue
			}
			done[place] = true
			if err := e.openPath(lan.Parent, place, mapped); err != nil {
				return err
			}
		}
	}
	return nil
}

// placeOf is the LAN or subnet that an endpoint is in, or what was given.
func placeOf(d *design.Design, id design.ID) design.ID {
	if o := d.Get(id); o != nil && o.Kind == design.KindEndpoint {
		return o.Parent
	}
	return id
}

// openPath lets mapped (at party) and the other place reach each other over
// every link on the shortest way between them.
func (e *editor) openPath(party, place design.ID, mapped netip.Prefix) error {
	target := e.d.Party(place).ID
	path := shortest(e.d, party, target)
	theirs := ofFamily(rangesSeen(route.Solve(e.now, standing.Condition{}), place, party), mapped.Addr().Is4())
	at := party
	for _, link := range path {
		err := e.editLink(link.ID, func(b *design.Link, say func(int, string, ...any)) {
			n := endAt(e.d, b, at)
			open(b, n, link.Name, []netip.Prefix{mapped}, theirs, say)
		})
		if err != nil {
			return err
		}
		l := link.Body.(*design.Link)
		n := endAt(e.d, l, at)
		if err := e.announce(link, n, []netip.Prefix{mapped}, theirs); err != nil {
			return err
		}
		if err := e.enter(at, l.Ends[n].Gateway, theirs); err != nil {
			return err
		}
		at = e.d.Party(l.Ends[1-n].Gateway).ID
		if err := e.enter(at, l.Ends[1-n].Gateway, []netip.Prefix{mapped}); err != nil {
			return err
		}
	}
	return nil
}

// announce lets the filters of a link's sessions pass ours from end n, and theirs
// from the other.
func (e *editor) announce(link *design.Object, n int, ours, theirs []netip.Prefix) error {
	l := link.Body.(*design.Link)
	for _, t := range e.now.Inside(link.ID, design.KindTunnel) {
		for _, o := range e.now.Inside(t.ID, design.KindSession) {
			s := design.Session{Ends: slices.Clone(o.Body.(*design.Session).Ends)}
			for end, ranges := range map[int][]netip.Prefix{n: ours, 1 - n: theirs} {
				s.Ends[end].Out = passing(s.Ends[end].Out, ranges)
				s.Ends[1-end].In = passing(s.Ends[1-end].In, ranges)
			}
			if design.Same(o, o.With(&s)) {
				continue
			}
			for end := range s.Ends {
				if err := e.put(o.With(&s), e.d.Party(l.Ends[end].Gateway).ID, "let the session of %s, %s pass %s", link.Name, t.Name, ours[0]); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// passing adds ranges to a filter; an empty one passes everything of its own
// already.
func passing(filter []design.Filter, ranges []netip.Prefix) []design.Filter {
	if len(filter) == 0 {
		return filter
	}
	out := slices.Clone(filter)
	for _, p := range ranges {
		if !slices.ContainsFunc(out, func(r design.Filter) bool { return r.Prefix == p && !r.Deny }) {
			out = append(out, design.Filter{Prefix: p})
		}
	}
	return out
}

// open lets ours (beyond end n) and theirs (beyond the other end) through a
// link.
func open(b *design.Link, n int, name string, ours, theirs []netip.Prefix, say func(int, string, ...any)) {
	near, far := &b.Ends[n], &b.Ends[1-n]
	if b.Routing != design.RoutingSelectors {
		for _, p := range addMissing(&far.Routes, ours) {
			say(1-n, "route %s into %s", p, name)
		}
		for _, p := range addMissing(&near.Routes, theirs) {
			say(n, "route %s into %s", p, name)
		}
		return
	}
	for _, side := range []struct {
		end  int
		list *[]netip.Prefix
		add  []netip.Prefix
		word string
	}{{n, &near.Local, ours, "local"}, {n, &near.Remote, theirs, "remote"}, {1 - n, &far.Local, theirs, "local"}, {1 - n, &far.Remote, ours, "remote"}} {
		for _, p := range addMissing(side.list, side.add) {
			say(side.end, "in the selectors of %s add %s as %s", name, p, side.word)
		}
	}
}

// addMissing adds to a list what no prefix in it contains, and returns that.
func addMissing(list *[]netip.Prefix, add []netip.Prefix) []netip.Prefix {
	var added []netip.Prefix
	out := slices.Clone(*list)
	for _, p := range add {
		if !slices.ContainsFunc(out, func(have netip.Prefix) bool { return prefix.Contains(have, p) }) {
			out, added = append(out, p), append(added, p)
		}
	}
	*list = out
	return added
}

// enter adds routes to every table of a cloud network that lacks them.
func (e *editor) enter(party, gateway design.ID, ranges []netip.Prefix) error {
	for _, t := range e.now.Inside(party, design.KindTable) {
		body := *t.Body.(*design.Table)
		body.Routes = slices.Clone(body.Routes)
		for _, p := range ranges {
			if slices.ContainsFunc(body.Routes, func(r design.Entry) bool { return prefix.Contains(r.Prefix, p) && r.Via == gateway }) {
				continue
			}
			body.Routes = append(body.Routes, design.Entry{Prefix: p, Via: gateway})
			if err := e.put(e.now.Get(t.ID).With(&body), party, "in %s add %s via %s", t.Name, p, e.d.Get(gateway).Name); err != nil {
				return err
			}
		}
	}
	return nil
}

// rangesSeen are the ranges under which a place is known to a party: mapped
// ones where the party is beyond a mapping; a cloud network by its blocks.
func rangesSeen(t *route.Tables, place, party design.ID) []netip.Prefix {
	d := t.Design
	owner := d.Party(place)
	if owner.Kind == design.KindNetwork {
		return d.Ranges(owner.ID)
	}
	var out []netip.Prefix
	for _, p := range d.Ranges(place) {
		seen := p
		if n := walk.SeenAs(t, party, place, prefix.FirstHost(p)); n.Mapping != "" {
			m := d.Get(n.Mapping).Body.(*design.Mapping)
			if mapped := prefix.TranslatePrefix(p, m.Real, m.Mapped); mapped.IsValid() {
				seen = mapped
			}
		}
		out = append(out, seen)
	}
	return out
}

// shortest is the way with the fewest links between two parties, nil if there
// is none.
func shortest(d *design.Design, from, to design.ID) []*design.Object {
	type step struct {
		party design.ID
		path  []*design.Object
	}
	seen := map[design.ID]bool{from: true}
	queue := []step{{party: from}}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		if at.party == to {
			return at.path
		}
		for _, o := range d.Of(design.KindLink) {
			ends := o.Body.(*design.Link).Ends
			a, b := d.Party(ends[0].Gateway).ID, d.Party(ends[1].Gateway).ID
			if b == at.party {
				a, b = b, a
			}
			if a == at.party && !seen[b] && standing.Exists(o) {
				seen[b] = true
				queue = append(queue, step{b, append(slices.Clone(at.path), o)})
			}
		}
	}
	return nil
}
