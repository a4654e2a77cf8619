package rehearsal

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/walk"
)

// Term is one thing on which a daemon has agreed with another, or to which it or a kernel is set.
type Term struct{ Name, Value string }

// The names of terms of a tunnel, as the daemon of one's own box has them.
const (
	IKEVersion   = "IKE version"
	IKESA        = "IKE SA" // its algorithms (RFC 7296 section 3.3)
	OwnIdentity  = "own identity"
	FarIdentity  = "far identity"
	IKELifetime  = "IKE SA is renewed after"
	DeadAfter    = "asks whether the far end lives after"
	ESPSA        = "ESP SA" // its algorithms, once it was renewed: the first has no group of its own
	ESPLifetime  = "ESP SA is renewed after"
	OnSilence    = "when the far end is silent"
	OnClose      = "when the far end closes it"
	Selectors    = "selectors" // of a policy-based tunnel (RFC 4301 section 4.4.1)
	InterfaceIDs = "if_id of the SA, and of its interface"
	InterfaceMTU = "MTU"
	Renewal      = "renewal" // one that is forced
)

// The names of terms of a session, as the daemon of one's own box has them.
const (
	OwnASN    = "own ASN"
	FarASN    = "far ASN"
	HoldTime  = "hold time" // as negotiated (RFC 4271 section 4.2)
	Keepalive = "keepalive"
	Families  = "families"
	Limits    = "limits" // of prefixes, by family
)

// Restarts is what a daemon that starts a tunnel does when the far end is silent, in its own word.
const Restarts = "start"

// None is the value of a term that is not there.
const None = "none"

// Renewed are the values of the term of a forced renewal.
var Renewed = map[bool]string{true: "done", false: "refused"}

// tunnelTerms are those of one's own end of a tunnel that is proven to be up; none of any other. renewed are the
// algorithms of its ESP SA once that was renewed.
func (b *builder) tunnelTerms(end int, l *box.Link, own box.Tunnel, renewed string) []Term {
	out := b.proven.Status.Tunnel(own.ID)
	if !b.proven.Status.Of(own.ID).Up {
		return nil
	}
	seconds := func(s uint32) string { return fmt.Sprintf("%d s", s) }
	silent := None
	if own.Starts {
		silent = Restarts
	}
	near := [2][]netip.Prefix{out.Local, out.Remote}
	id, mtu, ranges := None, "", PairsOf(near[end], near[1-end])
	if l.Routed() {
		ranges = ""
		id = fmt.Sprintf("%d, %d, %d", own.Number, own.Number, own.Number)
		if own.Set.MTU != 0 {
			mtu = fmt.Sprint(own.Set.MTU)
		}
	}
	terms := []Term{
		{IKEVersion, fmt.Sprint(out.Version)}, {IKESA, out.IKE.String()}, {OwnIdentity, own.Set.Identity},
		{FarIdentity, own.Set.PeerIdentity}, {IKELifetime, seconds(own.Set.IKELife)},
		{DeadAfter, seconds(own.Set.DPD)}, {ESPLifetime, seconds(own.Set.ChildLife)}, {OnSilence, silent}, {OnClose, silent},
		{Selectors, ranges},
		{InterfaceIDs, id}, {Renewal, Renewed[out.Renews]},
	}
	if out.Renews {
		terms = append(terms, Term{ESPSA, renewed})
	}
	return append(terms, Term{InterfaceMTU, mtu})
}

// terms notes what the daemons of a wire's own ends must come to, and which of them forces a renewal.
func (b *builder) terms(w *Wire, links [2]*box.Link, ends [2]box.Tunnel) {
	w.Renews = slices.IndexFunc(w.Ends[:], func(e WireEnd) bool { return b.role(e.Node) == OwnBox })
	if w.Renews < 0 {
		return
	}
	esp := renewedESP(ends[w.Renews], ends[1-w.Renews])
	for k := range w.Ends {
		if b.role(w.Ends[k].Node) == OwnBox {
			w.Ends[k].Terms = b.tunnelTerms(k, links[k], ends[k], esp)
		}
	}
}

// Pairs are how many child SAs a wire is to have: one for each pair of selectors, or one.
func (w Wire) Pairs() int {
	for _, e := range w.Ends {
		for _, t := range e.Terms {
			if t.Name == Selectors && t.Value != "" {
				return strings.Count(t.Value, ", ") + 1
			}
		}
	}
	return 1
}

