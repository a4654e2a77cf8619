package wire

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/walk"
)

// Held is what somebody has seen, held against the walk.
type Held struct {
	Kind string `json:"kind"`
	// Agrees says that nothing that was seen is otherwise than the walk has it.
	Agrees bool `json:"agrees"`
	// Reached is the furthest stage of which something was seen, as it is in words; empty if of none.
	Reached string `json:"reached,omitempty"`
	Way     string `json:"way,omitempty" enum:"there,back"`
	Stage   int    `json:"stage"` // of the way, from 0
	// Parts says where what was seen and the walk part; empty if they do not.
	Parts string `json:"parts,omitempty"`
	Says  string `json:"says"` // what that says
	Next  string `json:"next"` // what to look at next
	// Matched are the packets, entries or lines that agree, with the stages at which they are expected.
	Matched []Match `json:"matched"`
	Strange []Match `json:"strange"` // and those that do not, with what was expected
}

// Match is something seen and what it is held against.
type Match struct {
	Seen  string     `json:"seen"`
	Place string     `json:"place,omitempty"`
	Why   string     `json:"why,omitempty"`
	At    walk.Place `json:"at,omitzero"`
	Way   string     `json:"way,omitempty"`
	Stage int        `json:"stage"`
}

// Against holds what somebody has seen against the walk of a flow.
func Against(t *route.Tables, p walk.Proof, s Seen) Held {
	h := holder{tables: t, proof: p, seen: s, expected: Of(t, p)}
	h.out = Held{Kind: s.Kind, Matched: []Match{}, Strange: []Match{}, Stage: -1}
	switch s.Kind {
	case "ping":
		h.ping()
	case "trace":
		h.trace()
	case "connections":
		h.connections()
	case "tunnels", "sessions":
		h.stands()
	default:
		h.capture()
	}
	return h.out
}

type holder struct {
	tables   *route.Tables
	proof    walk.Proof
	seen     Seen
	expected Capture
	out      Held
}

// capture holds the packets of a capture against those that the walk has: in whatever order interfaces were captured,
// the furthest that was seen tells how far the packet came.
func (h *holder) capture() {
	if at, ok := h.onePlace(); ok {
		h.atOne(at)
		return
	}
	best := -1
	used := map[int]bool{}
	for _, o := range h.seen.Packets {
		n, near := h.find(o, used)
		used[n] = true
		if n < 0 {
			h.out.Strange = append(h.out.Strange, Match{Seen: observedWords(o), Place: o.Interface, Why: near})
			continue
		}
		p := h.expected.Packets[n]
		at := h.expected.Interfaces[p.Interface]
		h.out.Matched = append(h.out.Matched, Match{
			Seen: observedWords(o), Place: at.At.Title + ", " + at.Name, At: at.At, Way: p.Way, Stage: p.Stage,
		})
		best = max(best, n)
	}
	if best < 0 {
		h.nothing()
		return
	}
	p := h.expected.Packets[best]
	at := h.expected.Interfaces[p.Interface]
	h.out.Reached, h.out.Way, h.out.Stage = at.At.Title+", "+at.Name, p.Way, p.Stage
	h.missing(best)
}

// find is the expected packet that an observed one is, the first that no other was yet; near is what differs from the
// nearest.
func (h *holder) find(o Observed, used map[int]bool) (int, string) {
	near, least := "nothing on the way has such a packet", 5
	found := -1
	for n, p := range h.expected.Packets {
		if o.ESP != (p.Outer != nil) {
			continue
		}
		diff := differences(o, p)
		if len(diff) == 0 {
			if found < 0 || used[found] && !used[n] || !used[n] && h.named(o, p) {
				found = n
			}
			continue
		}
		if len(diff) < least {
			at := h.expected.Interfaces[p.Interface]
			least, near = len(diff), fmt.Sprintf("at %s, %s: %s", at.At.Title, at.Name, strings.Join(diff, ", "))
		}
	}
	return found, near
}

// named reports whether a capture calls its interface as the walk does that of a packet.
func (h *holder) named(o Observed, p Packet) bool {
	at := h.expected.Interfaces[p.Interface]
	name := strings.ToLower(o.Interface)
	return o.Interface != "" && strings.Contains(name, strings.ToLower(at.Name)) &&
		strings.Contains(name, strings.ToLower(at.At.Title))
}

