package walk

import (
	"fmt"
	"net/netip"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// fabricated is a connection that a cloud itself has ended and opened anew.
type fabricated struct {
	listener design.ID
	place    design.ID // the subnet of the listener
	first    Header
}

// bearer takes a packet to who answers for its destination among the hosts of a
// place: a box or gateway, or a published service of the cloud itself.
func (w *walker) bearer(id, place design.ID, at Place) outcome {
	w.hasIt(id, place)
	if o := w.design.Get(id); o.Kind == design.KindListener {
		return w.cloudListens(o, place, at)
	}
	w.stage(
		w.placeOf(id), Sends, nil, "%s answers for %s in %s and takes it", w.design.Title(id), w.header.Dst,
		w.design.Title(place),
	)
	return goesTo(id, place)
}

// itself ends a packet at a gateway or box: it is the answer on a connection that
// the box has opened itself, or for what the box listens on.
func (w *walker) itself(p *route.Point, at Place, pass passage) outcome {
	if w.asks != nil {
		w.hasIt(p.ID, "")
		return outcome{}
	}
	if pass.known == nil && pass.came != w.header {
		w.known[p.ID] = append(w.known[p.ID], conversation{first: pass.came, reply: w.header.reversed()})
	}
	for _, c := range w.known[p.ID] {
		if c.proxied && c.reply == w.header {
			w.header = c.first.reversed()
			w.standsForItself()
			w.stage(
				at, Proxies, nil, "%s hands the answer back on the caller's connection, from %s", at.Title,
				endWords(w.header.Src, w.header.SPort),
			)
			return w.sendsItself(p, at, false)
		}
	}
	if out, arrived := w.forItself(p, at); arrived {
		return out
	}
	for o, l := range w.design.ListenersAt(p.ID) {
		w.asked(l.Service)
		if l.Address != w.header.Dst || l.Service != (design.Service{Proto: w.header.Proto, Port: w.header.DPort}) {
			continue
		}
		if !l.Admits(w.header.Src) {
			return w.refusesCaller(o, at)
		}
		if l.Proxies() {
			return w.proxies(p, at, o, l)
		}
	}
	return w.halt(
		NotAnswered,
		at,
		fmt.Sprintf(
			"%s is an address of %s itself, where nothing listens for %s",
			w.header.Dst,
			at.Title,
			design.Service{Proto: w.header.Proto, Port: w.header.DPort},
		),
		"dial what it has published, or publish a service there",
	)
}

func (w *walker) refusesCaller(o *design.Object, at Place) outcome {
	why := fmt.Sprintf("%s does not let %s call", w.design.Title(o.ID), w.header.Src)
	return w.halt(CallerRefused, at, why, "add the caller to who may call, if that is meant").about(o.ID, "")
}

// proxies ends the caller's connection and opens another from the box's own
// address.
func (w *walker) proxies(p *route.Point, at Place, o *design.Object, l *design.Listener) outcome {
	if v := w.statusOf(o.ID); !v.Up {
		return w.down(v, at)
	}
	first := w.header
	to, port := w.design.DialOf(l)
	src := to // a listener of its own it dials within itself
	if !prefix.Has(p.Self, to) {
		src = w.tables.Dials(p.ID, to).Addr
	}
	if !src.IsValid() {
		return w.halt(
			NoRoute, at, fmt.Sprintf("%s has no address from which it could dial %s", at.Title, to),
			"give it one of that family",
		)
	}
	w.header = Header{Src: src, Dst: to, Proto: l.Service.Proto, SPort: clientPort, DPort: port}
	w.standsForItself()
	w.known[p.ID] = append(w.known[p.ID], conversation{first: first, reply: w.header.reversed(), proxied: true})
	w.stage(
		at, Proxies, nil, "%s accepts the connection on %s and opens another, from %s to %s", at.Title,
		endWords(first.Dst, first.DPort), src, endWords(to, port),
	)
	w.by(o.ID, Listening)
	return w.sendsItself(p, at, true)
}

// sendsItself routes what a box sends: a connection that it opens is translated as
// what it forwards is, an answer as its connection was.
func (w *walker) sendsItself(p *route.Point, at Place, opens bool) outcome {
	if w.again(p.ID, "itself") {
		return w.halt(
			Loop, at, fmt.Sprintf("%s comes back to a connection that it has opened itself", at.Title),
			"let the last listener lead to a host",
		)
	}
	if prefix.Has(p.Self, w.header.Dst) {
		return w.itself(p, at, passage{came: w.header})
	}
	p, w.segment = w.tables.Point(p.ID), "" // a program is in no segment
	at.Segment = ""
	pass, known := w.recall(p, at, "")
	pass.stray = !known && !opens
	return w.through(sent, &step{point: p, at: at, pass: pass})
}

// cloudListens is a published service that the cloud itself has in a subnet: it
// reaches its target by no route of anybody's.
func (w *walker) cloudListens(o *design.Object, place design.ID, at Place) outcome {
	w.looks()
	l := o.Body.(*design.Listener)
	here := w.placeOf(o.ID)
	if v := w.statusOf(o.ID); !v.Up {
		return w.down(v, here)
	}
	w.asked(l.Service)
	if l.Service != (design.Service{Proto: w.header.Proto, Port: w.header.DPort}) {
		return w.halt(NotAnswered, here, fmt.Sprintf("%s listens for %s only", here.Title, l.Service), "dial that")
	}
	if !l.Admits(w.header.Src) {
		return w.refusesCaller(o, here)
	}
	first := w.header
	to, port := w.design.DialOf(l)
	target := w.placeOfTarget(l)
	w.header = Header{Src: w.fabricAddress(target, to), Dst: to, Proto: l.Service.Proto, SPort: clientPort, DPort: port}
	w.standsForItself()
	w.fabric[w.header.reversed()] = fabricated{o.ID, place, first}
	w.stage(
		here, Proxies, nil, "the cloud accepts the connection on %s and opens another to %s in %s",
		endWords(first.Dst, first.DPort), endWords(to, port), w.design.Title(target),
	)
	w.by(o.ID, Listening)
	return w.deliver(target, at)
}

// cloudAnswers carries the answer back that came for the cloud's own address.
func (w *walker) cloudAnswers(c fabricated) outcome {
	w.header = c.first.reversed()
	w.standsForItself()
	w.stage(
		w.placeOf(c.listener), Proxies, nil, "the cloud hands the answer back on the caller's connection, "+
			"from %s",
		endWords(w.header.Src, w.header.SPort),
	)
	return w.from(Host{Place: c.place, Address: w.header.Src})
}

// placeOfTarget is the LAN or subnet of what a listener leads to.
func (w *walker) placeOfTarget(l *design.Listener) design.ID {
	o := w.design.Get(l.Target)
	if o.Kind == design.KindEndpoint {
		return o.Parent
	}
	at := w.design.Get(o.Body.(*design.Listener).At)
	party := at.ID
	if at.Kind != design.KindNetwork {
		party = at.Parent
	}
	to, _ := w.design.DialOf(l)
	for _, place := range w.design.Inside(party, design.KindLAN, design.KindSubnet) {
		if prefix.Has(w.design.Ranges(place.ID), to) {
			return place.ID
		}
	}
	return o.ID
}

// fabricAddress is the first address of a place that no host has: the cloud's own
// there.
func (w *walker) fabricAddress(place design.ID, to netip.Addr) netip.Addr {
	for _, r := range w.design.Ranges(place) {
		if r.Addr().Is4() != to.Is4() {
			continue
		}
		for a := prefix.FirstHost(r); r.Contains(a); a = a.Next() {
			if endpointAt(w.design, place, a) == "" {
				return a
			}
		}
	}
	return to
}

// pooled hides what comes from ranges that an attachment keeps out behind its
// source pool.
func (w *walker) pooled(a *design.Object, at Place) {
	if a.Body.(*design.Attachment).Pool != "" {
		w.looks()
	}
	pool, ok := w.tables.SourcePool(a, w.header.Src, w.header.Dst)
	if !ok {
		return
	}
	came := w.header
	here := w.placeOf(a.ID)
	w.rewriteSource(here, pool, w.header.SPort, "hides the source behind the pool of the attachment", a.ID)
	w.known[a.ID] = append(w.known[a.ID], conversation{first: came, reply: w.header.reversed()})
}

// unpool gives a reply to the pool of an attachment back to who asked.
func (w *walker) unpool(hub, network design.ID, at Place) {
	a := w.design.AttachmentOf(hub, network)
	if a == nil {
		return
	}
	if a.Body.(*design.Attachment).Pool != "" {
		w.looks()
	}
	for _, c := range w.known[a.ID] {
		if c.reply == w.header {
			w.rewrite(
				w.placeOf(a.ID), MapsDest, c.first.Src, c.first.SPort, "puts back the destination of the reply",
				a.ID,
			)
			return
		}
	}
}
