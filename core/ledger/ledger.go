// Package ledger tells who sees whom as what: every mapped range, whoever is hidden, published
// services, pools and how far they reach, and what nothing needs any more. It plans nothing; it
// reads the tables that walks read.
package ledger

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/walk"
)

// Ledger is who sees whom as what.
type Ledger struct {
	Ranges   []Known      `json:"ranges"`
	Hidden   []Hidden     `json:"hidden"`
	Services []Service    `json:"services"`
	Pools    []Capacity   `json:"pools"`
	Parties  []PartyNamed `json:"parties"` // those that have a point of view, and others that occur
	Unneeded []Unneeded   `json:"unneeded"`
	Left     int          `json:"left"` // named hosts that are not listed, where there are very many; they can be asked for

	listed int
}

// mostHosts bounds how many hosts the ledger lists with all their names.
const mostHosts = 300

// PartyNamed is a party by name.
type PartyNamed struct {
	ID    design.ID `json:"id"`
	Name  string    `json:"name"`
	Looks bool      `json:"looks"` // it has hosts, and so a point of view
}

// Known is a range that is known as another.
type Known struct {
	Of      design.ID       `json:"of"` // the mapping, or the box that lists the rule
	At      design.ID       `json:"at"`
	AtTitle string          `json:"at_title"`
	Party   design.ID       `json:"party"` // whose
	Title   string          `json:"title"`
	Real    netip.Prefix    `json:"real"`
	Mapped  netip.Prefix    `json:"mapped"`
	Toward  string          `json:"toward"` // the link or circuit; empty: anybody who dials it
	Hosts   []walk.Identity `json:"hosts"`
	Viewers []design.ID     `json:"viewers"` // who reaches it under the mapped range
	// Sum is the arithmetic: what happens to an address of the range.
	Sum string `json:"sum"`
}

// Hidden is a range that is seen as a few addresses, and can not be called under
// them.
type Hidden struct {
	At      design.ID      `json:"at"`
	AtTitle string         `json:"at_title"`
	Party   design.ID      `json:"party"`
	Title   string         `json:"title"`
	Ranges  []netip.Prefix `json:"ranges"` // empty: whatever the box passes on
	As      []netip.Prefix `json:"as"`
	Toward  string         `json:"toward"`
	Only    []netip.Prefix `json:"only"` // toward these alone; empty: anybody
}

// Service is a published service with its chain of listeners.
type Service struct {
	ID      design.ID      `json:"id"`
	Name    string         `json:"name"`
	Party   design.ID      `json:"party"`
	Chain   []Link         `json:"chain"`
	Target  design.ID      `json:"target"`
	Title   string         `json:"title"`
	Answers bool           `json:"answers"` // the target is said to answer, or nothing is said
	Callers []netip.Prefix `json:"callers"`
	Down    string         `json:"down,omitempty"`
}

// Link is one listener of a chain.
type Link struct {
	At      string     `json:"at"`
	Address netip.Addr `json:"address"`
	Service string     `json:"service"`
	How     string     `json:"how"` // rewritten, rewritten and hidden, proxied
	To      netip.Addr `json:"to"`
	Port    uint16     `json:"port"`
}

// Entry is a named host as somebody sees it.
type Entry struct {
	Viewer  string     `json:"viewer"` // a party
	Host    string     `json:"host"`
	Party   string     `json:"party"`
	Real    netip.Addr `json:"real"`
	Seen    netip.Addr `json:"seen"`
	Service string     `json:"service,omitempty"` // what is dialled there, where that is one service
	By      string     `json:"by"`                // what translates
}

// Unneeded is a rule that nothing needs any more.
type Unneeded struct {
	Of    design.ID `json:"of"`
	Title string    `json:"title"`
	Why   string    `json:"why"`
}

