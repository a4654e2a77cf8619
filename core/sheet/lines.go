// Package sheet is the two-ended sheet: both ends of what joins two parties, line
// by line with a verdict between, and what a far end sent held against it.
package sheet

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/settings"
)

// Agreement is how a line of the two-ended sheet stands.
type Agreement string

// The verdicts.
const (
	Agrees  Agreement = "agrees"
	Differs Agreement = "differs" // it does not come up, or fails later
	Beware  Agreement = "beware"  // it works, and may surprise
	Unknown Agreement = "unknown" // one end's value is not known yet
	Free    Agreement = "free"    // the ends need not agree
)

// Verdicts are all verdicts.
var Verdicts = []Agreement{Agrees, Differs, Beware, Unknown, Free}

// Line is one parameter at both ends.
type Line struct {
	Key     string    `json:"key"` // stable
	Label   string    `json:"label"`
	Values  [2]string `json:"values"`
	Verdict Agreement `json:"verdict"`
	Why     string    `json:"why,omitempty"` // what is agreed on, or why not
	Fixes   []LineFix `json:"fixes"`
	Cells   [2]bool   `json:"cells"` // which end's value can be set by itself
}

// LineFix makes a line agree by changing one end.
type LineFix struct {
	End   int           `json:"end"` // 0 or 1: which end changes
	Title string        `json:"title"`
	Edits []design.Edit `json:"edits"`
}

// fixer makes the edits of a line's fixes; either may be nil.
type fixer func(end int) []design.Edit

// keyLine is the key of the line about the pre-shared key, whose fixes are not
// edits of the design.
const keyLine = "key"

// Lines are the lines of a tunnel, those that must agree first.
func Lines(d *design.Design, tunnel *design.Object, keys [2]string) []Line {
	l := &liner{design: d, tunnel: tunnel, ends: settings.SettingsOf(d, tunnel, keys[0])}
	l.ends[1].Key = keys[1]
	link := d.Get(tunnel.Parent).Body.(*design.Link)
	l.link = link
	a, b := l.ends[0], l.ends[1]

	l.crossed(
		"address", "Address", [2]netip.Addr{a.Address, b.Address}, [2]netip.Addr{b.Peer, a.Peer},
		func(e *design.TunnelEnd, s negotiate.Settings) { e.Peer = netip.Addr{} },
	)
	l.names()
	l.key(keys)
	l.same(
		"version", "IKE version", versionWord(a.Version), versionWord(b.Version), a.Version == b.Version,
		func(e *design.TunnelEnd, far negotiate.Settings) { e.Version = far.Version },
	)
	l.proposals(
		"ike", "IKE proposals", negotiate.IKE, a.IKE, b.IKE,
		func(e *design.TunnelEnd, far negotiate.Settings) { e.IKE = far.IKE },
	)
	l.proposals(
		"esp", "ESP proposals", negotiate.ESP, a.ESP, b.ESP,
		func(e *design.TunnelEnd, far negotiate.Settings) { e.ESP = far.ESP },
	)
	l.selectors(0)
	l.selectors(1)
	l.inside()
	l.lines = append(l.lines, sessionsOf(d, tunnel.ID)...)

	l.lifetime(
		"ike-life", "IKE lifetime", a.IKELife, b.IKELife,
		func(e *design.TunnelEnd, far negotiate.Settings) { e.IKELife = far.IKELife },
	)
	l.lifetime(
		"child-life", "Key lifetime", a.ChildLife, b.ChildLife,
		func(e *design.TunnelEnd, far negotiate.Settings) { e.ChildLife = far.ChildLife },
	)
	l.free(
		"dpd", "Dead peer detection", seconds(a.DPD), seconds(b.DPD),
		"decides how soon each end notices that the other is gone",
	)
	l.mtu()
	l.free("nat", "Behind a NAT", yes(a.NAT), yes(b.NAT), "a NAT between needs ESP in UDP (RFC 3948)")
	return settable(l.lines)
}

// Differing are the lines that differ.
func Differing(lines []Line) []Line {
	return slices.DeleteFunc(slices.Clone(lines), func(l Line) bool { return l.Verdict != Differs })
}

// Worst is the worst verdict among lines that must agree, and how many differ.
func Worst(lines []Line) (worst Agreement, differing int) {
	order := []Agreement{Agrees, Unknown, Beware, Differs}
	at := 0
	for _, l := range lines {
		at = max(at, slices.Index(order, l.Verdict))
		if l.Verdict == Differs {
			differing++
		}
	}
	return order[at], differing
}

