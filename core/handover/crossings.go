package handover

import (
	"fmt"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/prefix"
)

// A crossing between two segments is routes of one instance in the table of the other. One that goes one way hides
// the sources behind the box's own address; answers come back by the other segment's interfaces and must be routed
// in the segment from which the conversation came: the connection table knows which, and a mark on the packet
// tells the kernel's rules.

// crossingShift is where the mark of an instance stands in a packet's mark: above those of joints.
const crossingShift = 16

func crossingMark(i *box.Instance) string { return fmt.Sprintf("0x%x", i.Number<<crossingShift) }

// members is the interface group of an instance: the routes' script puts the instance's interfaces into it, and there
// they stay whatever ruleset is loaded.
func members(i *box.Instance) int { return kernelTable(i) }

// crossings writes the marks of what crosses one way.
func (r ruleset) crossings() {
	var hiding []box.Crossing
	for _, c := range r.box.Crossings {
		if c.Hides {
			hiding = append(hiding, c)
		}
	}
	if len(hiding) == 0 {
		return
	}
	r.chain("segments", "prerouting", "filter", "mangle", func() {
		for _, c := range hiding {
			r.line(
				"ct direction original iifgroup %d meta mark set mark and 0xffff or %s", members(r.instance(c.From)),
				crossingMark(r.instance(c.From)),
			)
			r.line(
				"ct direction reply ct mark %[1]s meta mark set mark and 0xffff or %[1]s", crossingMark(r.instance(c.From)),
			)
		}
	})
	r.chain("crossing", "postrouting", "filter", "mangle", func() {
		for _, c := range hiding {
			r.line(
				"ct direction original meta mark and 0xffff0000 == %[1]s oifgroup %[2]d ct mark set %[1]s",
				crossingMark(r.instance(c.From)), members(r.instance(c.To)),
			)
		}
	})
}

// instance is the box's routing instance at a place of its list.
func (r ruleset) instance(n int) *box.Instance { return &r.box.Instances[n] }

// hidesCrossings hides what crosses one way, before all other rules.
func (r ruleset) hidesCrossings() {
	for _, c := range r.box.Crossings {
		if !c.Hides {
			continue
		}
		r.comment("%s: its sources are hidden", c.Name)
		for _, deed := range r.hides(box.Rule{}) {
			r.line("ct mark %s %s", crossingMark(r.instance(c.From)), deed)
		}
	}
}

// crossingFilters writes the filters of crossings: what goes from the interfaces of one instance to those of the
// other.
func (r ruleset) crossingFilters() {
	n := 0
	for _, c := range r.box.Crossings {
		for _, f := range c.Filters {
			n++
			name := fmt.Sprintf("across%d", n)
			r.filtering(name+"_rules", "", f, "", nil)
			r.chain(name, "forward", "filter", "filter", func() {
				r.line(
					"iifgroup %d oifgroup %d jump %s_rules", members(r.instance(c.From)), members(r.instance(c.To)), name,
				)
			})
		}
	}
}

// crossings lets answers of what crossed one way be routed where they belong.
func (s *script) crossings() {
	done := map[int]bool{}
	for _, c := range s.box.Crossings {
		if !c.Hides || done[c.From] {
			continue
		}
		done[c.From] = true
		if len(done) == 1 {
			s.line("")
			s.comment("Answers of what crossed one way are routed in the segment that asked.")
		}
		i := &s.box.Instances[c.From]
		for _, f := range []string{"-4", "-6"} {
			s.line(
				"rule %s fwmark %s/0xffff0000 lookup %d pref %d", f, crossingMark(i), kernelTable(i),
				crossingPriority+i.Number,
			)
		}
	}
}

// birdCrossings shares what sessions of one segment brought with the table of the other, and never further. What those
// in no segment brought is in that table already: the daemon takes only one of two ways there, the first to come.
func birdCrossings(p *page, b *box.Box, family prefix.Family) {
	for n, c := range b.Crossings {
		ranges, sessions := prefix.OfFamily(c.Ranges, family), sessionsIn(b, b.Instances[c.To].Segment)
		if len(ranges) == 0 || len(sessions) == 0 {
			continue
		}
		var within []string
		for _, r := range prefix.Minimal(ranges) {
			within = append(within, r.String()+"+")
		}
		p.comment("The crossing %s.", c.Name)
		p.block(fmt.Sprintf("protocol pipe crossing%d_%s", n+1, family.Code()), func() {
			p.line("table %s;", instanceTable(&b.Instances[c.From], family))
			p.line("peer table %s;", instanceTable(&b.Instances[c.To], family))
			p.line("export none;")
			p.line(
				"import filter { if source != RTS_BGP || !(%s) || !(net ~ [ %s ]) then reject; preference = 1; "+
					"accept; };",
				learnedOn(sessions), strings.Join(within, ", "),
			)
		})
	}
}

// sessionsIn are a box's sessions in a segment; those in none where it is empty.
func sessionsIn(b *box.Box, segment design.ID) (out []box.Session) {
	for _, s := range b.Sessions {
		if s.Segment == segment {
			out = append(out, s)
		}
	}
	return out
}

// learnedOn is the condition that a route was learned on one of some sessions.
func learnedOn(sessions []box.Session) string {
	out := make([]string, len(sessions))
	for n, s := range sessions {
		out[n] = fmt.Sprintf("proto = %q", protocolName(s))
	}
	return strings.Join(out, " || ")
}

// uncrossed are lines of a session's export filter that keep back what came by a crossing.
func uncrossed(b *box.Box, table int) string {
	crosses := func(c box.Crossing) bool { return c.From == table }
	if table == 0 || !slices.ContainsFunc(b.Crossings, crosses) {
		return ""
	}
	itself := slices.Concat(sessionsIn(b, ""), sessionsIn(b, b.Instances[table].Segment))
	return fmt.Sprintf("    if source = RTS_BGP && !(%s) then reject; # it came by a crossing\n", learnedOn(itself))
}