func (b *builder) role(node string) Role {
	n := slices.IndexFunc(b.plan.Nodes, func(n *Node) bool { return n.Name == node })
	return b.plan.Nodes[n].Role
}

// renewedESP are the algorithms of an ESP SA that one end has renewed: the other picks.
func renewedESP(renews, picks box.Tunnel) string {
	asks, err := negotiate.ParseProposals(negotiate.ESP, renews.Set.ESP)
	answers, wrong := negotiate.ParseProposals(negotiate.ESP, picks.Set.ESP)
	if err != nil || wrong != nil {
		return ""
	}
	c, _ := negotiate.Choose(answers, asks, true)
	return c.String()
}

// sessionTerms are those of one's own end of a session that is proven to be up; none of any other.
func (b *builder) sessionTerms(s box.Session) []Term {
	if !b.proven.Status.Of(s.ID).Up {
		return nil
	}
	out := b.proven.Status.Session(s.ID)
	var limits []string
	for _, f := range prefix.Families {
		if slices.Contains(out.Families, f.Code()) && s.Near.MaxPrefixes > 0 {
			limits = append(limits, fmt.Sprintf("%s %d", f.Code(), s.Near.MaxPrefixes))
		}
	}
	return []Term{
		{OwnASN, fmt.Sprint(s.Set.ASN)}, {FarASN, fmt.Sprint(s.Set.PeerASN)}, {HoldTime, fmt.Sprintf("%d s", out.Hold)},
		{Keepalive, fmt.Sprintf("%d s", out.Hold/3)},
		{Families, strings.Join(slices.Sorted(slices.Values(out.Families)), ", ")},
		{Limits, orNone(strings.Join(limits, ", "))},
	}
}

func orNone(text string) string {
	if text == "" {
		return None
	}
	return text
}

// HoldTerms holds what a daemon has agreed on and is set to. What no value is expected of is not held.
func HoldTerms(id design.ID, name string, want []Term, got map[string]string) Check {
	c := Check{Kind: TermsCheck, ID: id, Name: name, Same: true}
	var proof, rehearsed, wrong []string
	for _, t := range want {
		if t.Value == "" {
			continue
		}
		proof = append(proof, t.Name+": "+t.Value)
		has := orNone(got[t.Name])
		rehearsed = append(rehearsed, t.Name+": "+has)
		same := has == t.Value
		if t.Name == OwnIdentity || t.Name == FarIdentity {
			same = negotiate.SameIdentity(has, t.Value)
		}
		if !same {
			wrong = append(wrong, t.Name+": "+has+", and not "+t.Value)
			c.Same = false
		}
	}
	c.Proof, c.Rehearsed = strings.Join(proof, "; "), strings.Join(rehearsed, "; ")
	if !c.Same {
		c.Rehearsed = strings.Join(wrong, "; ")
	}
	return c
}

// largest is the largest segment of which whoever is asked by TCP may be told, in bytes: a box of one's own on the way
// there lowers it to what fits into the interface of its tunnel (RFC 9293 section 3.7.1). 0 if none does.
func (b *builder) largest(f Flow) (least int) {
	if f.Service.Proto != "tcp" || !f.Proof.Works || slices.ContainsFunc(f.Proof.Forward, proxied) {
		return 0
	}
	for _, l := range walk.MeasureOf(b.proven, f.Flow, f.Proof).There.Legs {
		o, n := b.proven.Design.Get(l.Joint), b.nodes[l.Before.ID]
		if o == nil || n == nil || n.Role != OwnBox {
			continue
		}
		if body, ok := o.Body.(*design.Link); !ok || body.Routing == design.RoutingSelectors {
			continue
		}
		if size := negotiate.MSS(l.MTU, f.To.Is6()); least == 0 || size < least {
			least = size
		}
	}
	return least
}

// proxied reports whether a connection ends at a stage and another one goes on.
func proxied(s walk.Stage) bool { return s.Act == walk.Proxies }

// PairsOf are the pairs of some local and some remote ranges of one family, in order, as words.
func PairsOf(local, remote []netip.Prefix) string {
	var out []string
	for _, l := range local {
		for _, r := range remote {
			if l.Addr().Is4() == r.Addr().Is4() {
				out = append(out, l.String()+" to "+r.String())
			}
		}
	}
	slices.Sort(out)
	return strings.Join(slices.Compact(out), ", ")
}
