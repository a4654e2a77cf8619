// Package status decides what is up and what is not, and of what is not the
// first cause. It is asked by everything that comes after the design: tables,
// walks, findings, sheets, pictures and files.
//
// A [Status] is of one design, as planned or as built, with what a [Condition] takes away. Nothing carries a packet
// because it was drawn: a tunnel is up if its two ends agree, a session if what
// carries it is up and its two ends agree, a link if a tunnel is up, a peering if
// both halves are made and nothing refuses it, an attachment if it was accepted
// and its hub is there, a circuit if it is activated and its ends match.
package status

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/settings"
	"dravin/core/words"
)

// Condition is what has failed of a design, and what is known beside it. The zero Condition is that of the whole.
type Condition struct {
	Without []Thing
	// OtherKeys are tunnels whose two ends are known to have different
	// pre-shared keys, which a design does not hold.
	OtherKeys []design.ID
}

// Thing is something that is taken away: an object with all that is inside it, a
// public address, or a zone of a cloud. One of the three is set.
type Thing struct {
	Object  design.ID
	Address netip.Addr
	Zone    string
}

// Cause names why something is down. Walks stop with the same codes.
type Cause string

// The causes.
const (
	LinkDown          Cause = "link-down"           // no tunnel is up, or the circuit or attachment is not there
	SessionDown       Cause = "session-down"        // the BGP session that should bring the route is not established
	HalfMade          Cause = "half-made"           // one end or half is made and the other is not
	RefusedForOverlap Cause = "refused-for-overlap" // the cloud refuses it, for what it overlaps
	NotAccepted       Cause = "not-accepted"        // it was refused, or waits for somebody's answer
	NotThereYet       Cause = "not-there-yet"       // it is not built, or being built
	DoesNotForward    Cause = "does-not-forward"    // the box does not pass packets on
)

// Family are the causes with what they mean, in the order in which they are listed.
var Family = []words.Coded[Cause]{
	{
		Code: LinkDown, Title: "down",
		Doc: "the two ends of no tunnel agree, or the link, circuit or attachment is gone or taken away",
		Fix: "make the two ends agree, or bring it back",
	},
	{
		Code: SessionDown, Title: "session down",
		Doc: "what carries a session is up, and its two ends do not agree",
		Fix: "make the two ends agree",
	},
	{
		Code: HalfMade, Title: "half made",
		Doc: "one end or half is made and the other is not",
		Fix: "make the other half",
	},
	{
		Code: RefusedForOverlap, Title: "refused for overlap",
		Doc: "the cloud refuses it for what it overlaps; what was there first stands",
		Fix: "keep what overlaps out of export at both, or map it",
	},
	{
		Code: NotAccepted, Title: "not accepted",
		Doc: "it was refused, or waits for somebody's answer",
		Fix: "have it accepted",
	},
	{
		Code: NotThereYet, Title: "not there yet",
		Doc: "it is planned and not built, or being built",
		Fix: "build it",
	},
	{
		Code: DoesNotForward, Title: "does not forward",
		Doc: "the box is known not to pass packets on, or is gone",
		Fix: "put it right on the box",
	},
}

// Causes are all causes.
var Causes = words.CodesOf(Family)

// Verdict is how something stands. The zero Verdict is down without a cause; use
// [Status.Of].
type Verdict struct {
	Up      bool      `json:"up"`
	Cause   Cause     `json:"code,omitempty"`    // why it is down
	Subject design.ID `json:"subject,omitempty"` // what is at fault: the first cause
	Line    string    `json:"line,omitempty"`    // the line of the subject's sheet that must be fixed, by its key; empty if it is none
	Why     string    `json:"why,omitempty"`     // as a sentence
}

// Up is the verdict of what is up.
var Up = Verdict{Up: true}

// Down is a verdict with its first cause.
func Down(code Cause, subject design.ID, line, format string, args ...any) Verdict {
	return Verdict{Cause: code, Subject: subject, Line: line, Why: fmt.Sprintf(format, args...)}
}

// Status tells how everything in a design stands. It may be used by many at
// once.
type Status struct {
	*store
	design *design.Design
	over   func(view *design.Design, session design.ID) (Verdict, bool)
}

type store struct {
	condition Condition
	judges    map[design.Kind]Judge
	memo      design.Memo[design.ID, Held]
	gone      map[design.ID]bool
}

// Held is what is known of an object: how it stands and, of a tunnel or session, what its two
// ends come to.
type Held struct {
	Verdict
	Tunnel  negotiate.Outcome
	Session negotiate.SessionOutcome
}

// Judge tells how an object of one kind stands, by what it is itself and by what it depends
// on; that it is taken away is judged before.
type Judge func(s *Status, o *design.Object) Held

// Of begins the status of a design under a condition. judges are those of what joins things,
// by kind; package topology has them.
func Of(d *design.Design, c Condition, judges map[design.Kind]Judge) *Status {
	s := &Status{store: &store{condition: c, judges: judges, gone: map[design.ID]bool{}}, design: d}
	for _, t := range c.Without {
		if t.Object != "" {
			s.gone[t.Object] = true
		}
	}
	return s
}