// onePlace is the interface at which a capture was taken that holds each packet once and calls no interface by a name
// of the walk's: the one that has most of its packets. ok is false for a capture of several places, or of none.
func (h *holder) onePlace() (at int, ok bool) {
	seen := map[string]bool{}
	for _, o := range h.seen.Packets {
		words := observedWords(o)
		again := seen[words] && o.What != "ACK" && o.What != "datagram"
		if again || o.Interface != h.seen.Packets[0].Interface {
			return 0, false
		}
		seen[words] = true
	}
	most := 0
	for n := range h.expected.Interfaces {
		has := 0
		for _, o := range h.seen.Packets {
			for _, p := range h.expected.Packets {
				if p.Interface == n && o.ESP == (p.Outer != nil) && len(differences(o, p)) == 0 {
					has++
					break
				}
			}
		}
		if has > most {
			most, at = has, n
		}
	}
	return at, most > 0
}

// atOne holds a capture of one place against what passes there.
func (h *holder) atOne(at int) {
	i := h.expected.Interfaces[at]
	where := i.At.Title + ", " + i.Name
	var missing *Packet
	for n := range h.expected.Packets {
		p := &h.expected.Packets[n]
		if p.Interface != at {
			continue
		}
		seen := slices.ContainsFunc(h.seen.Packets, func(o Observed) bool {
			return o.ESP == (p.Outer != nil) && len(differences(o, *p)) == 0
		})
		if !seen {
			missing = p
			break
		}
		h.out.Reached, h.out.Way, h.out.Stage = where, p.Way, p.Stage
		h.out.Matched = append(h.out.Matched, Match{
			Seen: p.What + " " + p.Header.String(), Place: where, At: i.At, Way: p.Way, Stage: p.Stage,
		})
	}
	for _, o := range h.seen.Packets {
		strange := !slices.ContainsFunc(h.expected.Packets, func(p Packet) bool {
			return o.ESP == (p.Outer != nil) && len(differences(o, p)) == 0
		})
		if strange {
			_, near := h.find(o, map[int]bool{})
			h.out.Strange = append(h.out.Strange, Match{Seen: observedWords(o), Place: o.Interface, Why: near})
		}
	}
	switch {
	case missing == nil && len(h.out.Strange) == 0:
		h.out.Agrees = true
		h.out.Says = "all that the walk has pass at " + where + " was seen, and nothing else"
		h.out.Next = "ask the application: the network carries it there and back"
		if !h.proof.Works {
			h.out.Says += "; further on it is stopped: " + h.proof.Stop.Why
			h.out.Next = h.proof.Stop.Fix
		}
	case missing == nil:
		h.out.Parts = "some packets are on no part of the walk: " + h.out.Strange[0].Why
		h.out.Says = "something else happens beside this flow, or answers it"
		h.out.Next = "look who sends " + h.out.Strange[0].Seen
	default:
		h.out.Parts = fmt.Sprintf(
			"the %s was not seen at %s, where the walk has it %s: %s", missing.What, where, wayWord(missing.Way),
			missing.Header.String(),
		)
		h.out.Says = "it is lost before it comes there, or nobody answers"
		h.out.Next = h.nextPlace(at, missing.Way)
	}
}

// nextPlace is where to capture next: half way between a place and the far end of a way.
func (h *holder) nextPlace(at int, way string) string {
	var on []int
	for _, p := range h.expected.Packets {
		if p.Way == way && p.Interface != at && !slices.Contains(on, p.Interface) {
			on = append(on, p.Interface)
		}
	}
	if len(on) == 0 {
		return "look at the far end: does it answer?"
	}
	i := h.expected.Interfaces[on[len(on)/2]]
	return fmt.Sprintf("capture at %s, %s with: %s", i.At.Title, i.Name, i.Filter)
}

