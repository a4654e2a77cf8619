package rehearsal

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/walk"
	"dravin/core/words"
)

// Sent is what came of a flow.
type Sent struct {
	Answered bool
	By       string     // the node that answered; empty for icmp
	Source   netip.Addr // whom that saw
	Asked    netip.Addr // under which address it was asked
	Largest  int        // the largest segment of TCP of which it was told, in bytes; 0: not asked
	Error    string     // of whoever sent it
}

// CheckKind is what a check is about.
type CheckKind string

// The kinds of checks.
const (
	TunnelCheck  CheckKind = "tunnel"
	SessionCheck CheckKind = "session"
	TableCheck   CheckKind = "table"
	FlowCheck    CheckKind = "flow"
	DrillCheck   CheckKind = "drill"
	StepCheck    CheckKind = "step"
	TermsCheck   CheckKind = "terms"
)

// CheckKinds are all, with what they mean.
var CheckKinds = []words.Coded[CheckKind]{
	{
		Code: TunnelCheck, Title: "tunnel", Doc: "both IPsec daemons hold child SAs, or do not, as the proof says",
	},
	{
		Code: SessionCheck, Title: "session", Doc: "the session is established at both ends, or is not, as the proof says",
	},
	{
		Code: TableCheck, Title: "table",
		Doc: "the kernel's table holds what its daemon is proven to learn, and nothing else",
	},
	{
		Code: TermsCheck, Title: "terms",
		Doc: "what one's own daemons agreed on and are set to is what the design says, and new keys are agreed on when asked",
	},
	{Code: FlowCheck, Title: "flow", Doc: "a packet is answered by whom the walk says, under the addresses that it says"},
	{Code: DrillCheck, Title: "drill", Doc: "as a flow, once something has been taken away"},
	{Code: StepCheck, Title: "step", Doc: "a check of a step of the runbook, or a flow after it, on the half-done estate"},
}

// Check holds one thing that was proven against what came of it.
type Check struct {
	Kind CheckKind `json:"kind" enum:"tunnel,session,table,terms,flow,drill,step"`
	ID   design.ID `json:"id,omitempty"` // of the tunnel, session, table or intent
	Name string    `json:"name"`         // in words
	// Without is what was taken away in a drill; of a step, where it is done, or after which it is.
	Without   string `json:"without,omitempty"`
	Proof     string `json:"proof"`     // what is proven
	Rehearsed string `json:"rehearsed"` // what came of it
	Same      bool   `json:"same"`
}

// Report is what a rehearsal found.
type Report struct {
	Checks   []Check    `json:"checks"`
	Leaves   []string   `json:"leaves"`   // what is not rehearsed, as sentences
	Captures []Captured `json:"captures"` // of flows, one each
	Intents  []Intent   `json:"intents"`  // each of the design's, with what was sent for it
	// Again are the tunnels that a cloud's gateway had to ask for again, having been refused once at boot: they are up
	// all the same, and no difference.
	Again     []string `json:"again"`
	Seconds   float64  `json:"seconds"`    // that it took
	Parties   int      `json:"parties"`    // that have something in it
	Nodes     int      `json:"nodes"`      // namespaces
	MemoryMiB int      `json:"memory_mib"` // that it took at most
	// Late says how late the machine was with what it had to do; empty if it kept up. A difference may come of that.
	Late string `json:"late,omitempty"`
	// Means says what the differences mean; empty if there are none.
	Means string `json:"means,omitempty"`
}

// Begin is the report of a plan before anything is found.
func Begin(p *Plan) *Report {
	return &Report{
		Checks: []Check{}, Captures: []Captured{}, Again: []string{}, Leaves: append([]string{}, p.Leaves...),
		Nodes: len(p.Nodes), Parties: p.Parties(), Intents: append([]Intent{}, p.Intents...),
	}
}