// After is the status of the next design under the same condition. What the
// changes do not touch is not worked out again.
func (s *Status) After(next *design.Design, changes *design.Changes) *Status {
	out := Of(next, s.condition, s.judges)
	out.memo.After(&s.memo, changes)
	return out // [Status.Dropping] is said of it anew
}

// Under is the status of the same design under another condition, which differs from this one in what the changes
// touch.
func (s *Status) Under(c Condition, touched *design.Changes) *Status {
	out := Of(s.design, c, s.judges)
	out.memo.After(&s.memo, touched)
	return out
}

// Settle works ahead of [Status.After]: it lets go of the design before.
func (s *Status) Settle() { s.memo.Settle() }

// Watched is the same status, noting in what view notes whatever is looked at.
func (s *Status) Watched(view *design.Design) *Status { return &Status{s.store, view, s.over} }

// Dropping is the same status, in which sessions that come up may have dropped
// since: over tells of a session how it stands then. Nothing else may depend on
// it.
func (s *Status) Dropping(over func(view *design.Design, session design.ID) (Verdict, bool)) *Status {
	return &Status{s.store, s.design, over}
}

// Dropped is how a session stands whose taker takes no more.
func Dropped(d *design.Design, session *design.Object, end, taken int, most uint32, family prefix.Family) Verdict {
	taker := d.Title(session.ID)
	if at := settings.Speaker(d, session, end); at != nil {
		taker = d.Title(at.ID)
	}
	return Down(
		SessionDown, session.ID, "bgp-max",
		"the session of %s has dropped: %s takes %d routes of %s at most, and there are %d", CarrierName(d, session),
		taker, most, family, taken,
	)
}

// Condition is the condition that it is for.
func (s *Status) Condition() Condition { return s.condition }

// Design is the design that it is of.
func (s *Status) Design() *design.Design { return s.design }

// Of is how an object stands.
func (s *Status) Of(id design.ID) Verdict { return s.held(id).Verdict }

// Tunnel is what the two ends of a tunnel come to, whatever else may keep it
// down.
func (s *Status) Tunnel(tunnel design.ID) negotiate.Outcome { return s.held(tunnel).Tunnel }

// Session is what the two ends of a session come to, whatever else may keep it
// down.
func (s *Status) Session(id design.ID) negotiate.SessionOutcome { return s.held(id).Session }

func (s *Status) held(id design.ID) Held {
	h := s.memo.Get(s.design, id, func(view *design.Design) Held { return s.Watched(view).work(id) })
	if s.over != nil && h.Up && h.Session.Up {
		if v, dropped := s.over(s.design, id); dropped {
			h.Verdict = v
		}
	}
	return h
}

func (s *Status) work(id design.ID) (h Held) {
	o := s.design.Get(id)
	if o == nil {
		h.Verdict = Down(NotThereYet, id, "", "it is not in the design")
		return h
	}
	taken := s.Taken(o)
	switch b := o.Body.(type) {
	case *design.Hub, *design.EdgeRouter:
		h.Verdict = s.Made(o)
	case *design.Gateway:
		h.Verdict = s.gateway(o)
	case *design.Box:
		h.Verdict = s.faultless(o)
	case *design.Listener:
		h.Verdict = s.listener(o, b)
	default:
		if h.Verdict = Up; s.judges[o.Kind] != nil {
			h = s.judges[o.Kind](s, o)
		}
	}
	if !taken.Up {
		h.Verdict = taken
	}
	return h
}

// Taken tells whether an object is taken away, by itself, with what it stands in
// or with its zone.
func (s *Status) Taken(o *design.Object) Verdict {
	for at := o; at != nil && len(s.gone) > 0; at = s.design.Get(at.Parent) {
		if s.gone[at.ID] {
			return Down(s.causeOf(o), at.ID, "", "%s is taken away", s.design.Title(at.ID))
		}
	}
	if b, ok := o.Body.(*design.Subnet); ok && s.ZoneGone(b.Zone) {
		return Down(DoesNotForward, o.ID, "", "the zone %s is taken away", b.Zone)
	}
	return Up
}

// causeOf is what it is called when something of a kind is down.
func (s *Status) causeOf(o *design.Object) Cause {
	switch {
	case o.Kind == design.KindSession:
		return SessionDown
	case s.judges[o.Kind] != nil: // it joins something
		return LinkDown
	}
	return DoesNotForward
}

// ZoneGone reports whether a zone is taken away.
func (s *Status) ZoneGone(zone string) bool {
	return zone != "" &&
		slices.ContainsFunc(
			s.condition.Without, func(t Thing) bool { return t.Zone != "" && strings.EqualFold(t.Zone, zone) },
		)
}

func (s *Status) AddressGone(a netip.Addr) bool {
	return slices.ContainsFunc(s.condition.Without, func(t Thing) bool { return t.Address.IsValid() && t.Address == a })
}

// Exists reports whether something takes up its place: it was neither refused
// nor is it gone.
func Exists(o *design.Object) bool {
	st := design.StateOf(o)
	return st != design.Refused && st != design.Gone
}

