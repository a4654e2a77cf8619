package draft

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/prefix"
	"dravin/core/topology"
	"dravin/core/words"

	"dravin/core/allocation"
	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/provider"
)

// drafter fills one shape: it puts what is missing, reuses what is there, and
// keeps account of steps, costs and reasons.
type drafter struct {
	design *design.Design
	books  *allocation.Books
	shape  *Shape
	// translated lets a shape name no range yet: what collides is made known as others.
	translated bool
	own        map[design.ID]*design.Object // what was put, by ID
}

func newShape(key, title string) Shape {
	return Shape{
		Key: key, Title: title, Out: []string{}, Builds: []Built{}, Parties: []PartySteps{}, Costs: []cost.Item{},
		Suggestions: []Suggestion{}, Edits: []design.Edit{},
	}
}

// draft begins a shape. What shapes before it have taken of the books is free for it.
func draft(books *allocation.Books, s *Shape, q Options) *drafter {
	books.Release()
	return &drafter{
		design: books.Design(), books: books, shape: s, translated: q.Translated,
		own: map[design.ID]*design.Object{},
	}
}

// Beside is a new object under a name that is free beside its siblings.
func Beside(d *design.Design, k design.Kind, parent design.ID, name string, body design.Body) *design.Object {
	free, id := allocation.NewBooks(d).Beside(k, parent, name)
	return &design.Object{ID: id, Kind: k, Parent: parent, Name: free, Body: body}
}

func (f *drafter) get(id design.ID) *design.Object {
	if o := f.own[id]; o != nil {
		return o
	}
	return f.design.Get(id)
}

func (f *drafter) title(id design.ID) string {
	o := f.get(id)
	if o == nil {
		return "something unknown"
	}
	if p := f.get(o.Parent); p != nil && o.Kind != design.KindTunnel {
		return p.Name + " " + o.Name
	}
	return o.Name
}

// put adds an object under a name that is free beside its siblings, or replaces
// one with its ID.
func (f *drafter) put(k design.Kind, parent design.ID, name string, body design.Body) *design.Object {
	free, id := f.books.Take(k, parent, name)
	o := &design.Object{ID: id, Kind: k, Parent: parent, Name: free, Body: body}
	f.replace(o)
	return o
}

// replace puts an object as it is, once.
func (f *drafter) replace(o *design.Object) {
	f.own[o.ID] = o
	n := slices.IndexFunc(f.shape.Edits, func(e design.Edit) bool { return e.ID == o.ID })
	if n < 0 {
		f.shape.Edits = append(f.shape.Edits, design.PutEdit(o))
		return
	}
	f.shape.Edits[n] = design.PutEdit(o)
}

func (f *drafter) out(format string, args ...any) {
	f.shape.Out = append(f.shape.Out, fmt.Sprintf(format, args...))
}

func (f *drafter) builds(what string, o *design.Object, reused bool) {
	f.shape.Builds = append(f.shape.Builds, Built{What: what, Reused: reused, ID: o.ID})
}

func (f *drafter) step(party, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	for n := range f.shape.Parties {
		if f.shape.Parties[n].Party == party {
			f.shape.Parties[n].Steps = append(f.shape.Parties[n].Steps, text)
			return
		}
	}
	f.shape.Parties = append(f.shape.Parties, PartySteps{Party: party, Steps: []string{text}})
}

func (f *drafter) suggest(what, value, why string, args ...any) {
	f.shape.Suggestions = append(
		f.shape.Suggestions, Suggestion{What: what, Value: value, Why: fmt.Sprintf(why, args...)},
	)
}

func (f *drafter) costs(text string, amount provider.Money) {
	if amount != 0 {
		f.shape.Costs = append(f.shape.Costs, cost.Item{Text: text, Amount: amount})
	}
}

func (f *drafter) hourly(text string, hourly provider.Money) { f.costs(text, cost.Monthly(hourly)) }

func (f *drafter) done(subject *design.Object, a, b side) {
	f.shape.Subject = subject.ID
	f.shape.Monthly = cost.Sum(f.shape.Costs)
	if a.owner != "" && b.owner != "" && a.owner != b.owner {
		f.request(subject, a.owner, b.owner)
	}
}

