package draft

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/allocation"
	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/provider"
	"dravin/core/status"
)

// Options asks how two parties can be joined.
type Options struct {
	A, B design.ID // sites, networks, hubs or edge routers
	GB   uint32    // what goes over it in a month, half each way
	// Translated lets ranges collide: they are left out, and made known as other ranges later. A
	// shape may then name no range at all.
	Translated bool
	// Unnamed are ranges of parties that are named nowhere: they are to be known as others.
	Unnamed map[design.ID][]netip.Prefix
	// By is what the keys of the shapes that are wanted begin with, such as vpn-bgp; empty: all.
	By string
}

// wants reports whether shapes whose keys begin so are asked for, or a part of them is.
func (q Options) wants(key string) bool {
	return strings.HasPrefix(key, q.By) || strings.HasPrefix(q.By, key)
}

// Shape is one way to join two parties, drafted in full.
type Shape struct {
	Key         string         `json:"key"` // stable for a design and a question
	Title       string         `json:"title"`
	Out         []string       `json:"out"` // why it can not be; empty if it can
	Builds      []Built        `json:"builds"`
	Parties     []PartySteps   `json:"parties"`
	Monthly     provider.Money `json:"monthly"`
	Costs       []cost.Item    `json:"costs"`
	Unpriced    string         `json:"unpriced,omitempty"` // what else must be paid for, at a price that is not known
	Mbps        uint32         `json:"mbps"`               // 0: as fast as the clouds' own network
	Survives    string         `json:"survives"`
	Fragile     bool           `json:"fragile"` // a single failure ends it
	Next        uint32         `json:"next"`    // steps for the next network
	NextWhy     string         `json:"next_why"`
	Suggestions []Suggestion   `json:"suggestions"`
	Edits       []design.Edit  `json:"edits"`
	Subject     design.ID      `json:"subject,omitempty"` // the link, peering, attachment or circuit that is drafted
}

// Built is something that a shape needs.
type Built struct {
	What   string    `json:"what"`
	Reused bool      `json:"reused"`
	ID     design.ID `json:"id"`
}

// PartySteps are what one party's administrator must do.
type PartySteps struct {
	Party string   `json:"party"`
	Steps []string `json:"steps"`
}

// Suggestion is a value that was filled in, with its reason.
type Suggestion struct {
	What  string `json:"what"`
	Value string `json:"value"`
	Why   string `json:"why"`
}

// Shapes lists every way to join two parties: those that can be first, the
// cheapest first and those of unknown price after them, then those that can not with the reasons.
func Shapes(books *allocation.Books, q Options) ([]Shape, error) {
	d := books.Design()
	defer books.Release()
	a, err := sideOf(d, q.A)
	if err != nil {
		return nil, err
	}
	b, err := sideOf(d, q.B)
	if err != nil {
		return nil, err
	}
	if q.A == q.B {
		return nil, fmt.Errorf("%s can not be joined to itself; choose another party", a.party.Name)
	}
	a.offer(b, held(d, b, a.party.ID))
	b.offer(a, held(d, a, b.party.ID))
	for _, s := range []*side{&a, &b} {
		if u := q.Unnamed[s.party.ID]; len(u) > 0 {
			s.exports, _ = apart(s.exports, u)
		}
	}
	var out []Shape
	for _, way := range ways {
		if q.wants(way.key) {
			out = append(out, way.shapes(books, a, b, q)...)
		}
	}
	out = slices.DeleteFunc(out, func(s Shape) bool {
		return !strings.HasPrefix(s.Key, q.By) && (len(s.Out) == 0 || !q.wants(s.Key))
	})
	left := leftOut(a, b)
	for n := range out {
		s := &out[n]
		if why := s.Out; len(why) > 0 { // nothing half-drafted is offered
			*s = newShape(s.Key, s.Title)
			s.Out = why
		} else if left != nil {
			s.Suggestions = append(s.Suggestions, *left)
		}
	}
	slices.SortStableFunc(out, func(x, y Shape) int {
		return cmp.Or(
			min(len(x.Out), 1)-min(len(y.Out), 1), min(len(x.Unpriced), 1)-min(len(y.Unpriced), 1),
			cmp.Compare(x.Monthly, y.Monthly),
		)
	})
	return out, nil
}