type liner struct {
	design *design.Design
	tunnel *design.Object
	link   *design.Link
	ends   [2]negotiate.Settings
	lines  []Line
}

// party is whose an end is.
func (l *liner) party(n int) string { return l.design.Party(l.link.Ends[n].Gateway).Name }

func (l *liner) add(key, label string, values [2]string, v Agreement, why string, titles [2]string, fix fixer) {
	line := Line{Key: key, Label: label, Values: values, Verdict: v, Why: why, Fixes: []LineFix{}}
	if (v == Differs || v == Beware) && fix != nil {
		for n := range 2 {
			if edits := fix(n); len(edits) > 0 {
				line.Fixes = append(line.Fixes, LineFix{End: n, Title: titles[n], Edits: edits})
			}
		}
	}
	l.lines = append(l.lines, line)
}

// end is the edit that sets something at one end of the tunnel.
func (l *liner) end(n int, set func(*design.TunnelEnd)) []design.Edit {
	return []design.Edit{design.PutEdit(settings.With(l.tunnel, n, set))}
}

func (l *liner) setTo(what string) [2]string {
	return [2]string{
		"Set " + settings.EndTitle(l.design, l.link, 0) + " to " + what,
		"Set " + settings.EndTitle(l.design, l.link, 1) + " to " + what,
	}
}

func (l *liner) same(key, label, a, b string, agree bool, take func(*design.TunnelEnd, negotiate.Settings)) {
	v := Agrees
	if !agree {
		v = Differs
	}
	l.add(key, label, [2]string{a, b}, v, "", [2]string{l.setTo(b)[0], l.setTo(a)[1]}, func(n int) []design.Edit {
		return l.end(n, func(e *design.TunnelEnd) { take(e, l.ends[1-n]) })
	})
}

// crossed are two lines: what each end is, and what the other takes it for.
func (l *liner) crossed(
	key, label string,
	own, taken [2]netip.Addr,
	forget func(*design.TunnelEnd, negotiate.Settings),
) {
	for n := range 2 {
		values := [2]string{addressOr(own[n]), addressOr(taken[n])}
		if n == 1 {
			values[0], values[1] = values[1], values[0]
		}
		v, why := Agrees, ""
		switch {
		case !negotiate.Known(own[n]):
			v, why = Unknown, "the cloud gives it when the gateway is made; enter it then"
		case own[n] != taken[n]:
			v, why = Differs,
				fmt.Sprintf(
					"%s is at %s, and the far end looks for %s", settings.EndTitle(l.design, l.link, n), own[n],
					taken[n],
				)
		}
		l.add(
			fmt.Sprintf("%s-%d", key, n+1),
			label+" of "+l.party(n),
			values,
			v,
			why,
			l.setTo(addressOr(own[n])),
			func(m int) []design.Edit {
				if m == n {
					return nil // an address is what it is
				}
				return l.end(m, func(e *design.TunnelEnd) { forget(e, l.ends[n]) })
			},
		)
	}
}

func (l *liner) names() {
	for n := range 2 {
		own, taken := l.ends[n].Identity, l.ends[1-n].PeerIdentity
		values := [2]string{own, taken}
		if n == 1 {
			values[0], values[1] = taken, own
		}
		v := Agrees
		switch {
		case own == "" && taken == "":
			v = Unknown
		case !negotiate.SameIdentity(own, taken):
			v = Differs
		}
		titles := l.setTo(own)
		titles[n] = "Let " + settings.EndTitle(l.design, l.link, n) + " call itself " + taken
		l.add(
			fmt.Sprintf("identity-%d", n+1),
			"Identity of "+l.party(n),
			values,
			v,
			"",
			titles,
			func(m int) []design.Edit {
				if m == n {
					return l.end(m, func(e *design.TunnelEnd) { e.Identity = taken })
				}
				return l.end(m, func(e *design.TunnelEnd) { e.PeerIdentity = own })
			},
		)
	}
}

func (l *liner) key(keys [2]string) {
	v, why := Agrees, "the same at both ends; shown on asking only"
	switch {
	case keys[0] == "" || keys[1] == "":
		v, why = Agrees, "one key is made for both ends; shown on asking only"
	case keys[0] != keys[1]:
		v, why = Differs, "the far end's key, as it was sent, is another"
	}
	l.add(keyLine, "Pre-shared key", [2]string{"masked", "masked"}, v, why, [2]string{}, nil)
}