// exempt lets a gateway that hides what it sends toward everything hide nothing toward a joint: what
// was meant is the way to the internet.
func (f *drafter) exempt(gateway, joint *design.Object) {
	if now := design.Exempted(f.get(gateway.ID), joint.ID); now != nil {
		f.replace(now)
		f.step(f.title(f.get(gateway.Parent).ID), "At %s hide nothing toward %s", gateway.Name, joint.Name)
		f.suggest(
			"Exempt from hiding", joint.Name, "%s hides what leaves for anywhere; over the joint addresses stay as they are",
			gateway.Name,
		)
	}
}

// request asks the far owner before anything is built.
func (f *drafter) request(subject *design.Object, from, to design.ID) {
	o := f.put(design.KindRequest, "", "Join: "+subject.Name, &design.Request{For: subject.ID, From: from, To: to})
	f.builds(fmt.Sprintf("A request to %s, who owns the other side", f.design.Title(to)), o, false)
	f.step(f.design.Title(to), "Accept or refuse the request, with a reason")
}

// asn is the ASN of something that needs one: its own, or one that is free.
func (f *drafter) asn(who string, own uint32) uint32 {
	if own != 0 {
		return own
	}
	n, err := f.books.TakeASN()
	if err != nil {
		f.out("%v", err)
		return 0
	}
	f.suggest(
		"ASN of "+who,
		fmt.Sprint(n),
		"the lowest private ASN (RFC 6996) that nobody here has and no cloud gives by default, so that no path meets itself",
	)
	return n
}

// inside carves ranges for n tunnels or circuits.
func (f *drafter) inside(a, b *provider.Inside, n int) []netip.Prefix {
	var ranges []netip.Prefix
	for range n {
		p, err := TakeInside(f.books, a, b)
		if err != nil {
			f.out("%v", err)
			return nil
		}
		ranges = append(ranges, p)
	}
	f.suggest(
		"Inside addresses", negotiate.Joined(ranges),
		"free in this design, allowed at both ends, and none of those that a cloud or a standard keeps",
	)
	return ranges
}

// hosts are the two host addresses of an inside range, with its length.
func hosts(p netip.Prefix) (low, high netip.Prefix) {
	first := p.Addr()
	if p.Bits() < p.Addr().BitLen()-1 {
		first = first.Next()
	}
	return netip.PrefixFrom(first, p.Bits()), netip.PrefixFrom(first.Next(), p.Bits())
}

// enter puts entries for the ranges into every table of a network that does not
// learn them by itself.
func (f *drafter) enter(s side, ranges []netip.Prefix, via *design.Object, word string) {
	added, fed := 0, 0
	for _, t := range s.tables {
		if topology.Fed(f.design, t, via.Kind) {
			fed++
			continue
		}
		if now := f.own[t.ID]; now != nil {
			t = now
		}
		body := *t.Body.(*design.Table)
		body.Routes = slices.Clone(body.Routes)
		n := len(body.Routes)
		for _, r := range ranges {
			if !slices.ContainsFunc(body.Routes, func(e design.Entry) bool {
				return e.Prefix == r || e.Via == via.ID && prefix.Contains(e.Prefix, r)
			}) {
				body.Routes = append(body.Routes, design.Entry{Prefix: r, Via: via.ID})
			}
		}
		if len(body.Routes) > n {
			added += len(body.Routes) - n
			f.replace(t.With(&body))
			f.step(s.party.Name, "Enter %s to the %s in %s", negotiate.Joined(ranges), word, t.Name)
		}
	}
	if fed > 0 && fed == len(s.tables) {
		f.suggest("Tables of "+s.party.Name, "no entries", "what the %s knows is fed into them", word)
	}
	if added > 0 {
		f.suggest(
			"Table entries of "+s.party.Name, fmt.Sprintf(
				"%d in %s", added, words.Count(len(s.tables), "table", "tables"),
			),
			"every table needs its own entry here; one that is forgotten cuts its subnets off",
		)
	}
}

// speaker is one end of a session that is drafted.
type speaker struct {
	at      netip.Addr
	asn     uint32
	owner   design.ID
	all     []netip.Prefix // what it holds
	exports []netip.Prefix // what of that the other is told of
	transit bool           // what it knows by others lies behind it, too: a hub, an edge router
	most    uint32         // routes that its profile lets it take; 0: not said
	fixed   bool           // no filters and limits can be set there
}

