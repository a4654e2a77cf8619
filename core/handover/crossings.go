package handover

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"dravin/core/box"
	"dravin/core/prefix"
)

// A crossing between two segments is routes of one instance in the table of the other. One that goes one way hides
// the sources behind the box's own address; answers come back by the other segment's interfaces and must be routed
// in the segment from which the conversation came: the connection table knows which, and a mark on the packet
// tells the kernel's rules.

// crossingShift is where the mark of an instance stands in a packet's mark: above those of joints.
const crossingShift = 16

func crossingMark(instance int) string { return fmt.Sprintf("0x%x", instance<<crossingShift) }

// members is the set of interfaces by which an instance is met.
func members(instance int) string { return fmt.Sprintf("instance%d", instance) }

// askedInstances are those whose interfaces the ruleset must know.
func (r ruleset) askedInstances() (out []int) {
	for _, c := range r.box.Crossings {
		if !c.Hides && len(c.Filters) == 0 {
			continue
		}
		for _, n := range []int{c.From, c.To} {
			if !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	slices.Sort(out)
	return out
}

// crossings writes the sets of interfaces, and the marks of what crosses one way.
func (r ruleset) crossings() {
	for _, n := range r.askedInstances() {
		r.comment("%s: the routes' script enters its LANs", r.box.Instances[n].Title)
		r.block("set "+members(n), func() {
			r.line("type ifname")
			if known := r.knownDevices(n); len(known) > 0 {
				r.line("elements = { %s }", strings.Join(known, ", "))
			}
		})
	}
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
				"ct direction original iifname @%s meta mark set mark and 0xffff or %s", members(
					c.From,
				), crossingMark(c.From),
			)
			r.line(
				"ct direction reply ct mark %s meta mark set mark and 0xffff or %s", crossingMark(c.From),
				crossingMark(c.From),
			)
		}
	})
	r.chain("crossing", "postrouting", "filter", "mangle", func() {
		for _, c := range hiding {
			r.line(
				"ct direction original meta mark and 0xffff0000 == %s oifname @%s ct mark set %s", crossingMark(c.From),
				members(c.To), crossingMark(c.From),
			)
		}
	})
}

// knownDevices are the interfaces of an instance that the ruleset can name itself.
func (r ruleset) knownDevices(instance int) (out []string) {
	segment := r.box.Instances[instance].Segment
	for _, l := range r.box.Links {
		for _, t := range l.Tunnels {
			if l.Routed() && t.Segment == segment {
				out = append(out, strconv.Quote(t.Device()))
			}
		}
	}
	for _, c := range r.box.Circuits {
		if c.Segment == segment {
			out = append(out, strconv.Quote(c.Device()))
		}
	}
	return out
}

// hidesCrossings hides what crosses one way, before all other rules.
func (r ruleset) hidesCrossings() {
	for _, c := range r.box.Crossings {
		if !c.Hides {
			continue
		}
		r.comment("%s: its sources are hidden", c.Name)
		for _, deed := range r.hides(box.Rule{}) {
			r.line("ct mark %s %s", crossingMark(c.From), deed)
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
				r.line("iifname @%s oifname @%s jump %s_rules", members(c.From), members(c.To), name)
			})
		}
	}
}

// crossings enters LANs into the ruleset's sets, and lets answers of what crossed one way be routed where they
// belong.
func (s *script) crossings() {
	asked := ruleset{box: s.box}.askedInstances()
	if len(asked) == 0 {
		return
	}
	s.line("")
	s.comment("Crossings: which interfaces belong to which segment, for the ruleset.")
	for _, n := range asked {
		for _, l := range s.lans {
			if l.Segment == s.box.Instances[n].Segment {
				for _, family := range []string{"ip", "ip6"} {
					s.line(
						`if [ -n "$%[1]s" ]; then nft add element %[2]s dravin %[3]s "{ \"$%[1]s\" " +
							"}"; fi`, l.variable, family,
						members(n),
					)
				}
			}
		}
	}
	done := map[int]bool{}
	for _, c := range s.box.Crossings {
		if !c.Hides || done[c.From] {
			continue
		}
		done[c.From] = true
		for _, f := range []string{"-4", "-6"} {
			s.line(
				"rule %s fwmark %s/0xffff0000 lookup %d pref %d", f, crossingMark(c.From), kernelTable(c.From-1),
				rulePriority-len(s.box.Instances)+c.From,
			)
		}
	}
}

// birdCrossings shares what sessions of one segment brought with the table of the other, and never further.
func birdCrossings(p *page, b *box.Box, family prefix.Family) {
	for n, c := range b.Crossings {
		ranges := prefix.OfFamily(c.Ranges, family)
		if len(ranges) == 0 {
			continue
		}
		var within []string
		for _, r := range prefix.Minimal(ranges) {
			within = append(within, r.String()+"+")
		}
		p.comment("The crossing %s.", c.Name)
		p.block(fmt.Sprintf("protocol pipe crossing%d_%s", n+1, family.Code()), func() {
			p.line("table %s;", instanceTable(c.From-1, family))
			p.line("peer table %s;", instanceTable(c.To-1, family))
			p.line("export none;")
			p.line(
				"import filter { if source != RTS_BGP || !(%s) || !(net ~ [ %s ]) then reject; preference = 1; "+
					"accept; };",
				protocolsOf(b, c.To), strings.Join(within, ", "),
			)
		})
	}
}

// protocolsOf is the condition that a route was learned in an instance itself: on its own sessions, or on those
// that are in no segment.
func protocolsOf(b *box.Box, instance int) string {
	var out []string
	for _, s := range b.Sessions {
		if s.Segment == "" || s.Segment == b.Instances[instance].Segment {
			out = append(out, fmt.Sprintf("proto = %q", protocolName(s)))
		}
	}
	if len(out) == 0 {
		return "false"
	}
	return strings.Join(out, " || ")
}

// uncrossed are lines of a session's export filter that keep back what came by a crossing.
func uncrossed(b *box.Box, table int) string {
	crosses := func(c box.Crossing) bool { return c.From == table+1 }
	if table < 0 || !slices.ContainsFunc(b.Crossings, crosses) {
		return ""
	}
	return fmt.Sprintf(
		"    if source = RTS_BGP && !(%s) then reject; # it came by a crossing\n", protocolsOf(b, table+1),
	)
}