// ways are the families of shapes, by what their keys begin with.
var ways = []struct {
	key    string
	shapes func(books *allocation.Books, a, b side, q Options) []Shape
}{
	{"vpn", vpnShapes}, {"peering", alone(peeringShape)}, {"hub", hubShapes}, {"circuit", alone(circuitShape)},
}

// alone is a family of one shape.
func alone(
	shape func(*allocation.Books, side, side, Options) Shape,
) func(*allocation.Books, side, side, Options) []Shape {
	return func(books *allocation.Books, a, b side, q Options) []Shape { return []Shape{shape(books, a, b, q)} }
}

// Offered are the ranges of a party that another can be told of: what it does not hold itself and does
// not send elsewhere.
func Offered(d *design.Design, of, to design.ID) []netip.Prefix {
	own, err := sideOf(d, of)
	far, also := sideOf(d, to)
	if err != nil || also != nil {
		return nil
	}
	own.offer(far, held(d, far, of))
	return own.exports
}

// side is one of the two parties.
type side struct {
	party   *design.Object
	profile *provider.Profile // nil for what is in no cloud, or in one without a profile
	cloud   string
	region  string
	owner   design.ID
	all     []netip.Prefix // what it holds
	exports []netip.Prefix // what the other can route to it: what it holds, less what collides
	left    string         // why that is less, empty if it is not
	tables  []*design.Object
}

func sideOf(d *design.Design, id design.ID) (side, error) {
	o := d.Get(id)
	if o == nil {
		return side{}, fmt.Errorf("one of the two parties does not exist; choose a site, network, hub or edge router")
	}
	s := side{
		party: o, profile: d.ProfileOf(id), all: d.Exports(id), owner: design.OwnerOf(o), cloud: design.CloudOf(o),
	}
	switch b := o.Body.(type) {
	case *design.Site, *design.EdgeRouter:
	case *design.Network:
		s.region = b.Region
		s.tables = d.Inside(id, design.KindTable)
	case *design.Hub:
		s.region = b.Region
	default:
		return s, fmt.Errorf(
			"%s is a %s, at which no link can end; choose a site, network, hub or edge router", d.Title(id), o.Kind,
		)
	}
	return s, nil
}

func (s side) is(k design.Kind) bool { return s.party.Kind == k }

// without says what the profile lacks, in words.
func (s side) without(what string) string {
	if s.profile == nil {
		return fmt.Sprintf("no profile is known for %s, the cloud of %s; add one", s.cloud, s.party.Name)
	}
	return fmt.Sprintf("%s has no %s", s.cloud, what)
}

// apart splits ranges into those that collide with nothing in other and those
// that do.
func apart(ps, other []netip.Prefix) (clear, clash []netip.Prefix) {
	for _, p := range ps {
		if slices.ContainsFunc(other, p.Overlaps) {
			clash = append(clash, p)
		} else {
			clear = append(clear, p)
		}
	}
	return clear, clash
}

// offer sets what the far party can route to s: nothing that it holds itself or
// sends elsewhere already.
func (s *side) offer(far side, elsewhere []netip.Prefix) {
	var clash []netip.Prefix
	if s.exports, clash = apart(spoken(s.all, far.all), far.all); len(clash) > 0 {
		s.left = clashes(*s, far)
	}
	if s.exports, clash = apart(s.exports, elsewhere); len(clash) > 0 {
		if s.left != "" {
			s.left += "; "
		}
		s.left += fmt.Sprintf(
			"%s sends %s elsewhere already, so it can not be %s of %s too", far.party.Name,
			negotiate.Joined(prefix.Minimal(meeting(elsewhere, clash))), negotiate.Joined(clash), s.party.Name,
		)
	}
}