// Captured is what was captured of a flow at every device of every node, as pcapng.
type Captured struct {
	Flow    string `json:"flow"`
	From    string `json:"from"`
	To      string `json:"to"` // what was dialled
	Service string `json:"service"`
	File    []byte `json:"file"`
}

// Differences are the checks of which proof and rehearsal are not the same.
func (r *Report) Differences() (out []Check) {
	for _, c := range r.Checks {
		if !c.Same {
			out = append(out, c)
		}
	}
	return out
}

// HoldTunnel holds a tunnel.
func HoldTunnel(w Wire, up bool) Check {
	return Check{
		Kind: TunnelCheck, ID: w.Tunnel, Name: w.Name, Proof: stands(w.Up, w.Why), Rehearsed: stands(up, ""),
		Same: w.Up == up,
	}
}

// HoldSession holds a session.
func HoldSession(s Session, up bool) Check {
	return Check{
		Kind: SessionCheck, ID: s.ID, Name: s.Name, Proof: stands(s.Up, s.Why), Rehearsed: stands(up, ""), Same: s.Up == up,
	}
}

func stands(up bool, why string) string {
	switch {
	case up:
		return "up"
	case why != "":
		return "down: " + why
	}
	return "down"
}

// HoldTable holds what a table has learned and what it sends into links, each range with the devices that it leads
// into. got is what a daemon has brought, and set what a script has.
func HoldTable(t Table, got, set []Learned) Check {
	c := Check{
		Kind: TableCheck, ID: t.At, Name: t.Title, Proof: told(t.Learned, t.Sent), Same: len(got) == len(t.Learned),
	}
	for _, l := range t.Learned {
		c.Same = c.Same && leads(l, got, t.Shares)
	}
	var sent []Learned
	for _, l := range t.Sent {
		c.Same = c.Same && leads(l, set, true)
		if n := slices.IndexFunc(set, func(x Learned) bool { return x.Prefix == l.Prefix }); n >= 0 {
			sent = append(sent, set[n])
		}
	}
	c.Rehearsed = told(got, sent)
	return c
}

// leads reports whether a range leads into the devices that it may lead into: into each of them, or into some.
func leads(l Learned, got []Learned, all bool) bool {
	n := slices.IndexFunc(got, func(x Learned) bool { return x.Prefix == l.Prefix })
	return n >= 0 && within(got[n].Devices, l.Devices) && (!all || within(l.Devices, got[n].Devices))
}

func within(some, all []string) bool {
	return !slices.ContainsFunc(some, func(d string) bool { return !slices.Contains(all, d) })
}

func told(learned, sent []Learned) string {
	if len(sent) == 0 {
		return ranges(learned)
	}
	return ranges(learned) + "; sent: " + ranges(sent)
}

func ranges(list []Learned) string {
	if len(list) == 0 {
		return "nothing"
	}
	var out []string
	for _, l := range list {
		out = append(out, fmt.Sprintf("%s by %s", l.Prefix, strings.Join(slices.Sorted(slices.Values(l.Devices)), ", ")))
	}
	return strings.Join(out, "; ")
}

// HoldFlow holds a flow against all ways of its walk: nobody can say which of equal routes a kernel takes. nodes are
// those of the plan.
func (p *Plan) HoldFlow(t *route.Tables, f Flow, got Sent) Check {
	c := Check{Kind: FlowCheck, ID: f.Intent, Name: f.Title, Rehearsed: p.saw(got)}
	if f.Largest > 0 && got.Largest > 0 {
		c.Rehearsed += fmt.Sprintf(", told of segments of %d bytes", got.Largest)
	}
	for w := range ways(t, f) {
		said := p.told(w)
		if f.Largest > 0 && w.Works {
			said += fmt.Sprintf(", told of segments of at most %d bytes", f.Largest)
		}
		if c.Proof == "" || p.fits(t.Design, w, f, got) {
			c.Proof, c.Same = said, p.fits(t.Design, w, f, got)
		}
		if c.Same {
			break
		}
	}
	return c
}