// differences are what of a packet is otherwise than expected; the port that a client picks is any.
func differences(o Observed, p Packet) (out []string) {
	if p.Outer != nil {
		if o.Header.Src != p.Outer.Src {
			out = append(out, fmt.Sprintf("from %s, and not %s", p.Outer.Src, o.Header.Src))
		}
		if o.Header.Dst != p.Outer.Dst {
			out = append(out, fmt.Sprintf("to %s, and not %s", p.Outer.Dst, o.Header.Dst))
		}
		return out
	}
	e := p.Header
	if o.Header.Proto != e.Proto {
		out = append(out, "the protocol is "+e.Proto+", and not "+o.Header.Proto)
	}
	if o.Header.Src != e.Src {
		out = append(out, fmt.Sprintf("it comes from %s, and not %s", e.Src, o.Header.Src))
	}
	if o.Header.Dst != e.Dst {
		out = append(out, fmt.Sprintf("it goes to %s, and not %s", e.Dst, o.Header.Dst))
	}
	mine, its := o.Header.DPort, e.DPort
	if p.Way == "back" {
		mine, its = o.Header.SPort, e.SPort
	}
	if mine != its {
		out = append(out, fmt.Sprintf("the service's port is %d, and not %d", its, mine))
	}
	// What the far end says once the connection is open is on the way of its first answer.
	says := o.What == "ACK" && p.What == "SYN ACK"
	if o.What != "" && p.What != "" && o.What != p.What && e.Proto != "udp" && !says {
		out = append(out, fmt.Sprintf("it is a %s, and not a %s", p.What, o.What))
	}
	return out
}

// missing tells where the walk goes on after the furthest that was seen.
func (h *holder) missing(best int) {
	last := len(h.expected.Packets) - 1
	switch {
	case best == last && h.proof.Works:
		h.out.Agrees = len(h.out.Strange) == 0
		h.out.Says = "everything that was seen is as the walk has it, to the end"
		h.out.Next = "ask the application: the network carries it there and back"
	case best == last:
		h.out.Agrees = len(h.out.Strange) == 0
		h.out.Says = "it was seen as far as the walk has it: there it is stopped, " + h.proof.Stop.Why
		h.out.Next = h.proof.Stop.Fix
	default:
		n := h.expected.Packets[best+1]
		at := h.expected.Interfaces[n.Interface]
		where := at.At.Title + ", " + at.Name
		h.out.Parts = fmt.Sprintf(
			"the %s was not seen at %s, where the walk has it %s: %s", n.What, where, wayWord(n.Way), n.Header.String(),
		)
		h.out.Says = "either nobody captured there, or it is lost between " + h.out.Reached + " and " + where
		h.out.Next = fmt.Sprintf("capture at %s with: %s", where, at.Filter)
	}
	if len(h.out.Strange) > 0 && h.out.Parts == "" {
		h.out.Parts = "some packets are on no part of the walk: " + h.out.Strange[0].Why
	}
}

func wayWord(way string) string {
	if way == "back" {
		return "on the way back"
	}
	return "on the way there"
}

func (h *holder) nothing() {
	h.out.Parts = "nothing that was seen belongs to this flow"
	if len(h.out.Strange) > 0 {
		h.out.Parts = "nothing that was seen is as the walk has it; nearest: " + h.out.Strange[0].Why
	}
	h.out.Says = "it was captured where the flow does not come by, before it began, or something changes it otherwise"
	if len(h.expected.Interfaces) > 0 {
		i := h.expected.Interfaces[0]
		h.out.Next = fmt.Sprintf("capture at %s, %s with: %s", i.At.Title, i.Name, i.Filter)
	}
}

// ping holds pings against the walk, which should be of icmp.
func (h *holder) ping() {
	x := h.seen.Ping
	echo := h.proof.Service == "icmp"
	says := fmt.Sprintf("%d of %d pings were answered", x.Answers, x.Sent)
	h.out.Matched = append(h.out.Matched, Match{Seen: says})
	if x.To.IsValid() && x.To != h.proof.Dialled {
		h.aside("%s was pinged, and this flow dials %s", "ping "+h.proof.Dialled.String(), x.To, h.proof.Dialled)
		return
	}
	switch {
	case x.MTU > 0:
		h.out.Parts = fmt.Sprintf("%s says that packets of %d bytes fit", x.From, x.MTU)
		h.out.Says = "something on the way is narrower than what was sent, and its word for that comes home"
		h.out.Next = "compare with the MTU of each leg; set what TCP may send, or send smaller packets"
	case x.From.IsValid() && x.Answers == 0:
		h.told(x)
	case x.Answers > 0 == (h.proof.Works) && echo:
		h.out.Agrees, h.out.Says = true, "the walk says the same"
		h.out.Next = "walk the service that is meant: ping is no proof that its port works"
		if !h.proof.Works {
			h.out.Next = h.proof.Stop.Fix
		}
	case !echo:
		h.out.Agrees = x.Answers > 0 == h.proof.Works
		h.out.Says = "ping is another service than " + h.proof.Service + ", which filters and hosts may treat otherwise"
		h.out.Next = "walk icmp between the two, and try the port itself"
	case x.Answers > 0:
		h.part(
			"pings are answered, and the walk stops: %s", "look who answers: capture at the target", h.proof.Stop.Why,
		)
	default:
		h.part("no ping is answered, and the walk works", h.firstCapture())
	}
}

