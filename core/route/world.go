package route

import (
	"reflect"
	"slices"
	"sync"

	"dravin/core/bgp"
	"dravin/core/design"
	"dravin/core/standing"
)

// world is what all speakers of a design learn from each other. It is worked out
// once, when it is first asked for; what follows a small change begins from what
// was there before.
type world struct {
	d    *design.Design
	base *standing.Standing // without the sessions that dropped for a limit

	speakers *design.Memo[design.ID, []*bgp.Speaker]
	sessions *design.Memo[design.ID, *bgp.Session]

	once    sync.Once
	before  *world
	parts   parts
	result  *bgp.Result
	changed []string
}

// parts are what a network was made of, by the object that it comes from.
type parts struct {
	speakers map[design.ID][]*bgp.Speaker
	sessions map[design.ID]*bgp.Session
}

func newWorld() *world {
	return &world{speakers: &design.Memo[design.ID, []*bgp.Speaker]{}, sessions: &design.Memo[design.ID, *bgp.Session]{}}
}

func (w *world) after(changes *design.Changes) *world {
	next := newWorld()
	next.before = w
	next.speakers.After(w.speakers, changes)
	next.sessions.After(w.sessions, changes)
	return next
}

func (w *world) settle() {
	w.learn()
	w.speakers.Settle()
	w.sessions.Settle()
	w.before = nil
}

// differs lists at which tables other routes are learned than before, and the
// sessions that dropped for a limit or came back.
func (w *world) differs(before *world) []string {
	w.learn()
	return w.changed
}

// speakerKinds are the kinds whose tables routes are learned into.
var speakerKinds = []design.Kind{design.KindGateway, design.KindEdgeRouter, design.KindHubTable}

// learn runs all speakers to the fixed point.
func (w *world) learn() *bgp.Result {
	w.once.Do(func() {
		network := &bgp.Network{}
		w.parts = parts{map[design.ID][]*bgp.Speaker{}, map[design.ID]*bgp.Session{}}
		had := parts{}
		if w.before != nil {
			w.before.learn()
			had = w.before.parts
		}
		for _, k := range speakerKinds {
			for _, o := range w.d.Of(k) {
				list := w.speakers.Get(w.d, o.ID, func(view *design.Design) []*bgp.Speaker { return w.builder(view).speakers(view.Get(o.ID)) })
				list = sameSpeakers(had.speakers[o.ID], list)
				w.parts.speakers[o.ID] = list
				network.Speakers = append(network.Speakers, list...)
			}
		}
		for _, k := range []design.Kind{design.KindSession, design.KindAttachment, design.KindGateway} {
			for _, o := range w.d.Of(k) {
				x := w.sessions.Get(w.d, o.ID, func(view *design.Design) *bgp.Session { return w.builder(view).session(view.Get(o.ID)) })
				if old := had.sessions[o.ID]; old != nil && x != nil && x != old && reflect.DeepEqual(x, old) {
					x = old
				}
				if x != nil {
					w.parts.sessions[o.ID] = x
					network.Sessions = append(network.Sessions, x)
				}
			}
		}
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

// everywhere is noted by what looks at what all speakers have learned.
const everywhere = "everywhere"

// drops are the sessions that dropped for a limit, or did before and do no more.
func (w *world) drops() []string {
	now, then := w.result.Dropped(), w.before.result.Dropped()
	var out []string
	for _, pair := range [][2]map[string]bgp.Down{{now, then}, {then, now}} {
		for key, d := range pair[0] {
			if o, ok := pair[1][key]; !ok || o.Taken != d.Taken || o.End != d.End || o.V4 != d.V4 {
				out = append(out, dropKey(design.ID(key)))
			}
		}
	}
	return out
}

func dropKey(session design.ID) string { return "session " + string(session) }

// dropped tells of a session that comes up whether it dropped for a limit since.
func (w *world) dropped(view *design.Design, session design.ID) (standing.Verdict, bool) {
	view.NoteLearned(dropKey(session))
	d, ok := w.learn().Dropped()[string(session)]
	if !ok {
		return standing.Verdict{}, false
	}
	f, word := 0, "IPv4"
	if !d.V4 {
		f, word = 1, "IPv6"
	}
	return standing.Dropped(w.d, w.d.Get(session), d.End, d.Taken, d.Session.Ends[d.End].Limit[f], word), true
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