func ways(t *route.Tables, f Flow) iter.Seq[walk.Proof] { return walk.Ways(t, f.Flow) }

func (p *Plan) saw(s Sent) string {
	switch {
	case !s.Answered:
		return "no answer (" + s.Error + ")"
	case s.By == "":
		return "answered"
	}
	return fmt.Sprintf("%s answered, asked at %s by %s", p.titleOf(s.By), s.Asked, s.Source)
}

func (p *Plan) told(w walk.Proof) string {
	if !w.Works {
		if w.Stop == nil {
			return "no answer"
		}
		return "no answer: " + w.Stop.Why
	}
	last := w.Forward[len(w.Forward)-1]
	if last.Header.Proto == "icmp" {
		return "answered"
	}
	return fmt.Sprintf("%s answers, asked at %s by %s", last.At.Title, last.Header.Dst, last.Header.Src)
}

func (p *Plan) titleOf(node string) string {
	for _, n := range p.Nodes {
		if n.Name == node {
			return n.Title
		}
	}
	return node
}

// fits reports whether what came of a flow is what one of its ways says.
func (p *Plan) fits(d *design.Design, w walk.Proof, f Flow, got Sent) bool {
	host := p.answers(d, w)
	if elsewhere(w) && !got.Answered {
		return true // whoever it comes to may not know the way back
	}
	if host == nil || !got.Answered || f.Service.Proto == "icmp" {
		return (host != nil) == got.Answered
	}
	last := w.Forward[len(w.Forward)-1].Header
	return host.Name == got.By && got.Asked == last.Dst && same(d, got.Source, last.Src) &&
		(f.Largest == 0 || got.Largest <= f.Largest)
}

// answers is the host that answers by a walk; nil if none does: a walk does not ask whether anything listens. Of
// several that have an address a flow means one, and another one that it comes to answers all the same.
func (p *Plan) answers(d *design.Design, w walk.Proof) *Node {
	other := elsewhere(w)
	if !w.Works && !other || len(w.Forward) == 0 {
		return nil
	}
	last := w.Forward[len(w.Forward)-1]
	for _, n := range p.Nodes {
		meant := n.ID == w.To.ID || n.Place == w.To.ID
		here := n.ID == last.At.ID || n.Place == last.At.ID ||
			other && !meant && last.At.Kind != design.KindLAN && n.Party == d.Party(last.At.ID).ID
		if n.Role != HostRole || !here || !slices.Contains(n.Addresses, last.Header.Dst) {
			continue
		}
		if last.Header.Proto == "icmp" || len(n.Answers) == 0 ||
			slices.Contains(n.Answers, design.Service{Proto: last.Header.Proto, Port: last.Header.DPort}) {
			return n
		}
	}
	return nil
}

// elsewhere reports whether a packet comes to another than who was meant.
func elsewhere(w walk.Proof) bool { return w.Stop != nil && w.Stop.Code == walk.OnLinkElsewhere }

// same allows for what nobody can foretell: which of several tunnels' inside addresses, or which address of a pool, a
// conversation gets.
func same(d *design.Design, got, told netip.Addr) bool {
	if got == told {
		return true
	}
	for _, k := range []design.Kind{design.KindGateway, design.KindBox} {
		for _, o := range d.Of(k) {
			for _, r := range design.RulesOf(o) {
				if r.Does == design.FromPool && r.Into.Contains(got) && r.Into.Contains(told) {
					return true
				}
			}
		}
	}
	of := func(link *design.Object, a netip.Addr) bool {
		return slices.ContainsFunc(d.Tunnels(link.ID), func(t *design.Object) bool {
			return slices.ContainsFunc(t.Body.(*design.Tunnel).Inside, func(x netip.Prefix) bool { return x.Addr() == a })
		})
	}
	return slices.ContainsFunc(d.Of(design.KindLink), func(l *design.Object) bool { return of(l, got) && of(l, told) })
}
