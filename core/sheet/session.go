package sheet

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/settings"
)

// SessionLines are the lines of a BGP session.
func SessionLines(d *design.Design, o *design.Object) []Line {
	l := &sessionLiner{design: d, object: o, session: o.Body.(*design.Session), ends: settings.SessionEndsOf(d, o)}
	for n := range l.ends {
		l.speaker(n)
	}
	l.options()
	x, y := l.ends[0], l.ends[1]
	most := freeLine(
		"bgp-max", "Most routes taken", limitWord(x.MaxPrefixes), limitWord(y.MaxPrefixes), "each end's own",
	)
	if outcome := negotiate.AgreeSession(x, y); outcome.Parameter == "bgp-max" {
		most.Verdict, most.Why = Differs, outcome.Why
	}
	return append(
		l.out,
		freeLine(
			"bgp-hold", "Hold time", seconds(x.Hold), seconds(y.Hold),
			fmt.Sprintf("the smaller of the two holds: %d s", min(x.Hold, y.Hold)),
		),
		most,
	)
}

// sessionLiner writes the lines of one session.
type sessionLiner struct {
	design  *design.Design
	object  *design.Object
	session *design.Session
	ends    [2]negotiate.BGPEnd
	out     []Line
}

func (l *sessionLiner) name(n int) string { return negotiate.Called(l.ends[n].Name, n) }

func (l *sessionLiner) set(n int, change func(*design.SessionEnd)) []design.Edit {
	body := design.Session{Ends: slices.Clone(l.session.Ends)}
	change(&body.Ends[n])
	return []design.Edit{design.PutEdit(l.object.With(&body))}
}

// speaker are the lines of what one end has and the other expects of it.
func (l *sessionLiner) speaker(n int) {
	e, far := l.ends[n], l.ends[1-n]
	cross := func(own, taken string) (string, string) {
		if n == 1 {
			return taken, own
		}
		return own, taken
	}
	a, b := cross(asnWord(e.ASN), asnWord(far.PeerASN))
	l.out = append(l.out, line(
		fmt.Sprintf("asn-%d", n+1),
		"ASN of "+l.name(n),
		a,
		b,
		e.ASN == far.PeerASN,
		"",
		LineFix{
			1 - n, fmt.Sprintf("Expect ASN %d at %s", e.ASN, l.name(1-n)),
			l.set(1-n, func(x *design.SessionEnd) { x.PeerASN = 0 }),
		},
		LineFix{
			n,
			fmt.Sprintf("Give %s ASN %d", l.name(n), far.PeerASN),
			l.set(n, func(x *design.SessionEnd) { x.ASN = far.PeerASN }),
		},
	))
	a, b = cross(addressOr(e.Address), addressOr(far.Peer))
	at, has := settings.Elsewhere(l.design, l.object)
	why, away := "", at == n
	if away {
		why = fmt.Sprintf("%s has %s there", l.name(n), has)
	}
	l.out = append(
		l.out,
		line(
			fmt.Sprintf("bgp-address-%d", n+1),
			"Session address of "+l.name(n),
			a,
			b,
			e.Address == far.Peer && !away,
			why,
			LineFix{
				1 - n,
				"Look for " + addressOr(e.Address) + " at " + l.name(1-n),
				l.set(1-n, func(x *design.SessionEnd) { x.Peer = netip.Addr{} }),
			},
		),
	)
}

// options are the lines of what both ends must have alike.
func (l *sessionLiner) options() {
	password := func(n int) bool { return l.session.Ends[n].Password }
	l.out = append(
		l.out,
		line(
			"bgp-password",
			"Session password",
			passwordWord(password(0)),
			passwordWord(password(1)),
			password(0) == password(1),
			"",
			LineFix{
				0, "Do at " + l.name(0) + " as at " + l.name(1),
				l.set(0, func(x *design.SessionEnd) { x.Password = password(1) }),
			},
			LineFix{
				1,
				"Do at " + l.name(1) + " as at " + l.name(0),
				l.set(1, func(x *design.SessionEnd) { x.Password = password(0) }),
			},
		),
	)
	x, y := l.ends[0].Families, l.ends[1].Families
	common := slices.ContainsFunc(x, func(f string) bool { return slices.Contains(y, f) })
	l.out = append(
		l.out,
		line(
			"bgp-families",
			"Address families",
			strings.Join(x, ", "),
			strings.Join(y, ", "),
			common,
			"",
			LineFix{
				0, "Set " + l.name(0) + " to " + strings.Join(y, ", "),
				l.set(0, func(e *design.SessionEnd) { e.Families = y }),
			},
			LineFix{
				1,
				"Set " + l.name(1) + " to " + strings.Join(x, ", "),
				l.set(1, func(e *design.SessionEnd) { e.Families = x }),
			},
		),
	)
}