func (l *liner) proposals(
	key, label string,
	proto negotiate.Protocol,
	a, b []string,
	take func(*design.TunnelEnd, negotiate.Settings),
) {
	values := [2]string{strings.Join(a, ", "), strings.Join(b, ", ")}
	titles := [2]string{l.setTo(values[1])[0], l.setTo(values[0])[1]}
	fix := func(n int) []design.Edit {
		return l.end(n, func(e *design.TunnelEnd) { take(e, l.ends[1-n]) })
	}
	first, errA := negotiate.ParseProposals(proto, a)
	second, errB := negotiate.ParseProposals(proto, b)
	for n, err := range [2]error{errA, errB} {
		if err != nil {
			l.add(key, label, values, Differs, err.Error(), titles, func(m int) []design.Edit {
				if m == n {
					return fix(m)
				}
				return nil
			})
			return
		}
	}
	got, ok := negotiate.Choose(second, first, true)
	switch {
	case !ok && proto == negotiate.ESP:
		if _, now := negotiate.Choose(second, first, false); now {
			l.add(
				key, label, values, Differs,
				"it comes up and fails at the first renewal of keys: "+negotiate.Disagreement(second, first, true),
				titles, fix,
			)
			return
		}
		fallthrough
	case !ok:
		l.add(key, label, values, Differs, negotiate.Disagreement(second, first, true), titles, fix)
	case weakest(first, second) != "":
		l.add(key, label, values, Beware, "they settle on "+got.String()+"; "+weakest(first, second), [2]string{}, nil)
	default:
		l.add(key, label, values, Agrees, "they settle on "+got.String(), titles, fix)
	}
}

// weakest says which offered proposal should not be.
func weakest(lists ...[]negotiate.Proposal) string {
	for _, list := range lists {
		for _, p := range list {
			if w := p.Weak(); w != "" {
				return p.String() + " is offered, but " + w
			}
		}
	}
	return ""
}

// selectors is the line about the ranges of one end: its own, and what the far
// end takes them for.
func (l *liner) selectors(n int) {
	own, taken := l.ends[n].Local, l.ends[1-n].Remote
	values := [2]string{negotiate.Joined(own), negotiate.Joined(taken)}
	if n == 1 {
		values[0], values[1] = values[1], values[0]
	}
	v, why := Agrees, ""
	switch narrowed := negotiate.Narrow(own, taken); {
	case negotiate.SameSet(own, taken):
	case len(narrowed) == 0:
		v, why = Differs, "nothing in common, so it does not come up"
	default:
		v, why = Differs, "only "+negotiate.Joined(narrowed)+" gets through"
	}
	titles := l.setTo(negotiate.Joined(own))
	titles[n] = l.setTo(negotiate.Joined(taken))[n]
	l.add(
		fmt.Sprintf("selectors-%d", n+1),
		"Selectors for "+l.party(n),
		values,
		v,
		why,
		titles,
		func(m int) []design.Edit {
			if m == n {
				return l.setSelectors(m, taken, nil)
			}
			return l.setSelectors(m, nil, own)
		},
	)
}

// setSelectors sets local or remote at one end: those of the link where it is
// policy-based.
func (l *liner) setSelectors(n int, local, remote []netip.Prefix) []design.Edit {
	if l.link.Routing != design.RoutingSelectors {
		return l.end(n, func(e *design.TunnelEnd) {
			if local != nil {
				e.Local = local
			}
			if remote != nil {
				e.Remote = remote
			}
		})
	}
	body := *l.link
	body.Ends = slices.Clone(body.Ends)
	if local != nil {
		body.Ends[n].Local = local
	}
	if remote != nil {
		body.Ends[n].Remote = remote
	}
	return []design.Edit{design.PutEdit(l.design.Get(l.tunnel.Parent).With(&body))}
}

