package finding

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/link"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/provider"
)

// collector gathers findings of one kind of thing.
type collector struct {
	d       *design.Design
	out     []Finding
	drafted int // how many mends were drafted that look through the whole design
}

// mostDrafted bounds the mends that are drafted ahead of asking: each looks
// through the whole design for what is free.
const mostDrafted = 40

// drafts reports whether one more such mend is worked out.
func (c *collector) drafts() bool {
	c.drafted++
	return c.drafted <= mostDrafted
}

func (c *collector) add(code string, s Severity, subject design.ID, mends []Mend, sentence string, args ...any) *Finding {
	if mends == nil {
		mends = []Mend{}
	}
	c.out = append(c.out, Finding{Code: code, Severity: s, Subjects: []design.ID{subject}, Sentence: fmt.Sprintf(sentence, args...), Evidence: []string{}, Mends: mends})
	return &c.out[len(c.out)-1]
}

// inUse is how bad it is that something does not work: less while it is only
// being drafted or built.
func inUse(o *design.Object) Severity {
	if design.StateOf(o) == design.Ready {
		return Broken
	}
	return Risk
}

// ofLinks finds what keeps tunnels and sessions from coming up or from staying
// up.
func ofLinks(d *design.Design) []Finding {
	c := &collector{d: d}
	for _, o := range d.Of(design.KindLink) {
		if !design.Carries(design.StateOf(o)) {
			continue
		}
		tunnels := d.Inside(o.ID, design.KindTunnel)
		for _, t := range tunnels {
			c.ends(o, t)
			c.proposals(o, t)
			c.insideAllowed(o, t)
		}
		c.strands(o, tunnels)
	}
	c.insideTwice()
	for _, o := range d.Of(design.KindSession) {
		c.session(o)
	}
	c.asns()
	for _, o := range d.Of(design.KindGateway) {
		c.gateway(o)
	}
	return c.out
}

// ends compares the two ends of a tunnel.
func (c *collector) ends(o, t *design.Object) {
	policy := o.Body.(*design.Link).Routing == design.RoutingSelectors
	ends := link.SettingsOf(c.d, t, "")
	outcome := negotiate.Agree(ends[0], ends[1])
	var differing []link.Line
	for _, l := range link.Lines(c.d, t, [2]string{}) {
		switch {
		case l.Verdict == link.Unknown && strings.HasPrefix(l.Key, "address") && design.StateOf(o) != design.Drafted:
			c.add("address-unknown", Risk, t.ID, nil, "%s of %s is not known yet: %s", l.Label, title(c.d, t), l.Why)
		case l.Verdict == link.Beware && strings.HasSuffix(l.Key, "-life"):
			c.add("lifetimes-differ", Untidy, t.ID, mendsOf(l), "the %s of %s differs, %s against %s: %s", lower(l.Label), title(c.d, t), l.Values[0], l.Values[1], l.Why)
		case l.Verdict == link.Beware && l.Key == "mtu":
			c.add("mtu-too-large", Risk, t.ID, mendsOf(l), "the MTU of %s is too large: %s", title(c.d, t), l.Why)
		case l.Verdict == link.Differs && !(policy && strings.HasPrefix(l.Key, "selectors")) && !strings.HasPrefix(l.Key, "bgp") && !strings.HasPrefix(l.Key, "asn"):
			differing = append(differing, l)
		}
	}
	if len(differing) == 0 {
		return
	}
	severity := inUse(o)
	if outcome.Up && outcome.Renews {
		severity = Risk
	}
	f := c.add("ends-differ", severity, t.ID, nil, "the two ends of %s differ in %s: %s", title(c.d, t), wordsOf(differing), outcome.Why)
	for _, l := range differing {
		f.Evidence = append(f.Evidence, fmt.Sprintf("%s: %s against %s", l.Label, l.Values[0], l.Values[1]))
		f.Mends = append(f.Mends, mendsOf(l)...)
	}
}

func title(d *design.Design, tunnel *design.Object) string {
	return d.Get(tunnel.Parent).Name + ", " + tunnel.Name
}

