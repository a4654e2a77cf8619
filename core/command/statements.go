package command

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/plan"
	"dravin/core/words"
)

// Verb is what a line can begin with, beside a kind or a name.
type Verb struct {
	Word string
	Form string // how it goes on
	Doc  string
	read func(*reader)
}

// Verbs are all of them.
var Verbs []Verb

func init() {
	r := func(word, form, doc string, read func(*reader)) {
		Verbs = append(Verbs, Verb{word, form, doc, read})
	}
	r(
		"set", "set THING VALUES", "changes its values; a list becomes what is said, and what it loses is told",
		(*reader).set,
	)
	r(
		"give", "give THING VALUES", "one more of any list, which keeps what it has; to a site, a LAN with the range",
		(*reader).give,
	)
	r("add", "add VALUES to THING", "the same, the other way round", (*reader).add)
	r(
		"take", "take VALUES from THING",
		"one less of a list, or a value away; also take THING VALUES", (*reader).takeAway,
	)
	r("rename", "rename THING to NAME", "renames it; what refers to it still does", (*reader).rename)
	r(
		"remove", "remove THING, THING", "removes them with what can not be without them, and says what that is",
		(*reader).remove,
	)
	r(
		"move", "move THING into SEGMENT",
		"puts a LAN, inner route, network, outside party, or all of a site, into a segment", (*reader).move,
	)
	r(
		"join", "join A and B by SHAPE",
		"joins them, proven; HEAD with A, B, *hut is a star (* stands for any letters); with \", translated\" behind, what "+
			"collides is known as another range; without a shape it leads to the options", (*reader).join,
	)
	r(
		"copy", "copy PARTY as NAME, NAME",
		"others like it, with its links, on free ranges; copy PARTY 9 times as Hut # by a pattern", (*reader).copy,
	)
	r("reserve", "reserve RANGE for NAME use mapping", "keeps a range", (*reader).reserve)
	r(
		"publish", "publish HOST on tcp/443 at BOX as ADDRESS for RANGES",
		"a published service at a gateway, box or network; the address is the next free one, and anybody may call, "+
			"unless said", (*reader).publish,
	)
	r("bind", "bind ATTACHMENT to HUB-TABLE", "that table decides for what comes in by it", (*reader).bind)
	r("feed", "feed HUB-TABLE with ATTACHMENT, ATTACHMENT", "it learns their ranges", (*reader).feed)
	r(
		"serve", "serve ZONE, ZONE by ATTACHMENT", "one subnet of each zone, none public if there is another",
		(*reader).serve,
	)
	r(
		"accept", "accept REQUEST because REASON", "answers a request, which is named itself or by what it is for",
		(*reader).accept,
	)
	r("refuse", "refuse REQUEST because REASON", "the same", (*reader).refuse)
}

func (r *reader) statement() {
	for _, v := range Verbs {
		r.offer(v.Word, v.Form+": "+v.Doc)
	}
	for _, v := range Verbs {
		if r.next < len(r.toks) && r.toks[r.next].is(v.Word) {
			r.next++
			v.read(r)
			return
		}
	}
	if k, n := r.kindAt(design.Kinds()); n > 0 && !r.hasMust() {
		r.next += n
		r.object(k, nil)
		return
	}
	if r.next < len(r.toks) || r.complete >= 0 {
		r.must()
	}
}

func verbList() string {
	var out []string
	for _, v := range Verbs {
		out = append(out, v.Word)
	}
	return strings.Join(out, ", ")
}

func (r *reader) hasMust() bool {
	return slices.ContainsFunc(r.toks, func(t token) bool { return t.is("must") })
}

// set is: set THING field value ...
func (r *reader) set() { r.values(false) }

// values reads a thing and what of it is set, or, taking, what is taken from its lists.
func (r *reader) values(taking bool) {
	start := r.next
	o, ok := r.thing(nil, r.it)
	if !ok {
		return
	}
	from, to := r.span(start, r.next)
	b := r.changing(o, from, to)
	b.taking = taking
	if r.clauses(b, nil); !r.failed() && len(b.said) == 0 {
		why := "nothing is said of " + r.design.Title(o.ID)
		if taking {
			why = "nothing is taken from " + r.design.Title(o.ID)
		}
		r.wrongHere(why, "there are "+keysOf(design.Outline(o.Kind)))
		return
	}
	if !r.failed() {
		r.settle(b)
	}
}

// rename is: rename THING to NAME
func (r *reader) rename() {
	start := r.next
	o, ok := r.thing(nil, r.it)
	if !ok {
		return
	}
	from, to := r.span(start, r.next)
	r.takeWord("to")
	var parts []string
	for t, more := r.take(); more; t, more = r.take() {
		parts = append(parts, t.text)
	}
	if len(parts) == 0 {
		r.wrongHere("the new name is missing", "write: to, and the name")
		return
	}
	c := *o
	c.Name = strings.Join(parts, " ")
	r.current.touched = append(r.current.touched, touched{o.ID, from, to})
	r.do(fmt.Sprintf("Rename %s to %s", r.design.Title(o.ID), c.Name), &c, false, design.PutEdit(&c))
}