// told is a ping of which a router said something.
func (h *holder) told(x *Ping) {
	at, known := h.bearer(x.From)
	where := x.From.String()
	if known {
		where = at.Title + " (" + x.From.String() + ")"
	}
	h.out.Reached = where
	if s := h.proof.Stop; s != nil && s.At.ID == at.ID {
		h.out.Agrees, h.out.Says, h.out.Next = true, "the walk stops there, too: "+s.Why, s.Fix
		return
	}
	h.part("%s says: %s", "look at the routes and filters of "+where, where, x.Says)
}

func (h *holder) part(parts, next string, args ...any) {
	h.out.Parts, h.out.Next = fmt.Sprintf(parts, args...), next
	h.out.Says = "what is there and what is drawn differ between the two"
}

// aside is what was seen of something else.
func (h *holder) aside(parts, next string, args ...any) {
	h.part(parts, next, args...)
	h.out.Says = "that says nothing of this flow"
}

func (h *holder) firstCapture() string {
	if len(h.expected.Interfaces) == 0 {
		return "capture at the source"
	}
	i := h.expected.Interfaces[len(h.expected.Interfaces)/2]
	return fmt.Sprintf("capture half way, at %s, %s with: %s", i.At.Title, i.Name, i.Filter)
}

// bearer is the box on the way that has an address.
func (h *holder) bearer(a netip.Addr) (walk.Place, bool) {
	for _, s := range slices.Concat(h.proof.Forward, h.proof.Reply) {
		p := h.tables.Point(s.At.ID)
		if p != nil && slices.ContainsFunc(p.Self, func(q netip.Prefix) bool { return q.Contains(a) }) {
			return s.At, true
		}
	}
	return walk.Place{}, false
}

// trace holds hops against those that the walk has.
func (h *holder) trace() {
	expected := Trace(h.tables, h.proof)
	for n, x := range h.seen.Hops {
		words := fmt.Sprintf("hop %d: %s", x.N, addressWords(x.Address))
		if n >= len(expected) {
			if x.Address.IsValid() {
				h.out.Strange = append(h.out.Strange, Match{Seen: words, Why: "the walk has no more hops"})
			}
			continue
		}
		e := expected[n]
		switch {
		case x.Address.IsValid() && e.Address.IsValid() && x.Address != e.Address:
			h.out.Strange = append(h.out.Strange, Match{
				Seen: words, At: e.At, Why: fmt.Sprintf(
					"the walk has %s, which answers from %s", e.At.Title, e.Address,
				),
			})
		case x.Address.IsValid():
			h.out.Matched = append(h.out.Matched, Match{Seen: words, At: e.At, Place: e.At.Title})
			h.out.Reached = e.At.Title
		}
	}
	switch last := lastHop(expected); {
	case len(h.out.Strange) > 0:
		h.part(
			"%s, and %s", "compare the table of the hop before with what the box has: ip route get",
			h.out.Strange[0].Seen, h.out.Strange[0].Why,
		)
	case h.out.Reached == last && h.proof.Works:
		h.out.Agrees, h.out.Says = true, "the trace comes by what the walk comes by"
		h.out.Next = "walk the service itself: a trace says nothing of its port"
	case h.proof.Stop != nil && h.out.Reached == last && last != "":
		h.out.Agrees = true
		h.out.Says = "it comes as far as the walk has it, which stops: " + h.proof.Stop.Why
		h.out.Next = h.proof.Stop.Fix
	default:
		h.part("after %s nobody answers, and the walk goes on", h.firstCapture(), orStart(h.out.Reached))
	}
}

func orStart(text string) string {
	if text == "" {
		return "the source"
	}
	return text
}

func lastHop(hops []Hop) string {
	if len(hops) == 0 {
		return ""
	}
	return hops[len(hops)-1].At.Title
}