// LeftOut is the suggestion that says what goes into no routes and selectors.
const LeftOut = "Left out"

// leftOut says which ranges go into no routes and selectors, nil if all do.
func leftOut(a, b side) *Suggestion {
	var why []string
	for _, s := range []side{a, b} {
		if s.left != "" && !slices.Contains(why, s.left) {
			why = append(why, s.left)
		}
	}
	if len(why) == 0 {
		return nil
	}
	left := prefix.Minimal(
		slices.Concat(prefix.Free(spoken(a.all, b.all), a.exports), prefix.Free(spoken(b.all, a.all), b.exports)),
	)
	return &Suggestion{
		What:  LeftOut,
		Value: negotiate.Joined(left),
		Why:   strings.Join(why, "; ") + "; joined and translated at once, it is known by another range",
	}
}

// spoken are the ranges of the families that the far end has too; all, if it has
// nothing yet.
func spoken(ps, far []netip.Prefix) []netip.Prefix {
	return slices.DeleteFunc(slices.Clone(ps), func(p netip.Prefix) bool {
		return len(far) > 0 &&
			!slices.ContainsFunc(far, func(o netip.Prefix) bool { return o.Addr().Is4() == p.Addr().Is4() })
	})
}

// meeting are the ranges that overlap one of others.
func meeting(ps, others []netip.Prefix) []netip.Prefix {
	_, clash := apart(ps, others)
	return clash
}

// held are the ranges that a party sends to anyone but the other, over whatever
// joins it to them.
func held(d *design.Design, s side, other design.ID) []netip.Prefix {
	var out []netip.Prefix
	for j := range d.Joints() {
		a, b := d.PartiesOf(j)
		if !status.Exists(j.Object) || a != s.party.ID && b != s.party.ID || a == other || b == other {
			continue
		}
		switch x := j.Body.(type) {
		case *design.Link:
			for n, e := range x.Ends {
				if p := d.Party(e.Gateway); p == s.party && d.Party(x.Ends[1-n].Gateway) != s.party {
					out = append(out, slices.Concat(e.Routes, e.Remote)...)
				}
			}
		case *design.Circuit:
			for _, e := range x.Ends {
				if d.Party(e.At) == s.party {
					out = append(out, e.Routes...)
				}
			}
		case *design.Attachment:
			if x.What == s.party.ID {
				out = append(out, beyondHub(d, j.Object, other)...)
			}
		}
	}
	// A default route leaves everything else free.
	return slices.DeleteFunc(out, func(p netip.Prefix) bool { return p.Bits() == 0 })
}

// beyondHub are the ranges that an attachment's hub knows by its others, but the
// other party's.
func beyondHub(d *design.Design, attachment *design.Object, other design.ID) []netip.Prefix {
	var out []netip.Prefix
	for b, body := range design.Each[design.Attachment](d.Inside(attachment.Parent, design.KindAttachment)) {
		if b.ID != attachment.ID && body.What != other && status.Exists(b) {
			out = append(out, d.AttachmentExports(b)...)
		}
	}
	for _, body := range design.Each[design.HubTable](d.Inside(attachment.Parent, design.KindHubTable)) {
		for _, e := range body.Routes {
			if via := d.Get(e.Via); via != nil && via.ID != attachment.ID &&
				via.Body.(*design.Attachment).What != other {
				out = append(out, e.Prefix)
			}
		}
	}
	return out
}

// clashes says which ranges collide, empty if none.
func clashes(a, b side) string {
	_, ca := apart(a.all, b.all)
	if len(ca) == 0 {
		return ""
	}
	_, cb := apart(b.all, a.all)
	return fmt.Sprintf(
		"%s of %s overlaps %s of %s", negotiate.Joined(ca), a.party.Name, negotiate.Joined(cb), b.party.Name,
	)
}

func joinWords(words []string) string { return strings.Join(words, ", ") }