func (l *liner) inside() {
	a, b := l.ends[0], l.ends[1]
	if !a.Inside.IsValid() && !b.Inside.IsValid() {
		return
	}
	for n, s := range l.ends {
		planned := l.ends[1-n].PeerInside
		values := [2]string{s.Inside.String(), addressOr(planned)}
		if n == 1 {
			values[0], values[1] = values[1], values[0]
		}
		v, why := Agrees, ""
		if s.Inside.Addr() != planned {
			v, why = Differs, fmt.Sprintf("the far end sends to %s", planned)
		} else if body := l.tunnel.Body.(*design.Tunnel); len(body.Inside) == 2 && s.Inside != body.Inside[n] {
			v, why = Differs, "the two ends do not have the same range"
		}
		l.add(
			fmt.Sprintf("inside-%d", n+1),
			"Inside address of "+l.party(n),
			values,
			v,
			why,
			l.setTo("what is planned"),
			func(m int) []design.Edit {
				body := *l.tunnel.Body.(*design.Tunnel)
				if m == n {
					return l.end(n, func(e *design.TunnelEnd) { e.Inside = netip.Prefix{} })
				}
				if !s.Inside.IsValid() || len(body.Inside) != 2 || s.Inside.Masked() != body.Inside[1-n].Masked() {
					return nil
				}
				body.Inside = slices.Clone(body.Inside)
				body.Inside[n] = s.Inside
				return []design.Edit{
					design.PutEdit(
						settings.With(l.tunnel.With(&body), n, func(e *design.TunnelEnd) { e.Inside = netip.Prefix{} }),
					),
				}
			},
		)
	}
}

func (l *liner) lifetime(key, label string, a, b uint32, take func(*design.TunnelEnd, negotiate.Settings)) {
	v, why := Free, "they need not be equal"
	if a != b {
		v, why = Beware, "one end renews before the other expects it; the two may race"
	}
	l.add(
		key,
		label,
		[2]string{seconds(a), seconds(b)},
		v,
		why,
		[2]string{l.setTo(seconds(b))[0], l.setTo(seconds(a))[1]},
		func(n int) []design.Edit {
			return l.end(n, func(e *design.TunnelEnd) { take(e, l.ends[1-n]) })
		},
	)
}

func (l *liner) mtu() {
	out := negotiate.Agree(l.ends[0], l.ends[1])
	for n := range l.ends {
		if s := l.ends[n].MTU; out.MTU > 0 && s > uint32(out.MTU) {
			l.add(
				"mtu",
				"MTU inside",
				[2]string{mtuWord(l.ends[0].MTU), mtuWord(l.ends[1].MTU)},
				Beware,
				fmt.Sprintf(
					"packets above %d bytes vanish; TCP's largest segment is %d",
					out.MTU,
					negotiate.MSS(out.MTU, false),
				),
				l.setTo("what fits"),
				func(m int) []design.Edit {
					if l.ends[m].MTU <= uint32(out.MTU) {
						return nil
					}
					return l.end(m, func(e *design.TunnelEnd) { e.MTU = 0 })
				},
			)
			return
		}
	}
	why := ""
	if out.MTU > 0 {
		why = fmt.Sprintf("%d bytes fit, TCP's largest segment is %d", out.MTU, negotiate.MSS(out.MTU, false))
	}
	l.free("mtu", "MTU inside", mtuWord(l.ends[0].MTU), mtuWord(l.ends[1].MTU), why)
}

func (l *liner) free(key, label, a, b, why string) {
	l.lines = append(
		l.lines, Line{Key: key, Label: label, Values: [2]string{a, b}, Verdict: Free, Why: why, Fixes: []LineFix{}},
	)
}

// sessionsOf are the lines of every session in a tunnel or circuit, each with a
// key of its own.
func sessionsOf(d *design.Design, in design.ID) []Line {
	var out []Line
	for n, s := range d.Inside(in, design.KindSession) {
		for _, l := range SessionLines(d, s) {
			if n > 0 {
				l.Key, l.Label = fmt.Sprintf("%s/%d", l.Key, n+1), l.Label+", "+s.Name
			}
			out = append(out, l)
		}
	}
	return out
}

func addressOr(a netip.Addr) string {
	if !negotiate.Known(a) {
		return "not known yet"
	}
	return a.String()
}

func asnWord(n uint32) string {
	if n == 0 {
		return "none"
	}
	return strconv.FormatUint(uint64(n), 10)
}

func limitWord(n uint32) string {
	if n == 0 {
		return "no limit"
	}
	return strconv.FormatUint(uint64(n), 10)
}

func versionWord(v uint8) string { return fmt.Sprintf("IKEv%d", v) }
func seconds(n uint32) string    { return fmt.Sprintf("%d s", n) }

func mtuWord(n uint32) string {
	if n == 0 {
		return "what fits"
	}
	return fmt.Sprintf("%d bytes", n)
}

func passwordWord(has bool) string {
	if has {
		return "set"
	}
	return "none"
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}
