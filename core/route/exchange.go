package route

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/bgp"
	"dravin/core/design"
)

// Exchange is what one end of a session tells the other of one range.
type Exchange struct {
	Prefix netip.Prefix `json:"prefix"`
	Path   []uint32     `json:"path"` // as the taker has it; as the teller has it, if it does not get there
	// What the taker has of it; empty if it does not get there.
	LocalPref   uint32   `json:"local_pref,omitempty"`
	MED         uint32   `json:"med,omitempty"`
	Communities []string `json:"communities"`
	Learned     bool     `json:"learned"` // the teller learned it elsewhere
	Taken       bool     `json:"taken"`
	Best        bool     `json:"best"` // it is the taker's choice
	Code        StopCode `json:"code,omitempty"`
	Why         string   `json:"why,omitempty"`
	Rule        string   `json:"rule,omitempty"`
}

// Exchanged is what one end of a session tells the other, and what becomes of
// it. Of a session that is down nothing is told.
func (t *Tables) Exchanged(session design.ID, end int) []Exchange {
	out := []Exchange{}
	r := t.network.learn()
	if !t.Status.Of(session).Up {
		return out
	}
	for _, key := range r.At(string(session)) {
		t.Design.NoteLearned(key)
	}
	for _, x := range r.Advertised(string(session), end) {
		near, far := x.Session.Ends[x.End], x.Session.Ends[1-x.End]
		if x.Stop == bgp.BackToSender || x.Sent.Own() && x.Sent.Quiet && x.Stop == bgp.Unannounced ||
			x.Got == nil && wentThrough(x.Sent, far.Speaker) {
			continue // it comes from there, or is not meant to be told
		}
		e := Exchange{
			Prefix: x.Prefix, Path: x.Sent.Path, Learned: !x.Sent.Own(), Taken: x.Got != nil, Communities: []string{},
		}
		if x.Got != nil {
			e.Path, e.LocalPref, e.MED = x.Got.Path, x.Got.LocalPref, x.Got.MED
			for _, c := range x.Got.Communities {
				e.Communities = append(e.Communities, c.String())
			}
			if best, ok := r.Best(far.Speaker, x.Prefix); ok {
				e.Best = slices.ContainsFunc(best.Routes, func(b *bgp.Route) bool { return b.Session == x.Session })
			}
			if !e.Best {
				e.Code, e.Why = StopBetter, t.TitleOf(far.Speaker)+" has a better route"
			}
		} else {
			h := t.halt(x.Session, x.End, near, far, x.Stop, x.Rule)
			e.Code, e.Why, e.Rule = h.Code, h.Why, h.Rule
		}
		if e.Path == nil {
			e.Path = []uint32{}
		}
		out = append(out, e)
	}
	return out
}

// RuleWords are a rule of a filter for people.
func RuleWords(list []design.Filter, n int) string {
	if n < 0 || n >= len(list) {
		return fmt.Sprintf("none of its %d rules matches, so it is refused", len(list))
	}
	return fmt.Sprintf("rule %d: %s", n+1, FilterWords(list[n]))
}

// FilterWords are what a rule matches and does.
func FilterWords(f design.Filter) string {
	var when, does []string
	add := func(list *[]string, ok bool, format string, args ...any) {
		if ok {
			*list = append(*list, fmt.Sprintf(format, args...))
		}
	}
	if f.Prefix.IsValid() {
		from, to := f.Lengths()
		add(&when, from == f.Prefix.Bits() && to == from, "%s", f.Prefix)
		add(&when, from != f.Prefix.Bits() || to != from, "%s with /%d to /%d", f.Prefix, from, to)
	}
	add(&when, len(f.Has) > 0, "with %s", strings.Join(f.Has, " or "))
	add(&when, f.Through > 0, "through %d", f.Through)
	add(&when, f.Neighbour > 0, "from the neighbour %d", f.Neighbour)
	add(&when, f.Born > 0, "originated by %d", f.Born)
	add(&when, f.Longest > 0, "of at most %d ASNs", f.Longest)
	if len(when) == 0 {
		when = []string{"everything"}
	}
	add(&does, f.LocalPref > 0, "local preference %d", f.LocalPref)
	add(&does, f.MED > 0, "MED %d", f.MED)
	add(&does, f.Origin != "", "origin %s", f.Origin)
	add(&does, f.Prepend > 0, "prepend %d", f.Prepend)
	add(&does, len(f.Communities) > 0, "add %s", strings.Join(f.Communities, " "))
	add(&does, len(f.Take) > 0, "take away %s", strings.Join(f.Take, " "))
	does = append(
		does, map[string]string{design.Accept: "accept", design.Refuse: "refuse", design.GoOn: "go on"}[f.Does()],
	)
	return strings.Join(when, ", ") + ": " + strings.Join(does, ", ")
}
