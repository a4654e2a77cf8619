package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
)

// nftables renders the ruleset of a gateway: a table of our own for each
// family, replaced as a whole, so that loading it again changes nothing and
// other rules stay. The rules are those that a walk asks, in the same order.
func nftables(b *box.Box) string {
	p := &page{}
	p.line("#!/usr/sbin/nft -f")
	if len(b.Filters)+len(b.Crossings) == 0 {
		p.head("Address translation at " + b.Title)
	} else {
		p.head("Address translation, and what may pass, at " + b.Title)
	}
	for _, f := range prefix.Families {
		r := ruleset{page: p, box: b, of: f, family: [2]string{"ip", "ip6"}[f]}
		p.line("table %s dravin {}", r.family)
		p.line("delete table %s dravin", r.family)
		p.block("table "+r.family+" dravin", r.chains)
		p.line("")
	}
	return p.String()
}

// ruleset writes the table of one family.
type ruleset struct {
	*page
	box    *box.Box
	of     prefix.Family
	family string // as the kernel's tables call it
}

// own are the ranges of the box's own party at it.
func (r ruleset) own() []netip.Prefix { return r.box.Main().Table.Own }

func (r ruleset) chains() {
	r.crossings()
	r.marks()
	r.chain("prerouting", "prerouting", "nat", "dstnat", func() { r.rules(design.Prerouting) })
	r.chain("postrouting", "postrouting", "nat", "srcnat", func() { r.rules(design.Postrouting) })
	r.chain("passing", "forward", "filter", "filter", func() {
		r.comment("encapsulation takes room: let both ends know the largest segment that fits")
		r.line("tcp flags & (syn | rst) == syn tcp option maxseg size set rt mtu")
		r.segments()
	})
	r.callers()
	r.filters()
	r.crossingFilters()
}

// segments let both ends know the largest segment where an MTU is set on a policy-based link: it has no interface that
// could have it.
func (r ruleset) segments() {
	for _, l := range r.box.Links {
		remote, mtu := r.remote(l.ID), l.MTU()
		if l.Routed() || mtu == 0 || len(remote) == 0 {
			continue
		}
		size := negotiate.MSS(mtu, r.of == prefix.IPv6)
		for _, side := range []string{"daddr", "saddr"} {
			r.line(
				"%s %s %s tcp flags & (syn | rst) == syn tcp option maxseg size > %d tcp option maxseg size set %d",
				r.family, side, set(remote), size, size,
			)
		}
	}
}

func (r ruleset) chain(name, hook, kind, priority string, rules func()) {
	r.block("chain "+name, func() {
		r.line("type %s hook %s priority %s; policy accept;", kind, hook, priority)
		rules()
	})
}

// marks note what packets came in by, where a rule asks for it when they leave.
func (r ruleset) marks() {
	asked := r.marked()
	if len(asked) == 0 {
		return
	}
	r.chain("coming", "prerouting", "filter", "mangle", func() {
		for n, joint := range asked {
			r.line("iifname %s meta mark set mark and 0xffff0000 or %d", set(r.devices(joint)), n+1)
		}
	})
}

// marked are the joints by which a packet must have come for some rule that is asked
// when it leaves: each has one mark, whatever number of rules asks for it.
func (r ruleset) marked() (out []design.ID) {
	for _, x := range r.box.Rules {
		if x.Hook == design.Postrouting && x.From != "" && !slices.Contains(out, x.From) && r.devices(x.From) != nil {
			out = append(out, x.From)
		}
	}
	return out
}

func (r ruleset) rules(hook string) {
	if hook == design.Postrouting {
		r.hidesCrossings()
		r.dials()
	}
	for _, x := range r.box.Rules {
		if x.Hook != hook || !r.ours(x) {
			continue
		}
		conditions, ok := r.conditions(x)
		if !ok {
			continue
		}
		r.comment("%s", r.about(x))
		for _, services := range r.services(x.Services) {
			for _, deed := range r.deeds(x) {
				r.line(
					"%s",
					strings.Join(
						slices.DeleteFunc([]string{conditions, services, deed}, func(s string) bool { return s == "" }),
						" ",
					),
				)
			}
		}
	}
}

// deeds are what is done with a packet that fits a rule: of the box's own address one
// for each way out, with the condition that the packet takes it.
func (r ruleset) deeds(x box.Rule) []string {
	if x.Does == design.OwnAddress {
		return r.hides(x)
	}
	return []string{r.deed(x.Translation.Rule)}
}

// ours tells whether a rule is about this family.
func (r ruleset) ours(x box.Rule) bool {
	switch {
	case x.Into.IsValid():
		return r.of.Has(x.Into.Addr())
	case x.Target.IsValid():
		return r.of.Has(x.Target)
	case x.Dialled.IsValid():
		return r.of.Has(x.Dialled)
	}
	return true
}

func (r ruleset) about(x box.Rule) string {
	toward := ""
	if x.Toward+x.From != "" {
		toward = " toward " + x.TowardName + x.FromName
		if x.Toward != "" && x.From != "" {
			toward = " from " + x.FromName + " toward " + x.TowardName
		}
	}
	if x.Does == design.OneToOne {
		return fmt.Sprintf("%s is %s%s", x.Real, x.Into, toward)
	}
	return x.Does + toward
}