func wordsOf(lines []link.Line) string {
	words := make([]string, len(lines))
	for n, l := range lines {
		words[n] = l.Label
	}
	return strings.Join(words, ", ")
}

func lower(s string) string {
	if strings.HasPrefix(s, "IKE") || s == "" {
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}

func mendsOf(l link.Line) []Mend {
	out := []Mend{}
	for _, m := range l.Mends {
		out = append(out, Mend{Title: m.Title + " (" + lower(l.Label) + ")", Edits: m.Edits})
	}
	return out
}

// proposals finds weak ones that an end is set to offer.
func (c *collector) proposals(o, t *design.Object) {
	for n, s := range link.SettingsOf(c.d, t, "") {
		for _, offer := range []struct {
			proto negotiate.Protocol
			list  []string
		}{{negotiate.IKE, s.IKE}, {negotiate.ESP, s.ESP}} {
			var weak, fit []string
			why := ""
			for _, text := range offer.list {
				p, err := negotiate.ParseProposal(offer.proto, text)
				switch {
				case err != nil: // the two ends differ then, which is said elsewhere
				case p.Weak() != "":
					weak, why = append(weak, text), p.Weak()
				default:
					fit = append(fit, text)
				}
			}
			if len(weak) == 0 {
				continue
			}
			if len(fit) == 0 {
				fit = negotiate.Strong.IKE[:2]
				if offer.proto == negotiate.ESP {
					fit = negotiate.Strong.ESP[:2]
				}
			}
			end := link.EndTitle(c.d, o.Body.(*design.Link), n)
			c.add("weak-proposal", Risk, t.ID, []Mend{{Title: fmt.Sprintf("Let %s offer %s for %s only", end, strings.Join(fit, ", "), offer.proto), Edits: link.SetOffer(t, n, offer.proto, fit)}},
				"%s offers a weak %s proposal on %s, %s: %s", end, offer.proto, title(c.d, t), strings.Join(weak, ", "), why)
		}
	}
}

// insideAllowed holds inside addresses against what the ends' profiles take.
func (c *collector) insideAllowed(o, t *design.Object) {
	b := t.Body.(*design.Tunnel)
	if len(b.Inside) != 2 {
		return
	}
	for _, e := range o.Body.(*design.Link).Ends {
		v := c.d.VPNOf(e.Gateway)
		if v == nil || len(v.Inside.Within) == 0 {
			continue
		}
		p := b.Inside[0].Masked()
		why := ""
		switch {
		case !slices.ContainsFunc(v.Inside.Within, func(w netip.Prefix) bool { return w.Contains(p.Addr()) }):
			why = "lies outside what its gateway takes"
		case slices.ContainsFunc(v.Inside.Reserved, p.Overlaps):
			why = "lies in a range that the cloud keeps for itself"
		case p.Bits() != int(v.Inside.Bits):
			why = fmt.Sprintf("is not a /%d, which its gateway wants", v.Inside.Bits)
		}
		if why != "" {
			c.add("inside-not-allowed", inUse(o), t.ID, c.otherInside(o, t), "the inside range %s of %s %s (%s)", p, title(c.d, t), why, c.d.Title(e.Gateway))
		}
	}
}

// otherInside mends by a free inside range.
func (c *collector) otherInside(o, t *design.Object) []Mend {
	if !c.drafts() {
		return nil
	}
	ends := o.Body.(*design.Link).Ends
	var rules [2]*provider.Inside
	for n, e := range ends {
		if v := c.d.VPNOf(e.Gateway); v != nil {
			rules[n] = &v.Inside
		}
	}
	ranges, err := link.InsideRanges(rules[0], rules[1], link.Taken(c.d), 1)
	if err != nil {
		return nil
	}
	return []Mend{{Title: "Use the free inside range " + ranges[0].String(), Edits: link.SetInside(c.d, t, ranges[0])}}
}

// insideTwice finds inside ranges that two tunnels have.
func (c *collector) insideTwice() {
	var ranges []netip.Prefix
	var of []*design.Object
	for _, t := range c.d.Of(design.KindTunnel) {
		if b := t.Body.(*design.Tunnel); len(b.Inside) == 2 {
			ranges, of = append(ranges, b.Inside[0].Masked()), append(of, t)
		}
	}
	for x, y := range prefix.Pairs(ranges) {
		a, b := of[min(x, y)], of[max(x, y)]
		c.add("inside-address-twice", Risk, b.ID, c.otherInside(c.d.Get(b.Parent), b), "%s and %s both use the inside range %s", title(c.d, a), title(c.d, b), ranges[max(x, y)])
	}
}

// strands finds links with fewer tunnels than there should be.
func (c *collector) strands(o *design.Object, tunnels []*design.Object) {
	l := o.Body.(*design.Link)
	want, why := 1, ""
	for _, e := range l.Ends {
		if v := c.d.VPNOf(e.Gateway); v != nil && int(v.Tunnels) > want {
			want, why = int(v.Tunnels), fmt.Sprintf("a %s gateway of %s makes %d with each link, and one that is not set up fails at the next maintenance", v.Name, c.d.Title(e.Gateway), v.Tunnels)
		} else if g := c.d.Get(e.Gateway).Body.(*design.Gateway); v == nil && fours(g) > want {
			want, why = 2, c.d.Title(e.Gateway)+" has a second public address that could carry another"
		}
	}
	if len(tunnels) == 0 || len(tunnels) >= want {
		return
	}
	var mends []Mend
	if c.drafts() {
		if edits := link.AddStrand(c.d, o); len(edits) > 0 {
			mends = []Mend{{Title: "Add a second strand with free inside addresses", Edits: edits}}
		}
	}
	c.add("single-tunnel", Risk, o.ID, mends, "%s has %d of %d tunnels: %s", o.Name, len(tunnels), want, why)
}

func fours(g *design.Gateway) int {
	n := 0
	for _, a := range g.Addresses {
		if a.Is4() {
			n++
		}
	}
	return n
}

// session finds sessions that do not come up, and ASNs kept in two places.
func (c *collector) session(o *design.Object) {
	s := o.Body.(*design.Session)
	carrier := c.d.Get(o.Parent)
	if carrier.Kind == design.KindTunnel {
		carrier = c.d.Get(carrier.Parent)
	}
	if !design.Carries(design.StateOf(carrier)) {
		return
	}
	ends := link.SessionEndsOf(c.d, o)
	name := "the session of " + carrier.Name
	if t := c.d.Get(o.Parent); t.Kind == design.KindTunnel {
		name += ", " + t.Name
	}
	if out := negotiate.AgreeSession(ends[0], ends[1]); !out.Up {
		f := c.add("session-down", inUse(carrier), o.ID, nil, "%s does not come up: %s", name, out.Why)
		for _, l := range link.Differing(link.SessionLines(c.d, o)) {
			f.Evidence = append(f.Evidence, fmt.Sprintf("%s: %s against %s", l.Label, l.Values[0], l.Values[1]))
			f.Mends = append(f.Mends, mendsOf(l)...)
		}
	}
	for n, e := range s.Ends {
		at := link.Speaker(c.d, o, n)
		if at == nil {
			continue
		}
		if own := asnOf(at); own != 0 && own != e.ASN {
			body := design.Session{Ends: slices.Clone(s.Ends)}
			body.Ends[n].ASN = own
			c.add("asn-in-two-places", Risk, o.ID, []Mend{{Title: fmt.Sprintf("Use ASN %d in the session", own), Edits: []design.Edit{design.PutEdit(o.With(&body))}}},
				"%s has ASN %d, and %s uses %d for it", c.d.Title(at.ID), own, name, e.ASN)
		}
	}
}

func asnOf(o *design.Object) uint32 {
	switch b := o.Body.(type) {
	case *design.Gateway:
		return b.ASN
	case *design.EdgeRouter:
		return b.ASN
	}
	return 0
}

// asns finds parties that share an ASN and are joined, so that one discards
// what the other announces (RFC 4271 section 9.1.2).
func (c *collector) asns() {
	group := map[design.ID]design.ID{}
	var root func(id design.ID) design.ID
	root = func(id design.ID) design.ID {
		if up, ok := group[id]; ok && up != id {
			return root(up)
		}
		return id
	}
	for _, j := range c.d.Joins() {
		// Where routes are entered by hand, no path tells who passed it on.
		if l, ok := c.d.Get(j.By).Body.(*design.Link); !ok || l.Routing == design.RoutingBGP {
			group[root(j.A)] = root(j.B)
		}
	}
	all := link.ASNs(c.d)
	numbers := make([]uint32, 0, len(all))
	for n := range all {
		numbers = append(numbers, n)
	}
	slices.Sort(numbers)
	for _, n := range numbers {
		said := map[design.ID]int{} // where in out, by what is joined
		for k, id := range all[n] {
			at := root(id)
			switch i := slices.IndexFunc(all[n][:k], func(a design.ID) bool { return root(a) == at }); {
			case i < 0:
			case !has(said, at):
				f := c.add("asn-used-twice", Risk, id, c.otherASN(id, n), "%s and %s both have ASN %d and are joined, so each discards what comes by the other", c.d.Title(all[n][i]), c.d.Title(id), n)
				f.Subjects = []design.ID{id, all[n][i]}
				said[at] = len(c.out) - 1
			default: // one more in the same group
				f := &c.out[said[at]]
				f.Evidence, f.Subjects = append(f.Evidence, c.d.Title(id)+" has it too"), append(f.Subjects, id)
			}
		}
	}
}

func has(m map[design.ID]int, id design.ID) bool { _, ok := m[id]; return ok }

// otherASN gives everything of a party that has an ASN a free one.
func (c *collector) otherASN(party design.ID, old uint32) []Mend {
	if !c.drafts() {
		return nil
	}
	free, err := link.NextASN(c.d)
	if err != nil {
		return nil
	}
	return []Mend{{Title: fmt.Sprintf("Give %s the free ASN %d", c.d.Title(party), free), Edits: link.Renumber(c.d, party, old, free)}}
}

var faultWords = map[string]string{
	"forwarding-off":      "has forwarding off, so nothing passes through it",
	"source-check":        "checks that packets come from its own address, so nothing passes through it",
	"strict-reverse-path": "has a strict reverse-path filter, which drops what comes in by another way than it would go out",
}

// gateway finds gateways that can not do their work.
func (c *collector) gateway(o *design.Object) {
	g := o.Body.(*design.Gateway)
	for n, fault := range g.Faults {
		fixed := *g
		fixed.Faults = slices.Delete(slices.Clone(g.Faults), n, n+1)
		c.add("gateway-does-not-forward", Broken, o.ID, []Mend{{Title: "It is put right", Edits: []design.Edit{design.PutEdit(o.With(&fixed))}}}, "%s %s", c.d.Title(o.ID), faultWords[fault])
	}
	v := c.d.VPNOf(o.ID)
	if v == nil {
		return
	}
	if v.OwnSubnet > 0 && g.Subnet != "" {
		for _, p := range c.d.Ranges(g.Subnet) {
			if p.Bits() > int(v.OwnSubnet) {
				var mends []Mend
				if edits := link.LargerSubnet(c.d, o, v); edits != nil {
					mends = []Mend{{Title: fmt.Sprintf("Give it a free /%d", v.OwnSubnet), Edits: edits}}
				}
				c.add("gateway-too-small", Risk, o.ID, mends, "the subnet %s of %s is too small: its cloud wants a /%d or larger", p, c.d.Title(o.ID), v.OwnSubnet)
			}
		}
	}
	if most := c.d.ProfileOf(o.ID).Limits.Tunnels; most > 0 {
		n := 0
		for _, l := range c.d.Of(design.KindLink) {
			if _, _, _, ok := l.Body.(*design.Link).End(o.ID); ok && design.Carries(design.StateOf(l)) {
				n += len(c.d.Inside(l.ID, design.KindTunnel))
			}
		}
		if n > int(most) {
			c.add("gateway-too-small", Risk, o.ID, nil, "%s has %d tunnels, and its cloud allows %d", c.d.Title(o.ID), n, most)
		}
	}
}