// Of lists who sees whom as what, in canonical order.
func Of(t *route.Tables) Ledger {
	d := t.Design
	l := Ledger{
		Ranges: []Known{}, Hidden: []Hidden{}, Services: []Service{}, Pools: Pools(t), Parties: []PartyNamed{},
		Unneeded: []Unneeded{},
	}
	for _, box := range boxesOf(d) {
		for _, x := range route.Translations(d, box) {
			switch {
			case x.Does == design.OneToOne && x.Hook == design.Prerouting:
				l.Ranges = append(l.Ranges, l.knownAs(t, box, x))
			case x.Hook == design.Postrouting && (x.Does == design.FromPool || x.Does == design.OwnAddress) &&
				!x.Dialled.IsValid():
				l.Hidden = append(l.Hidden, hiddenBehind(t, box, x))
			}
		}
	}
	for o, body := range design.Each[design.Attachment](d.Of(design.KindAttachment)) {
		if a := body; a.Pool != "" {
			l.Hidden = append(
				l.Hidden,
				Hidden{
					At: o.ID, AtTitle: "the attachment to " + d.Title(o.Parent), Party: a.What, Title: d.Title(a.What),
					Ranges: prefix.Free(d.Ranges(a.What), d.AttachmentExports(o)), As: d.Ranges(a.Pool),
					Toward: d.Title(o.Parent), Only: []netip.Prefix{},
				},
			)
		}
	}
	for _, o := range d.Of(design.KindListener) {
		l.Services = append(l.Services, serviceOf(t, o))
	}
	l.parties(d)
	l.Unneeded = UnneededOf(t)
	return l
}

// boxesOf are all gateways and boxes in canonical order.
func boxesOf(d *design.Design) []design.ID {
	var out []design.ID
	for _, k := range []design.Kind{design.KindGateway, design.KindBox} {
		for _, o := range d.Of(k) {
			out = append(out, o.ID)
		}
	}
	return out
}

func titleOf(d *design.Design, id design.ID) string {
	if id == "" {
		return ""
	}
	return d.Title(id)
}

func (l *Ledger) knownAs(t *route.Tables, box design.ID, x route.Translation) Known {
	d := t.Design
	k := Known{
		Of: x.Of, At: box, AtTitle: d.Title(box), Party: d.Party(box).ID, Real: x.Real, Mapped: x.Into,
		Toward: titleOf(d, x.From), Hosts: []walk.Identity{}, Viewers: []design.ID{},
	}
	k.Title = k.AtTitle
	for _, p := range d.Inside(k.Party, design.HostPlaces...) {
		if slices.ContainsFunc(d.Ranges(p.ID), func(r netip.Prefix) bool { return r.Overlaps(x.Real) }) {
			k.Title = d.Title(p.ID)
		}
		for host, body := range design.Each[design.Endpoint](d.Inside(p.ID, design.KindEndpoint)) {
			for _, a := range body.Addresses {
				switch {
				case !x.Real.Contains(a):
				case l.listed == mostHosts:
					l.Left++
				default:
					l.listed++
					k.Hosts = append(k.Hosts, walk.IdentityOf(t, host, a))
				}
			}
		}
	}
	first := prefix.FirstHost(x.Real)
	if l.listed < mostHosts {
		k.Viewers = append(k.Viewers, walk.Viewers(t, x.Mapped(first, false), x.Of)...)
	}
	k.Sum = fmt.Sprintf(
		"the first %d bits change and the rest stays: %s is %s", x.Real.Bits(), first, x.Mapped(first, false),
	)
	if x.Neutral && x.Real.Addr().Is6() {
		k.Sum = fmt.Sprintf(
			"the first %d bits change, and one word of the rest so that checksums stay (RFC 6296): %s is %s",
			x.Real.Bits(), first, x.Mapped(first, false),
		)
	}
	return k
}

func hiddenBehind(t *route.Tables, box design.ID, x route.Translation) Hidden {
	d := t.Design
	h := Hidden{
		At: box, AtTitle: d.Title(box), Party: d.Party(box).ID, Ranges: orEmpty(x.Source), Toward: titleOf(d, x.Toward),
		Only: orEmpty(x.Destination), As: []netip.Prefix{},
	}
	h.Title = d.Party(box).Name
	if x.Does == design.FromPool {
		h.As = append(h.As, x.Into)
		return h
	}
	hop := route.Hop{}
	if j := d.Get(x.Toward); j != nil {
		hop = route.Into(j)
	}
	if p := t.Point(box); p != nil {
		a := t.OwnAddress(p, hop, nil, netip.IPv4Unspecified())
		for _, s := range p.Selectors {
			if s.Link == x.Toward {
				a = t.OwnToward(p, s.Link, s.Remote.Addr())
			}
		}
		if a.IsValid() {
			h.As = append(h.As, prefix.Alone(a.Addr))
		}
	}
	return h
}

