package route

import (
	"reflect"
	"slices"
	"sync"

	"dravin/core/bgp"
	"dravin/core/design"
	"dravin/core/status"
)

// network is what all speakers of a design learn from each other. It is worked out
// once, when it is first asked for; what follows a small change begins from what
// was there before.
type network struct {
	design *design.Design
	base   *status.Status // without the sessions that dropped for a limit

	once    sync.Once
	before  *network
	changes *design.Changes // since before
	by      map[design.ID]part
	readers readers
	result  *bgp.Result
	changed []string
}

// part is what one object gives to the network, with what was looked at for it:
// its tables that speak, and a session, or none.
type part struct {
	speakers []*bgp.Speaker
	session  *bgp.Session
	reads    *design.Reads
}

// readers find the parts that a change touches: those indexed, and those worked
// out since.
type readers struct {
	once  sync.Once
	index *design.Index[design.ID]
	fresh []design.ID
}

func newWorld() *network { return &network{} }

func (w *network) after(changes *design.Changes) *network {
	return &network{before: w, changes: changes}
}

func (w *network) settle() {
	w.learn()
	w.before, w.changes = nil, nil
}

// differs lists at which tables other routes are learned than before, and the
// sessions that dropped for a limit or came back.
func (w *network) differs() []string {
	w.learn()
	return w.changed
}

// partKinds are the kinds of which something speaks or joins speakers.
var partKinds = []design.Kind{
	design.KindGateway, design.KindEdgeRouter, design.KindHubTable, design.KindSession, design.KindAttachment,
}

// learn runs all speakers to the fixed point.
func (w *network) learn() *bgp.Result {
	w.once.Do(func() {
		had, touched := map[design.ID]part{}, map[design.ID]bool{}
		if w.before != nil {
			w.before.learn()
			had, touched = w.before.by, w.before.touched(w.changes)
			w.readers.index, w.readers.fresh = w.before.readers.index, slices.Clip(w.before.readers.fresh)
		}
		network := w.network(had, touched)
		if w.before == nil {
			w.result = bgp.Solve(network)
			return
		}
		w.result, w.changed = w.before.result.Update(network)
		w.changed = append(w.changed, w.drops()...)
		if len(w.changed) > 0 {
			w.changed = append(w.changed, everywhere)
		}
	})
	return w.result
}

// network gathers the parts: those that were there and are not touched, and the
// others, worked out now. What comes out as it was keeps its pointers.
func (w *network) network(had map[design.ID]part, touched map[design.ID]bool) *bgp.Network {
	n := &bgp.Network{}
	w.by = make(map[design.ID]part, len(had))
	for _, k := range partKinds {
		for _, o := range w.design.Of(k) {
			p, ok := had[o.ID]
			if !ok || touched[o.ID] {
				p = w.part(o.ID, p)
				w.readers.fresh = append(w.readers.fresh, o.ID)
			}
			w.by[o.ID] = p
			n.Speakers = append(n.Speakers, p.speakers...)
			if p.session != nil {
				n.Sessions = append(n.Sessions, p.session)
			}
		}
	}
	return n
}

func (w *network) part(id design.ID, old part) part {
	p := part{reads: design.NewReads()}
	view := w.design.Watched(p.reads)
	b := w.builder(view)
	p.speakers, p.session = sameSpeakers(old.speakers, b.speakers(view.Get(id))), b.session(view.Get(id))
	if old.session != nil && reflect.DeepEqual(p.session, old.session) {
		p.session = old.session
	}
	return p
}

// mostFresh bounds what is asked one by one before all is indexed again.
const mostFresh = 100

// touched are the parts for which something was looked at that has changed.
func (w *network) touched(c *design.Changes) map[design.ID]bool {
	w.readers.once.Do(func() {
		if w.readers.index != nil && len(w.readers.fresh) <= mostFresh {
			return
		}
		w.readers.index, w.readers.fresh = &design.Index[design.ID]{}, nil
		for id, p := range w.by {
			w.readers.index.Add(id, p.reads)
		}
	})
	out := w.readers.index.Touched(c)
	for _, id := range w.readers.fresh {
		if p, ok := w.by[id]; ok {
			out[id] = !p.reads.Clean(c)
		}
	}
	return out
}

// everywhere is noted by what looks at what all speakers have learned.
const everywhere = "everywhere"

// drops are the sessions that dropped for a limit, or did before and do no more.
func (w *network) drops() []string {
	now, then := w.result.Dropped(), w.before.result.Dropped()
	var out []string
	for _, pair := range [][2]map[string]bgp.Down{{now, then}, {then, now}} {
		for key, d := range pair[0] {
			if o, ok := pair[1][key]; !ok || o.Taken != d.Taken || o.End != d.End || o.Family != d.Family {
				out = append(out, dropKey(design.ID(key)))
			}
		}
	}
	return out
}

func dropKey(session design.ID) string { return "session " + string(session) }

// speakersOf are the tables of an object that speak.
func (w *network) speakersOf(id design.ID) []*bgp.Speaker {
	w.learn()
	return w.by[id].speakers
}

// dropped tells of a session that comes up whether it dropped for a limit since.
func (w *network) dropped(view *design.Design, session design.ID) (status.Verdict, bool) {
	view.NoteLearned(dropKey(session))
	d, ok := w.learn().Dropped()[string(session)]
	if !ok {
		return status.Verdict{}, false
	}
	most := d.Session.Ends[d.End].Limit[d.Family]
	return status.Dropped(w.design, w.design.Get(session), d.End, d.Taken, most, d.Family), true
}

// sameSpeakers keeps the speakers that were there before, where they are the
// same.
func sameSpeakers(old, now []*bgp.Speaker) []*bgp.Speaker {
	if len(old) != len(now) {
		return now
	}
	out := slices.Clone(now)
	for n := range out {
		if out[n] != old[n] && reflect.DeepEqual(out[n], old[n]) {
			out[n] = old[n]
		}
	}
	return out
}