// remove is: remove THING, THING
func (r *reader) remove() {
	for !r.failed() {
		o, ok := r.thing(nil, r.it)
		if !ok {
			return
		}
		gone := r.design.Removal(o.ID)
		text := "Remove " + r.design.Title(o.ID)
		if n := len(gone.Goes) - 1; n > 0 {
			text += fmt.Sprintf(" and %s with it", words.Count(n, "thing", "things"))
		}
		for _, e := range gone.Goes[1:] {
			if e.Why != "" && len(r.current.Notes) < 20 {
				r.current.Notes = append(r.current.Notes, fmt.Sprintf("%s %s goes: %s", Word(e.Kind), e.Title, e.Why))
			}
		}
		for _, e := range gone.Changes {
			if len(r.current.Notes) < 20 {
				r.current.Notes = append(r.current.Notes, fmt.Sprintf("%s %s stays: %s", Word(e.Kind), e.Title, e.Why))
			}
		}
		r.do(text, nil, false, gone.Edits...)
		for _, e := range gone.Goes {
			r.gone[e.ID] = true
		}
		if !r.takeWord(",") && !r.takeWord("and") {
			return
		}
	}
}

// segmented are the kinds that have a segment of their own.
var segmented = []design.Kind{design.KindLAN, design.KindInnerRoute, design.KindNetwork, design.KindOutside}

// move is: move THING into SEGMENT; of a site all that is in it.
func (r *reader) move() {
	o, ok := r.thing(append([]design.Kind{design.KindSite}, segmented...), r.it)
	if !ok {
		return
	}
	_ = r.takeWord("into") || r.takeWord("to")
	segment, ok := r.thing([]design.Kind{design.KindSegment}, "")
	if !ok {
		return
	}
	moved := []*design.Object{o}
	if o.Kind == design.KindSite {
		moved = r.design.Inside(o.ID, design.KindLAN, design.KindInnerRoute)
	}
	var edits []design.Edit
	for _, m := range moved {
		body := design.Values(m)
		body["segment"] = string(segment.ID)
		if b, err := decoded(m.Kind, body); err == nil {
			edits = append(edits, design.PutEdit(m.With(b)))
		}
	}
	r.do(fmt.Sprintf("Move %s into %s", r.design.Title(o.ID), segment.Name), o, false, edits...)
}

// give is: give THING a range, or any other value; a range given to a site makes a
// LAN.
func (r *reader) give() {
	start := r.next
	o, ok := r.thing(nil, r.it)
	if !ok {
		return
	}
	from, to := r.span(start, r.next)
	if o.Kind == design.KindSite {
		r.it = o.ID
		r.object(design.KindLAN, o)
		return
	}
	b := r.changing(o, from, to)
	b.adding = true
	if r.clauses(b, nil); !r.failed() {
		r.settle(b)
	}
}

// copy is: copy PARTY as NAME, NAME; copy PARTY 9 times as PATTERN
func (r *reader) copy() {
	start := r.next
	o, ok := r.thing([]design.Kind{design.KindSite, design.KindNetwork, design.KindOutside}, r.it)
	if !ok {
		return
	}
	count := 0
	if r.next+1 < len(r.toks) && r.toks[r.next+1].is("times") {
		count, _ = strconv.Atoi(r.toks[r.next].text)
		if count < 1 || count > maxCopies {
			r.wrongHere("is not a number of copies", fmt.Sprintf("write one from 1 to %d", maxCopies))
			return
		}
		r.next += 2
	}
	var names []string
	if r.takeWord("as") {
		for {
			names = append(names, r.name(o.Kind))
			if !r.takeWord(",") && !r.takeWord("and") {
				break
			}
		}
	}
	pattern := o.Name + " #"
	if len(names) == 1 && count > 0 {
		pattern, names = names[0], nil
	}
	if len(names) == 0 {
		names = draft.Numbered(r.filler().Books(), pattern, max(count, 1))
	}
	if !r.affords(len(names)) {
		return
	}
	c, err := draft.Like(r.ctx, r.books(), o.ID, names)
	if err == nil {
		c, err = plan.Copied(r.ctx, r.proofs(), o.ID, c)
	}
	if err != nil {
		from, to := r.span(start, r.next)
		r.wrong(from, to, err.Error(), "")
		return
	}
	r.current.Notes = append(r.current.Notes, c.Notes...)
	r.do(fmt.Sprintf("Copy %s as %s", o.Name, strings.Join(names, ", ")), nil, true, c.Edits...)
	r.it = c.Made[0]
}

const maxCopies = 200