func addressWords(a netip.Addr) string {
	if !a.IsValid() {
		return "nobody answers"
	}
	return a.String()
}

// connections holds entries of a connection table against what the boxes on the way remember.
func (h *holder) connections() {
	there, back := visits(h.proof.Forward), visits(h.proof.Reply)
	for _, e := range h.seen.Entries {
		words := fmt.Sprintf("%s; answers as %s", e.First.String(), e.Reply.String())
		v, near := boxOf(there, e)
		if v == nil {
			if near != "" {
				h.out.Strange = append(h.out.Strange, Match{Seen: words, Why: near})
			}
			continue
		}
		h.out.Matched = append(
			h.out.Matched, Match{Seen: words, Place: v.at.Title, At: v.at, Way: "there", Stage: v.last},
		)
		h.out.Reached, h.out.Way, h.out.Stage = v.at.Title, "there", v.last
		if e.Unanswered && len(back) > 0 && h.proof.Works {
			h.part(
				"%s has seen no answer, and the walk has one come by",
				"capture at the far end: does it answer, and which way does the answer go?", v.at.Title,
			)
			return
		}
	}
	switch {
	case len(h.out.Strange) > 0:
		h.part("%s", "compare the rules that translate with those that are handed over", h.out.Strange[0].Why)
	case len(h.out.Matched) == 0:
		h.aside("none of %d entries is of this flow", h.firstCapture(), len(h.seen.Entries))
	default:
		h.out.Agrees = true
		h.out.Says = "the box has seen the conversation, and translates it as the walk has it"
		h.out.Next = "look at the next box on the way"
		if s := h.proof.Stop; s != nil {
			h.out.Next = s.Fix
		}
	}
}

// boxOf is the box on the way there that would remember such an entry; near is how one would that has seen the same
// begin.
func boxOf(there []visit, e Entry) (at *visit, near string) {
	same := func(a, b walk.Header) bool {
		return a.Src == b.Src && a.Dst == b.Dst && a.Proto == b.Proto && a.DPort == b.DPort
	}
	for n := range there {
		v := &there[n]
		if !slices.Contains(walk.Boxes, v.at.Kind) || !same(v.in, e.First) {
			continue
		}
		if reply := turned(v.out); reply.Src == e.Reply.Src && reply.Dst == e.Reply.Dst &&
			reply.SPort == e.Reply.SPort {
			return v, ""
		}
		near = fmt.Sprintf(
			"%s has the conversation begin as the walk has it and its answer come as %s; by the walk it comes as %s",
			v.at.Title, e.Reply.String(), turned(v.out).String(),
		)
	}
	return nil, near
}

// stands holds what a daemon says of tunnels or sessions against how those on the way stand.
func (h *holder) stands() {
	names := map[string]design.ID{}
	for _, s := range slices.Concat(h.proof.Forward, h.proof.Reply) {
		for name, id := range handover.DaemonNames(h.tables, s.At.ID) {
			names[name] = id
		}
	}
	for _, x := range h.seen.Stands {
		id, ok := names[x.Name]
		words := fmt.Sprintf("%s: %s", x.Name, x.Says)
		if !ok {
			continue
		}
		v := h.tables.Status.Of(id)
		title := h.tables.Design.Title(id)
		if v.Up == x.Up {
			h.out.Matched = append(h.out.Matched, Match{Seen: words, Place: title})
			continue
		}
		why := "the design has it up"
		if !v.Up {
			why = "the design has it down: " + v.Why
		}
		h.out.Strange = append(
			h.out.Strange, Match{Seen: words, Place: title, Why: title + " is " + x.Says + ", and " + why},
		)
	}
	switch {
	case len(h.out.Strange) > 0:
		h.part("%s", "compare both ends on the link's sheet with what the two boxes have", h.out.Strange[0].Why)
	case len(h.out.Matched) == 0:
		h.aside("none of these is on the way of this flow", "look at the boxes that the walk comes by")
	default:
		h.out.Agrees, h.out.Says = true, "what is on the way stands as the walk has it"
		h.out.Next = "go on to routes and filters: capture inside the tunnel"
	}
}

func observedWords(o Observed) string {
	if o.ESP {
		return fmt.Sprintf("ESP %s > %s", o.Header.Src, o.Header.Dst)
	}
	return strings.TrimSpace(o.What + " " + o.Header.String())
}
