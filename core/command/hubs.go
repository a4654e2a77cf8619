package command

import (
	"fmt"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/lifecycle"
)

// bind is: bind ATTACHMENT to HUB-TABLE
func (r *reader) bind() {
	a, ok := r.thing([]design.Kind{design.KindAttachment}, r.it)
	if !ok {
		return
	}
	_ = r.takeWord("to")
	t, ok := r.thing([]design.Kind{design.KindHubTable}, a.ID)
	if !ok {
		return
	}
	now := design.Edited(a, func(b *design.Attachment) { b.Bound = t.ID })
	r.touch(a, now, fmt.Sprintf("Bind %s to %s", r.design.Title(a.ID), r.design.Title(t.ID)))
}

// feed is: feed HUB-TABLE with ATTACHMENT, ATTACHMENT
func (r *reader) feed() {
	t, ok := r.thing([]design.Kind{design.KindHubTable}, r.it)
	if !ok {
		return
	}
	_ = r.takeWord("with")
	for !r.failed() {
		a, ok := r.thing([]design.Kind{design.KindAttachment}, t.ID)
		if !ok {
			return
		}
		now := design.Edited(a, func(b *design.Attachment) {
			if !slices.Contains(b.Feeds, t.ID) {
				b.Feeds = append(b.Feeds, t.ID)
			}
		})
		r.touch(a, now, fmt.Sprintf("Feed %s with %s", r.design.Title(t.ID), r.design.Title(a.ID)))
		if !r.takeWord(",") && !r.takeWord("and") {
			return
		}
	}
}

// touch changes an object by a line that names what it does.
func (r *reader) touch(was, now *design.Object, text string) {
	r.current.touched = append(r.current.touched, touched{id: was.ID, to: len([]rune(r.current.Text))})
	if design.Same(was, now) {
		r.current.Does = append(
			r.current.Does, Deed{Text: r.design.Title(was.ID) + " is so already", Object: was.ID, Kind: was.Kind},
		)
		return
	}
	r.do(text, now, false, design.PutEdit(now))
}

// serve is: serve ZONE, ZONE by ATTACHMENT
func (r *reader) serve() {
	var zones []token
	for r.next < len(r.toks) && !r.toks[r.next].is("by") {
		if t, _ := r.take(); !t.mark() && !t.is("and") {
			zones = append(zones, t)
		}
	}
	if !r.takeWord("by") {
		r.wrongHere("the attachment is missing", "write: by, and its name")
		return
	}
	a, ok := r.thing([]design.Kind{design.KindAttachment}, r.it)
	if !ok {
		return
	}
	now := a
	for _, z := range zones {
		subnet := r.subnetIn(a.Body.(*design.Attachment).What, z)
		if subnet == nil {
			return
		}
		now = design.Edited(now, func(b *design.Attachment) {
			b.Subnets = slices.DeleteFunc(b.Subnets, func(id design.ID) bool {
				s, ok := r.design.Get(id).Body.(*design.Subnet)
				return ok && strings.EqualFold(s.Zone, z.text)
			})
			b.Subnets = append(b.Subnets, subnet.ID)
		})
	}
	r.touch(a, now, fmt.Sprintf("Let %s serve %s", r.design.Title(a.ID), texts(zones)))
}

func texts(list []token) string {
	var out []string
	for _, t := range list {
		out = append(out, t.text)
	}
	return strings.Join(out, ", ")
}

// subnetIn is a subnet of a network in a zone, not public if there is another; nil, and told, if there is
// none.
func (r *reader) subnetIn(network design.ID, zone token) *design.Object {
	var found *design.Object
	var zones []string
	for s, b := range design.Each[design.Subnet](r.design.Inside(network, design.KindSubnet)) {
		if !slices.Contains(zones, b.Zone) {
			zones = append(zones, b.Zone)
		}
		if strings.EqualFold(b.Zone, zone.text) && (found == nil || !b.Public) {
			found = s
		}
	}
	if found == nil {
		r.wrong(
			zone.from, zone.to, fmt.Sprintf("no subnet of %s is in %s", r.design.Title(network), zone.text),
			"there are subnets in "+strings.Join(zones, ", "),
		)
	}
	return found
}

var askedFor = []design.Kind{
	design.KindRequest, design.KindLink, design.KindCircuit, design.KindPeering, design.KindAttachment,
}

// accept is: accept REQUEST because REASON
func (r *reader) accept() { r.answer(true, "Accept") }

// refuse is: refuse REQUEST because REASON
func (r *reader) refuse() { r.answer(false, "Refuse") }

func (r *reader) answer(accept bool, word string) {
	start := r.next
	o, ok := r.thing(askedFor, r.it)
	if !ok {
		return
	}
	from, to := r.span(start, r.next)
	request := o
	if o.Kind != design.KindRequest {
		if request = lifecycle.OpenRequest(r.design, o.ID); request == nil {
			r.wrong(from, to, "nobody asks for "+r.design.Title(o.ID), "name a request, or what one is for")
			return
		}
	}
	reason := ""
	if r.takeWord("because") && r.next < len(r.toks) {
		reason = strings.TrimSpace(string([]rune(r.current.Text)[r.toks[r.next].from:]))
		if r.next+1 == len(r.toks) && r.toks[r.next].quoted {
			reason = r.toks[r.next].text
		}
		r.next = len(r.toks)
	}
	if reason == "" {
		r.wrongHere("the reason is missing", "write: because, and the reason")
		return
	}
	edits, err := lifecycle.Answer(r.design, request, accept, reason)
	if err != nil {
		r.wrong(from, to, err.Error(), "")
		return
	}
	r.do(word+" "+request.Name+", because "+reason, request, false, edits...)
}

// publish is: publish HOST on tcp/443 at BOX as ADDRESS for RANGES
func (r *reader) publish() {
	host, ok := r.thing([]design.Kind{design.KindEndpoint, design.KindListener}, r.it)
	if !ok {
		return
	}
	services, ok := r.services()
	if !ok {
		return
	}
	if len(services) == 0 {
		if services = answersOf(host); len(services) == 0 {
			r.wrongHere("the service is missing", "write: on, and protocol and port, such as on tcp/443")
			return
		}
		r.fill("service", joinServices(services), "what "+r.design.Title(host.ID)+" answers")
	}
	if !r.takeWord("at") {
		r.wrongHere("who listens is missing", "write: at, and the name of a gateway, a box or a cloud network")
		return
	}
	at, ok := r.thing([]design.Kind{design.KindGateway, design.KindBox, design.KindNetwork}, host.ID)
	if !ok {
		return
	}
	for _, s := range services {
		b := &being{
			kind: design.KindListener, body: map[string]any{}, said: map[string]bool{}, spans: map[string][2]int{},
			name: host.Name + " " + s.Proto,
		}
		b.body["at"], b.body["target"], b.body["service"] = string(at.ID), string(host.ID), s.String()
		if at.Kind != design.KindNetwork {
			b.body["does"] = design.Rewriting
		}
		if r.takeWord("as") {
			f, _ := fieldOf(b.kind, "address")
			r.field(b, f)
		}
		if r.takeWord("for") {
			f, _ := fieldOf(b.kind, "callers")
			r.field(b, f)
		}
		if r.failed() {
			return
		}
		made := r.beside(b.kind, "", b.name, nil)
		b.id, b.name = made.ID, made.Name
		if r.clauses(b, nil); !r.failed() {
			r.settle(b)
		}
	}
}