// Intended reports whether something counts as far as its own making goes: that its ends agree is another matter.
func (s *Status) Intended(o *design.Object) bool { return s.Made(o).Up }

// Made is how far the making of something has come.
func (s *Status) Made(o *design.Object) Verdict {
	what, st := s.design.Title(o.ID), design.StateOf(o)
	answer := s.answered(o)
	there := s.ready(o)
	switch {
	case answer == "refused" && !there && st != design.Gone:
		return Down(NotAccepted, o.ID, "state", "%s was refused%s", what, s.Refusal(o))
	case answer == "accepted" && (st == design.Waiting || st == design.Refused) && o.Kind != design.KindPeering:
		st = design.Making // the answer is what was decided, whatever state was left behind
	}
	switch st {
	case design.Refused:
		return Down(NotAccepted, o.ID, "state", "%s was refused%s", what, s.Refusal(o))
	case design.Gone:
		return Down(s.causeOf(o), o.ID, "state", "%s is gone", what)
	case design.Waiting:
		if o.Kind == design.KindPeering {
			return Up // its halves tell
		}
		return Down(NotAccepted, o.ID, "state", "%s waits for the other side's answer", what)
	}
	for _, body := range design.Each[design.Request](s.design.Referring(o.ID, design.KindRequest)) {
		if there {
			break // it was made, whatever was never answered
		}
		if b := body; b.For == o.ID && b.Answer == "" {
			return Down(NotAccepted, o.ID, "state", "%s waits for an answer of %s", what, s.design.Title(b.To))
		}
	}
	if st != design.Ready && o.Kind != design.KindPeering {
		return Down(NotThereYet, o.ID, "state", "%s is %s", what, design.StateWord(st))
	}
	return Up
}

// ready reports whether something is there, whichever side is asked.
func (s *Status) ready(o *design.Object) bool {
	there := s.design.Built().Get(o.ID)
	return there != nil && design.StateOf(there) == design.Ready
}

// answered is what was decided of a request for something: the last answer that there
// is, empty if there is none.
func (s *Status) answered(o *design.Object) (answer string) {
	for _, body := range design.Each[design.Request](s.design.Referring(o.ID, design.KindRequest)) {
		if b := body; b.For == o.ID && b.Answer != "" {
			answer = b.Answer
		}
	}
	return answer
}

// Refusal is by whom something was refused and why, as the end of a sentence; empty where no request for it was.
func (s *Status) Refusal(o *design.Object) (words string) {
	for _, b := range design.Each[design.Request](s.design.Referring(o.ID, design.KindRequest)) {
		if b.For != o.ID || b.Answer != "refused" {
			continue
		}
		words = ""
		if b.To != "" {
			words = " by " + s.design.Title(b.To)
		}
		if b.Reason != "" {
			words += ": " + b.Reason
		}
	}
	return words
}

// Refused reports whether the last answer to a request for something was no.
func (s *Status) Refused(o *design.Object) bool { return s.answered(o) == "refused" }

// Fix says in words what would bring something up.
func (v Verdict) Fix(d *design.Design) string {
	what := d.Title(v.Subject)
	switch {
	case v.Up:
		return ""
	case v.Line == "setup":
		return "set up the other end of " + what
	case v.Cause == HalfMade:
		return "make the missing half of " + what
	case v.Cause == NotAccepted:
		if d.Get(v.Subject) != nil && (&Status{design: d}).Refused(d.Get(v.Subject)) {
			return "ask again for " + what + ", with what was in the way put right; until it is accepted nothing goes by it"
		}
		return "have " + what + " accepted"
	case v.Cause == NotThereYet:
		return "build " + what + "; when all is built as planned, it is there"
	case v.Cause == RefusedForOverlap:
		return "keep what overlaps out of what is exported at both, or map it"
	case v.Line == "faults":
		return "put it right on the box, then take the note off the gateway"
	case v.Line == "tunnels":
		return "add a tunnel to the link"
	case v.Line == "state":
		return "build " + what + " again"
	case v.Line == "starts":
		return "let one end of " + what + " start: by another kind of gateway, or another way of joining the two"
	case v.Line == "":
		return "bring it back"
	}
	return fmt.Sprintf("make the two ends of %s agree: %s", what, LineWord(v.Line))
}

var lineWords = map[string]string{
	"address": "addresses", "identity": "identities", "key": "pre-shared key", "version": "IKE version",
	"ike": "IKE proposals", "esp": "ESP proposals",
	"selectors": "selectors", "inside": "inside addresses", "asn": "autonomous systems",
	"bgp-address": "session addresses", "bgp-password": "session password",
	"bgp-families": "address families", "bgp-max": "most routes taken", "speed": "speed", "vlan": "VLAN tag",
	"zone": "zone", "code": "order code", "half": "halves",
	"sessions": "sessions", "keep-out": "what is kept out of export",
}

// LineWord is what a line of a sheet is about, by its key.
func LineWord(key string) string {
	if w := lineWords[key]; w != "" {
		return w
	}
	return lineWords[strings.TrimRight(key, "-12")]
}
