package proof

import (
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/core/walk"
)

// Until is how long a flow is lost until it goes another way.
type Until struct {
	Seconds int    `json:"seconds"` // 0 with a reason: at once, as far as its owner says
	Never   bool   `json:"never,omitempty"`
	Why     string `json:"why,omitempty"` // whose timer it is; empty if nothing that was on the way is gone
}

// How long a watcher of links and circuits without a session takes to leave what does not answer: this many misses,
// each of a question and a pause of a second, and what the round at hand still takes.
const (
	WatchMisses = 3
	WatchPause  = 1 // seconds
	WatchWithin = WatchMisses*(WatchPause+1) + 2
)

// deadAfter is after how many unanswered questions the far end of a tunnel counts as dead, where a cloud asks.
const deadAfter = 3

// until is how long it takes until a flow leaves what is gone of its way: the longest that anything on it takes to
// notice.
func until(before, after *route.Tables, p walk.Proof) Until {
	out := Until{}
	for _, id := range waypoints(p) {
		u, gone := noticed(before, after, id)
		if gone && (out.Why == "" || u.Never || !out.Never && u.Seconds > out.Seconds) {
			out = u
		}
	}
	return out
}

// noticed is how long it takes until something that was on the way is left; gone is false if it is not gone.
func noticed(before, after *route.Tables, id design.ID) (Until, bool) {
	d := before.Design
	o := d.Get(id)
	if o == nil {
		return Until{}, false
	}
	switch o.Kind {
	case design.KindLink:
		return linkNoticed(before, after, o)
	case design.KindCircuit:
		if lost := lostSessions(before, after, d.Inside(id, design.KindSession)); lost != nil {
			return *lost, true
		}
		if !before.Status.Of(id).Up || after.Status.Of(id).Up {
			return Until{}, false
		}
		return Until{Seconds: WatchWithin, Why: "the watchers of " + o.Name + " leave it within that"}, true
	}
	if before.Status.Of(id).Up && !after.Status.Of(id).Up {
		return Until{Why: "what uses " + d.Title(id) + " sees at once that it is gone"}, true
	}
	return Until{}, false
}

// lostSessions is the hold time of what went of some sessions; nil if nothing did.
func lostSessions(before, after *route.Tables, sessions []*design.Object) (out *Until) {
	for _, s := range sessions {
		if !before.Status.Of(s.ID).Up || after.Status.Of(s.ID).Up {
			continue
		}
		hold := int(before.Status.Session(s.ID).Hold)
		u := Until{Seconds: hold, Why: fmt.Sprintf("the hold time of %s", before.Design.Title(s.ID))}
		if hold == 0 {
			u.Never, u.Why = true, u.Why+" is 0: nobody notices"
		}
		if carrier := before.Design.Get(s.Parent); carrier != nil {
			u.Why = fmt.Sprintf(
				"the hold time of the session of %s", status.Thing{Object: carrier.ID}.Title(before.Design),
			)
			if hold == 0 {
				u.Why += " is 0: nobody notices"
			}
		}
		if out == nil || u.Seconds > out.Seconds {
			out = &u
		}
	}
	return out
}

// linkNoticed is how long the ends of a link take to leave tunnels that are gone: by hold time where routes are
// learned; without sessions by a watcher at a box of one's own, and by dead-peer detection at a cloud's.
func linkNoticed(before, after *route.Tables, o *design.Object) (Until, bool) {
	d := before.Design
	l := o.Body.(*design.Link)
	out, gone := Until{}, false
	for _, t := range d.Tunnels(o.ID) {
		if lost := lostSessions(before, after, d.Inside(t.ID, design.KindSession)); lost != nil {
			return *lost, true
		}
		if !before.Status.Of(t.ID).Up || after.Status.Of(t.ID).Up {
			continue
		}
		gone = true
		for n, e := range l.Ends {
			u := endNoticed(before, t, n, e.Gateway)
			if after.Status.Of(e.Gateway).Up && u.Seconds >= out.Seconds {
				out = u
			}
		}
	}
	if gone && out.Why == "" {
		out.Why = o.Name + " is gone with its ends"
	}
	return out, gone
}

func endNoticed(t *route.Tables, tunnel *design.Object, end int, gateway design.ID) Until {
	at := t.Design.Title(gateway)
	l := t.Design.Get(tunnel.Parent).Body.(*design.Link)
	dpd := int(settings.SettingsOf(t.Design, tunnel, "")[end].DPD)
	linux := t.Design.Party(gateway).Kind == design.KindSite
	if linux && l.Routing == design.RoutingStatic {
		return Until{Seconds: WatchWithin, Why: "the watcher of " + at + " leaves a tunnel within that"}
	}
	return Until{
		Seconds: deadAfter * dpd,
		Why:     fmt.Sprintf("dead-peer detection of %s asks every %d s, %d times", at, dpd, deadAfter),
	}
}

// singleFailures are the kinds of what an intent that survives any single failure must do without; of gateways and
// boxes only those of a site, since a cloud's gateway is many boxes, of which a tunnel's end is one.
var singleFailures = []design.Kind{
	design.KindTunnel, design.KindSession, design.KindCircuit, design.KindEdgeRouter, design.KindGateway,
	design.KindBox,
}

// fails reports whether something may fail by itself.
func fails(d *design.Design, o *design.Object) bool {
	if o.Kind == design.KindGateway && d.Get(o.Parent).Kind != design.KindSite {
		return false
	}
	return slices.Contains(singleFailures, o.Kind)
}