// conditions are what a packet must fulfil; ok is false if none can.
func (r ruleset) conditions(x box.Rule) (text string, ok bool) {
	var out []string
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	side := func(joint design.ID, device, address string) bool {
		if joint == "" {
			return true
		}
		if names := r.devices(joint); names != nil {
			if device == "iifname" && x.Hook == design.Postrouting {
				add("meta mark and 0xffff == %d", slices.Index(r.marked(), joint)+1)
				return true
			}
			add("%s %s", device, set(names))
			return true
		}
		remote := r.remote(joint)
		if len(remote) == 0 {
			return false
		}
		add("%s %s %s", r.family, address, set(remote))
		if own := r.ofFamily(r.own()); len(own) > 0 {
			add("%s %s != %s", r.family, address, set(own))
		}
		return true
	}
	if !side(x.From, "iifname", "saddr") || !side(x.Toward, "oifname", "daddr") {
		return "", false
	}
	for _, c := range []struct {
		address string
		list    []netip.Prefix
	}{{"saddr", x.Source}, {"daddr", x.Destination}} {
		if len(c.list) == 0 ||
			x.Does == design.OneToOne && len(c.list) == 1 && c.address+" "+c.list[0].String() == r.named(
				x.Translation.Rule,
			) {
			continue // the translation itself names it
		}
		list := r.ofFamily(c.list)
		if len(list) == 0 {
			return "", false
		}
		add("%s %s %s", r.family, c.address, set(list))
	}
	if x.Dialled.IsValid() {
		add("ct original %s daddr %s", r.family, x.Dialled) // what came for the listener, and nothing else
	} else if own := r.ofFamily(r.own()); x.Does == design.OwnAddress && len(own) > 0 {
		add("%s daddr != %s", r.family, set(own)) // toward its own ranges nothing is hidden
	}
	return strings.Join(out, " "), true
}

// devices are the interfaces of a joint, nil for a policy-based link.
func (r ruleset) devices(joint design.ID) []string {
	if l := r.box.Link(joint); l != nil && l.Routed() {
		var out []string
		for _, d := range l.Devices() {
			out = append(out, strconv.Quote(d))
		}
		return out
	}
	if c := r.box.Circuit(joint); c != nil {
		return []string{strconv.Quote(c.Device())}
	}
	return nil
}

func (r ruleset) remote(link design.ID) []netip.Prefix {
	var out []netip.Prefix
	for _, s := range r.box.Main().Table.Selectors {
		if s.Link == link {
			out = append(out, s.Remote)
		}
	}
	return r.ofFamily(out)
}

func (r ruleset) ofFamily(ps []netip.Prefix) []netip.Prefix {
	return prefix.Minimal(prefix.OfFamily(ps, r.of))
}

// services are the conditions on protocol and port, one for each protocol; one
// that says nothing if there are none.
func (r ruleset) services(list []design.Service) []string {
	if len(list) == 0 {
		return []string{""}
	}
	var out []string
	for _, proto := range []string{"tcp", "udp"} {
		var ports []string
		for _, s := range list {
			if s.Proto == proto {
				ports = append(ports, strconv.Itoa(int(s.Port)))
			}
		}
		if len(ports) > 0 {
			out = append(out, proto+" dport "+set(ports))
		}
	}
	if slices.ContainsFunc(list, func(s design.Service) bool { return s.Proto == "icmp" }) {
		out = append(out, "meta l4proto "+[2]string{"icmp", "ipv6-icmp"}[r.of])
	}
	return out
}

// named is what a one-to-one rule itself says of the packets that it is for: which
// address, in which range.
func (r ruleset) named(x design.Rule) string {
	if x.Hook == design.Prerouting {
		return "daddr " + x.Into.String()
	}
	return "saddr " + x.Real.String()
}

// deed is what is done with a packet that fits.
func (r ruleset) deed(x design.Rule) string {
	f := r.family
	switch x.Does {
	case design.OneToOne:
		if x.Hook == design.Prerouting {
			return fmt.Sprintf(
				"%s daddr %s dnat %s prefix to %s daddr map { %s : %s }", f, x.Into, f, f, x.Into, x.Real,
			)
		}
		return fmt.Sprintf("%s saddr %s snat %s prefix to %s saddr map { %s : %s }", f, x.Real, f, f, x.Real, x.Into)
	case design.FromPool:
		if first, last := prefix.FirstHost(x.Into), prefix.LastHost(x.Into); first != last {
			return fmt.Sprintf("snat to %s-%s", first, last)
		}
		return "snat to " + prefix.FirstHost(x.Into).String()
	case design.ToTarget:
		if x.Port == 0 {
			return "dnat to " + x.Target.String()
		}
		return "dnat to " + netip.AddrPortFrom(x.Target, x.Port).String()
	}
	return "accept"
}

// set is an anonymous set, or its one element alone.
func set[T any](list []T) string {
	words := make([]string, len(list))
	for n, v := range list {
		words[n] = fmt.Sprint(v)
	}
	if len(words) == 1 {
		return words[0]
	}
	return "{ " + strings.Join(words, ", ") + " }"
}
