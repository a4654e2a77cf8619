package draft

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/prefix"
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
	own    map[design.ID]*design.Object // what was put, by ID
}

func newShape(key, title string) Shape {
	return Shape{
		Key: key, Title: title, Out: []string{}, Builds: []Built{}, Parties: []PartySteps{}, Costs: []cost.Item{},
		Suggestions: []Suggestion{}, Edits: []design.Edit{},
	}
}

// draft begins a shape. What shapes before it have taken of the books is free for it.
func draft(books *allocation.Books, s *Shape) *drafter {
	books.Release()
	return &drafter{design: books.Design(), books: books, shape: s, own: map[design.ID]*design.Object{}}
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
	added := 0
	for _, t := range s.tables {
		if now := f.own[t.ID]; now != nil {
			t = now
		}
		body := *t.Body.(*design.Table)
		body.Routes = slices.Clone(body.Routes)
		n := len(body.Routes)
		for _, r := range ranges {
			if !slices.ContainsFunc(body.Routes, func(e design.Entry) bool { return e.Prefix == r }) {
				body.Routes = append(body.Routes, design.Entry{Prefix: r, Via: via.ID})
			}
		}
		if len(body.Routes) > n {
			added += len(body.Routes) - n
			f.replace(t.With(&body))
			f.step(s.party.Name, "Enter %s to the %s in %s", negotiate.Joined(ranges), word, t.Name)
		}
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
	exports []netip.Prefix
	most    uint32 // routes that its profile lets it take; 0: not said
}

// sessionHold notices a dead path in half a minute instead of one and a half.
const sessionHold = 30

// session drafts a BGP session. Each end announces what it holds, and takes
// what the other holds and nothing else.
func (f *drafter) session(parent design.ID, a, b speaker) {
	s := &design.Session{}
	for _, x := range [2][2]speaker{{a, b}, {b, a}} {
		own, far := x[0], x[1]
		e := design.SessionEnd{ASN: own.asn, Address: own.at, Hold: sessionHold, MaxPrefixes: own.most}
		announced, _ := apart(own.exports, far.exports)
		taken, _ := apart(far.exports, own.exports)
		for _, p := range announced {
			e.Out = append(e.Out, design.Filter{Prefix: p})
		}
		for _, p := range taken {
			e.In = append(e.In, design.Filter{Prefix: p})
		}
		for _, f := range prefix.Families {
			if slices.ContainsFunc(
				append(announced, taken...), func(p netip.Prefix) bool { return f.Has(p.Addr()) },
			) {
				e.Families = append(e.Families, f.Code())
			}
		}
		if len(e.Families) < 2 && !slices.Contains(e.Families, prefix.IPv6.Code()) {
			e.Families = nil // what is usual is not written
		}
		if e.MaxPrefixes == 0 {
			e.MaxPrefixes = uint32(10 + 2*len(taken)) // room to grow, and an end to a flood
		}
		s.Ends = append(s.Ends, e)
	}
	f.put(design.KindSession, parent, "session", s)
}