func orEmpty(ps []netip.Prefix) []netip.Prefix { return append([]netip.Prefix{}, ps...) }

func serviceOf(t *route.Tables, o *design.Object) Service {
	d := t.Design
	l := o.Body.(*design.Listener)
	s := Service{
		ID: o.ID, Name: o.Name, Party: d.Party(l.At).ID, Chain: []Link{}, Callers: orEmpty(l.Callers), Answers: true,
	}
	if v := t.Status.Of(o.ID); !v.Up {
		s.Down = v.Why
	}
	for at := l; at != nil; {
		to, port := d.DialOf(at)
		how := "proxied"
		if !at.Proxies() {
			how = "rewritten"
			if at.Hides {
				how = "rewritten, callers hidden"
			}
		}
		s.Chain = append(s.Chain, Link{d.Title(at.At), at.Address, at.Service.String(), how, to, port})
		next, ok := d.Get(at.Target).Body.(*design.Listener)
		if !ok || len(s.Chain) > 16 {
			break
		}
		at = next
	}
	if e := walk.TargetOf(d, l); e != nil {
		s.Target, s.Title = e.ID, d.Title(e.Parent)+" "+e.Name
		answers := e.Body.(*design.Endpoint).Answers
		s.Answers = len(answers) == 0 || slices.Contains(answers, walk.Answering(d, l))
	}
	return s
}

// EntriesOf lists every named host under every name but its own, as one party sees
// it or all do.
func EntriesOf(t *route.Tables, viewer design.ID) []Entry {
	out := []Entry{}
	d := t.Design
	for o, body := range design.Each[design.Endpoint](d.Of(design.KindEndpoint)) {
		for _, a := range body.Addresses {
			if len(walk.OtherNames(t, o, a)) == 0 {
				continue
			}
			who := walk.IdentityOf(t, o, a)
			for _, n := range who.Names[1:] {
				for _, by := range n.Parties {
					if viewer != "" && by != viewer {
						continue
					}
					e := Entry{
						Viewer: d.Title(by), Host: who.Title, Party: d.Party(o.ID).Name, Real: a, Seen: n.Address,
					}
					e.By = titleOf(d, cmp.Or(n.Mapping, n.Listener))
					if n.Listener != "" {
						e.Service = n.Service.String()
					}
					out = append(out, e)
				}
			}
		}
	}
	return out
}

// Viewers are the kinds of party that have hosts, and so a point of view.
var Viewers = []design.Kind{design.KindSite, design.KindNetwork}

// Looks reports whether an object is a party with a point of view; nil is none.
func Looks(o *design.Object) bool { return o != nil && slices.Contains(Viewers, o.Kind) }

// View is what one party dials to reach named hosts of others.
type View struct {
	Viewer design.ID  `json:"viewer"`
	Hosts  []SeenHost `json:"hosts"`
	Left   int        `json:"left"` // hosts that it reaches and that are not listed, where there are very many
	// Unreached are the named hosts to which its tables lead under no name.
	Unreached int `json:"unreached"`
}

// SeenHost is a host with the names under which a party reaches it.
type SeenHost struct {
	Host  design.ID   `json:"host"`
	Title string      `json:"title"`
	Party design.ID   `json:"party"`
	Real  netip.Addr  `json:"real"`
	Names []walk.Name `json:"names"` // those by a translation first
}

// mostSeen bounds how many hosts a view lists.
const mostSeen = 500