// reserve is: reserve RANGE for NAME use mapping
func (r *reader) reserve() {
	b := &being{
		kind: design.KindReservation, body: map[string]any{}, said: map[string]bool{}, spans: map[string][2]int{},
	}
	f, _ := fieldOf(b.kind, "prefix")
	if r.field(b, f); r.failed() {
		return
	}
	if r.takeWord("for") {
		start := r.next
		b.name = r.name(b.kind)
		b.from, b.to = r.span(start, r.next)
	}
	if b.name == "" {
		b.name = r.filler().Name(b.kind, "")
	}
	made := r.beside(b.kind, "", b.name, nil)
	b.id, b.name = made.ID, made.Name
	if r.clauses(b, nil); !r.failed() {
		r.settle(b)
	}
}

// must is: A must reach B on tcp/443, or must never.
func (r *reader) must() {
	f, _ := fieldOf(design.KindIntent, "from")
	if found, _ := r.refSpan(f.Kinds); len(found) == 0 && r.next < len(r.toks) && !r.hasMust() {
		r.offerNames(f.Kinds)
		r.wrongHere(
			r.nextShown()+" begins nothing",
			"begin with a kind (site, network, lan, ...), with "+verbList()+", or with what must reach what",
		)
		return
	}
	from, ok := r.thing(f.Kinds, r.it)
	if !ok {
		return
	}
	if !r.takeWord("must") {
		r.wrongHere(
			"what of "+r.design.Title(from.ID)+" is not said",
			"write: must reach, must never reach; or begin the line with set, rename, remove, move, give, join or copy",
		)
		return
	}
	in := design.Intent{From: from.ID, Never: r.takeWord("never")}
	_ = r.takeWord("reach") || r.takeWord("talk") && r.takeWord("to")
	target, ok := r.thing(f.Kinds, "")
	if !ok {
		return
	}
	in.To = target.ID
	services, ok := r.services()
	if !ok || !r.conditions(&in) {
		return
	}
	if len(services) == 0 {
		services = []design.Service{{}}
		if !in.Never {
			if services = answersOf(target); len(services) == 0 {
				r.wrongHere("the service is missing", "write: on, and protocol and port, such as on tcp/443")
				return
			}
			r.fill("service", joinServices(services), "what "+r.design.Title(target.ID)+" answers")
		}
	}
	for _, s := range services {
		in.Service = s
		r.intent(in)
	}
}

func answersOf(o *design.Object) []design.Service {
	if e, ok := o.Body.(*design.Endpoint); ok {
		return e.Answers
	}
	return nil
}

func joinServices(list []design.Service) string {
	var out []string
	for _, s := range list {
		out = append(out, s.String())
	}
	return strings.Join(out, ", ")
}

func (r *reader) services() ([]design.Service, bool) {
	var out []design.Service
	if !r.takeWord("on") {
		return nil, true
	}
	for {
		t, ok := r.take()
		if !ok {
			r.wrongHere("the service is missing", "write tcp/443, udp/514 or icmp")
			return nil, false
		}
		s, err := design.ParseService(t.text)
		if err != nil {
			r.wrong(t.from, t.to, err.Error(), "")
			return nil, false
		}
		out = append(out, s)
		if !r.takeWord(",") && !r.takeWord("and") {
			return out, true
		}
	}
}

// conditions reads what follows an intent: a failure that it must survive, a group,
// an owner.
func (r *reader) conditions(in *design.Intent) bool {
	for !r.failed() {
		switch {
		case r.takeWords("still", "after", "any", "single", "failure"),
			r.takeWords("even", "after", "any", "single", "failure"):
			in.Survives = true
		case r.takeWords("telling", "callers", "apart"):
			in.Apart = true
		case r.takeWords("in", "group"), r.takeWord("group"):
			if t, ok := r.take(); ok {
				in.Group = t.text
			}
		case r.takeWord("for"):
			o, ok := r.thing([]design.Kind{design.KindOwner}, "")
			if !ok {
				return false
			}
			in.Owner = o.ID
		default:
			return true
		}
	}
	return false
}

// intent makes an intent, or changes the one that asks the same.
func (r *reader) intent(in design.Intent) {
	verb := "reaches"
	if in.Never {
		verb = "never reaches"
	}
	name := fmt.Sprintf("%s %s %s", r.design.Title(in.From), verb, r.design.Title(in.To))
	if in.Service != (design.Service{}) {
		name += " on " + in.Service.String()
	}
	for o, body := range design.Each[design.Intent](r.design.Of(design.KindIntent)) {
		if old := body; old.From == in.From && old.To == in.To && old.Service == in.Service {
			b := in
			b.Group, b.Note = cmp.Or(in.Group, old.Group), old.Note
			if in.Owner == "" {
				b.Owner = old.Owner
			}
			if b == *old {
				r.current.Does = append(
					r.current.Does, Deed{Text: o.Name + " is said already", Object: o.ID, Kind: o.Kind},
				)
				return
			}
			r.do("Change the intent "+o.Name, o, false, design.PutEdit(o.With(&b)))
			return
		}
	}
	const most = 80
	o := r.beside(design.KindIntent, "", clipped(name, most-6), &in)
	r.current.touched = append(r.current.touched, touched{id: o.ID})
	r.do("New intent: "+name, o, true, design.PutEdit(o))
}