// sessionHold notices a dead path in half a minute instead of one and a half.
const sessionHold = 30

// leastRoutes is room for what is not there yet, and an end to a flood; leastBehind of what others join.
const (
	leastRoutes = 40
	leastBehind = 1000
)

// session drafts a BGP session.
func (f *drafter) session(parent design.ID, a, b speaker) {
	s := &design.Session{}
	for _, x := range [2][2]speaker{{a, b}, {b, a}} {
		own, far := x[0], x[1]
		e := design.SessionEnd{ASN: own.asn, Address: own.at, Hold: sessionHold}
		if !own.fixed {
			e.MaxPrefixes, e.In, e.Out = own.mostOf(far), own.takes(far), own.tells(far)
		}
		if families := familiesOf(own, far); slices.Contains(families, prefix.IPv6) {
			for _, f := range families { // what is usual is not written
				e.Families = append(e.Families, f.Code())
			}
		}
		s.Ends = append(s.Ends, e)
	}
	f.put(design.KindSession, parent, "session", s)
}

// mostOf is how many routes it takes of another at most: what its profile says, or room for more than there is now.
func (own speaker) mostOf(far speaker) uint32 {
	if own.most > 0 {
		return own.most
	}
	most := uint32(max(leastRoutes, 10+2*len(far.exports)))
	if far.transit {
		most = max(most, leastBehind)
	}
	return most
}

// familiesOf are those of which either end tells the other something; IPv4 while nothing is told.
func familiesOf(a, b speaker) (out []prefix.Family) {
	for _, f := range prefix.Families {
		if slices.ContainsFunc(
			slices.Concat(a.exports, b.exports), func(p netip.Prefix) bool { return f.Has(p.Addr()) },
		) {
			out = append(out, f)
		}
	}
	return out
}

// tells is what an end announces: all of its own, whatever that comes to be, and what lies behind
// it; where a part collides with what the other holds, just the rest.
func (own speaker) tells(far speaker) (out []design.Filter) {
	if own.transit {
		return slices.Concat(refused(far.all), anything(own, far))
	}
	if announced, _ := apart(own.exports, far.all); !prefix.Same(announced, own.all) {
		for _, p := range announced {
			out = append(out, design.Filter{Prefix: p})
		}
		if len(announced) == 0 && len(own.all) > 0 { // an empty filter would tell of everything
			return anythingRefused(own)
		}
	}
	return out
}

// takes is what an end lets in: what the other has and may have later, but nothing that it holds
// itself and no default route. Of another owner's end it takes what is agreed, with its parts.
func (own speaker) takes(far speaker) (out []design.Filter) {
	if own.owner == far.owner || own.owner == "" || far.owner == "" || far.transit {
		return slices.Concat(refused(own.all), anything(own, far))
	}
	agreed, _ := apart(far.exports, own.all)
	for _, p := range agreed {
		out = append(out, design.Filter{Prefix: p, From: uint8(p.Bits()), To: uint8(p.Addr().BitLen())})
	}
	if len(agreed) == 0 && len(far.all) > 0 {
		return anythingRefused(far)
	}
	return out
}

// refused are rules that refuse ranges with all their parts.
func refused(list []netip.Prefix) (out []design.Filter) {
	for _, p := range prefix.Minimal(list) {
		if p.Bits() > 0 {
			out = append(out, design.Filter{Prefix: p, To: uint8(p.Addr().BitLen()), Verdict: design.Refuse})
		}
	}
	return out
}

// anything are rules that let every range of the families pass that are spoken, but no default.
func anything(own, far speaker) (out []design.Filter) {
	families := familiesOf(own, far)
	if len(families) == 0 {
		families = []prefix.Family{prefix.IPv4}
	}
	for _, f := range families {
		all := f.Everything()
		out = append(out, design.Filter{Prefix: all, From: 1, To: uint8(all.Addr().BitLen())})
	}
	return out
}

// anythingRefused is a filter that lets nothing pass.
func anythingRefused(of speaker) []design.Filter { return refused(of.all) }