// ViewOf is the ledger from one party's point of view.
func ViewOf(t *route.Tables, viewer design.ID) View {
	d := t.Design
	v := View{Viewer: viewer, Hosts: []SeenHost{}}
	for o, body := range design.Each[design.Endpoint](d.Of(design.KindEndpoint)) {
		for _, a := range body.Addresses {
			if d.Party(o.ID).ID == viewer {
				continue
			}
			switch names := walk.NamesFor(t, viewer, o, a); {
			case len(names) == 0:
				v.Unreached++
			case len(v.Hosts) == mostSeen:
				v.Left++
			default:
				v.Hosts = append(v.Hosts, SeenHost{o.ID, d.Title(o.Parent) + " " + o.Name, d.Party(o.ID).ID, a, names})
			}
		}
	}
	translated := func(h SeenHost) int { // those first
		if h.Names[0].Address != h.Real {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(v.Hosts, func(a, b SeenHost) int { return cmp.Compare(translated(a), translated(b)) })
	return v
}

func (l *Ledger) parties(d *design.Design) {
	seen := map[design.ID]bool{}
	for _, k := range l.Ranges {
		seen[k.Party] = true
		for _, v := range k.Viewers {
			seen[v] = true
		}
	}
	for _, h := range l.Hidden {
		seen[h.Party] = true
	}
	for _, s := range l.Services {
		seen[s.Party] = true
	}
	for _, o := range d.Inside("", design.Parties...) {
		if looks := Looks(o); looks || seen[o.ID] {
			l.Parties = append(l.Parties, PartyNamed{o.ID, o.Name, looks})
		}
	}
}

// Asked is everything that an address, a range or a name can mean.
type Asked struct {
	Hosts  []walk.Identity `json:"hosts"`
	Ranges []Known         `json:"ranges"` // of which it is a part, really or mapped, with what becomes of it
	Hidden []Hidden        `json:"hidden"` // behind whose address others hide
	Part   []PartOf        `json:"part"`
}

// PartOf is what becomes of an asked range in a mapped one.
type PartOf struct {
	Of    design.ID    `json:"of"`
	Asked netip.Prefix `json:"asked"`
	Is    netip.Prefix `json:"is"`
	Word  string       `json:"word"` // really, or mapped
}

// Ask looks an address, a range or a host's name up, both ways.
func Ask(t *route.Tables, text string) (Asked, error) {
	out := Asked{Hosts: []walk.Identity{}, Ranges: []Known{}, Hidden: []Hidden{}, Part: []PartOf{}}
	text = strings.TrimSpace(text)
	p, err := prefix.ParseAsked(text)
	if err != nil {
		found := t.Design.Find(text, design.KindEndpoint)
		if len(found) == 0 {
			return out, fmt.Errorf(
				"%q is no address or range, and no host has that name; write one such as 192.168.216.17, 10.223.0.0/24 or "+
					"glasshouse/controller",
				text,
			)
		}
		for _, o := range found {
			for _, a := range o.Body.(*design.Endpoint).Addresses {
				out.Hosts = append(out.Hosts, walk.IdentityOf(t, o, a))
			}
		}
		return out, nil
	}
	if p.IsSingleIP() {
		out.Hosts = walk.Identities(t, p.Addr())
	}
	l := Of(t)
	for _, k := range l.Ranges {
		real, mapped := prefix.TranslatePrefix(p, k.Real, k.Mapped), prefix.TranslatePrefix(p, k.Mapped, k.Real)
		if real.IsValid() && !p.IsSingleIP() {
			out.Part = append(out.Part, PartOf{k.Of, p, real, "is seen as"})
		}
		if mapped.IsValid() && !p.IsSingleIP() {
			out.Part = append(out.Part, PartOf{k.Of, p, mapped, "is really"})
		}
		if real.IsValid() || mapped.IsValid() || p.Overlaps(k.Real) || p.Overlaps(k.Mapped) {
			out.Ranges = append(out.Ranges, k)
		}
	}
	for _, h := range l.Hidden {
		if slices.ContainsFunc(h.As, p.Overlaps) || slices.ContainsFunc(h.Ranges, p.Overlaps) {
			out.Hidden = append(out.Hidden, h)
		}
	}
	return out, nil
}

// Rows are entries as a table.
func Rows(entries []Entry) (header []string, rows [][]string) {
	header = []string{"seen by", "host", "party", "real", "seen as", "service", "by"}
	for _, e := range entries {
		rows = append(rows, []string{e.Viewer, e.Host, e.Party, e.Real.String(), e.Seen.String(), e.Service, e.By})
	}
	return header, rows
}
