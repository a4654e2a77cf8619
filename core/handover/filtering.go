package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/negotiate"
	"dravin/core/prefix"
)

// A filter is one chain for each of its directions, beside the translations of the box in one file, so that all is
// loaded at once or not at all. One that remembers lets pass first what belongs to a conversation that it has seen,
// with the errors about it (RFC 792, RFC 4443), and drops what claims to belong to one that it has not. What keeps
// the box's own tunnels and sessions up stands before the rules of whoever wrote the filter: nobody locks himself
// out of the box by it.

// filters writes the chains of a box's filters.
func (r ruleset) filters() {
	for n, f := range r.box.Filters {
		if !f.Itself {
			r.filtering(fmt.Sprintf("forwarded%d", n+1), "forward", f, design.Forwarded, nil)
			continue
		}
		r.filtering(fmt.Sprintf("coming%d", n+1), "input", f, design.Incoming, r.keepsUp("saddr", "iifname", "s"))
		r.filtering(fmt.Sprintf("going%d", n+1), "output", f, design.Outgoing, r.keepsUp("daddr", "oifname", "d"))
	}
}

// filtering writes one direction of a filter: a chain at a hook, or, without one, to be jumped to. always are lines
// that go before its rules.
func (r ruleset) filtering(name, hook string, f box.Filter, direction string, always []string) {
	verdict := map[string]string{design.Allow: "accept", design.Refuse: "drop"}
	r.block("chain "+name, func() {
		if hook != "" {
			r.line("type filter hook %s priority filter; policy %s;", hook, verdict[f.Default(direction)])
		}
		r.comment("%s", f.Name)
		if hook == "input" || hook == "output" {
			r.line(`%s "lo" accept`, map[string]string{"input": "iifname", "output": "oifname"}[hook])
		}
		if !f.Manner.Stateless {
			r.line("ct state established,related accept")
			r.line("ct state invalid drop")
		}
		for _, l := range always {
			r.line("%s", l)
		}
		for _, x := range f.Rules(direction) {
			lines := r.filterRule(x)
			if len(lines) > 0 {
				r.comment("%d. %s", x.N+1, f.Notes[x.N])
			}
			for _, l := range lines {
				r.line("%s", l)
			}
		}
		if hook == "" {
			r.line("%s", verdict[f.Default(direction)])
		}
	})
}

// filterRule are the lines of a rule in this family: one for each protocol; none if it is for the other alone.
func (r ruleset) filterRule(x filter.Rule) []string {
	if x.Family != "" && (x.Family == "ipv4") != (r.of == prefix.IPv4) {
		return nil
	}
	where := ""
	for _, side := range []struct {
		word string
		list []netip.Prefix
	}{{"saddr", x.From}, {"daddr", x.To}} {
		if side.list == nil {
			continue
		}
		list := r.ofFamily(side.list)
		if len(list) == 0 {
			return nil
		}
		if !slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Bits() == 0 }) {
			where += fmt.Sprintf("%s %s %s ", r.family, side.word, set(list))
		}
	}
	verdict := "accept"
	if x.Refuses {
		verdict = "drop"
	}
	if len(x.Services) == 0 {
		return []string{where + verdict}
	}
	var out []string
	for _, s := range r.traffic(x.Services, x.Replies) {
		out = append(out, where+s+" "+verdict)
	}
	return out
}

// traffic are the conditions on protocol, ports and messages, one for each protocol.
func (r ruleset) traffic(list []design.Traffic, replies bool) []string {
	var out []string
	side := "dport"
	if replies {
		side = "sport"
	}
	for _, proto := range []string{"tcp", "udp"} {
		var ports []string
		all := false
		for _, t := range list {
			switch {
			case t.Proto != proto:
			case t.First == 0:
				all = true
			case t.First == t.Last:
				ports = append(ports, strconv.Itoa(int(t.First)))
			default:
				ports = append(ports, fmt.Sprintf("%d-%d", t.First, t.Last))
			}
		}
		switch {
		case all:
			out = append(out, "meta l4proto "+proto)
		case len(ports) > 0:
			out = append(out, proto+" "+side+" "+set(ports))
		}
	}
	for _, t := range list {
		switch t.Proto {
		case "icmp":
			out = append(out, r.message(t.Message, replies))
		case "esp":
			out = append(out, "meta l4proto esp")
		}
	}
	return out
}

// messages are the kinds of messages of ICMP as the kernel's rules have them, by family.
var messages = map[string][2]string{
	"":                  {"meta l4proto icmp", "meta l4proto ipv6-icmp"},
	design.EchoRequest:  {"icmp type echo-request", "icmpv6 type echo-request"},
	design.EchoReply:    {"icmp type echo-reply", "icmpv6 type echo-reply"},
	design.Unreachable:  {"icmp type destination-unreachable", "icmpv6 type destination-unreachable"},
	design.TooBig:       {"icmp type destination-unreachable icmp code frag-needed", "icmpv6 type packet-too-big"},
	design.TimeExceeded: {"icmp type time-exceeded", "icmpv6 type time-exceeded"},
}

func (r ruleset) message(m string, replies bool) string {
	if replies && m == design.EchoRequest {
		m = design.EchoReply
	}
	return messages[m][r.of]
}

// keepsUp is what the box itself needs to keep its tunnels, sessions and neighbours, whoever filters what. far is
// the side of the far end's address, device that of the interface.
func (r ruleset) keepsUp(far, device, side string) []string {
	var out []string
	add := func(format string, args ...any) {
		if l := fmt.Sprintf(format, args...); !slices.Contains(out, l) {
			out = append(out, l)
		}
	}
	if r.of == prefix.IPv6 {
		add("icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert, nd-router-solicit, nd-router-advert } accept")
	}
	var tunnels []string
	for _, l := range r.box.Links {
		for _, t := range l.Tunnels {
			add("udp dport { 500, 4500 } accept") // RFC 7296 section 2, from whatever address a NAT gives the far end
			add("udp sport { 500, 4500 } accept")
			add("meta l4proto esp accept")
			if l.Routed() {
				tunnels = append(tunnels, strconv.Quote(t.Device()))
			}
		}
	}
	if len(tunnels) > 0 { // each end asks the other whether it lives
		add("%s %s %s accept", device, set(tunnels), r.message(design.EchoRequest, false))
	}
	for _, s := range r.box.Sessions {
		if peer := s.Set.Peer; negotiate.Known(peer) && r.of.Has(peer) {
			add("%s %s %s tcp dport 179 accept", r.family, far, peer) // RFC 4271 section 3
			add("%s %s %s tcp sport 179 accept", r.family, far, peer)
		}
	}
	for _, l := range r.box.Listeners {
		switch {
		case side == "s" && r.of.Has(l.Address):
			add("%s daddr %s %s dport %d accept", r.family, l.Address, l.Service.Proto, l.Service.Port)
		case side == "d" && l.Proxies && l.Dials.IsValid() && r.of.Has(l.Dials):
			add("%s daddr %s %s dport %d accept", r.family, l.Dials, l.Service.Proto, l.Port)
		}
	}
	return out
}

// HostFolder is the name of the folder for the files of a host, by its own name and its place's.
func HostFolder(place, host string) string { return folders.name("host", place, host) }

// hostFilters are the files of the hosts of a party that filter themselves.
func hostFilters(p *box.Party) []File {
	var out []File
	for _, h := range p.Hosts {
		page := &page{}
		page.line("#!/usr/sbin/nft -f")
		page.head("What may pass at " + h.Place + " " + h.Name)
		for _, f := range prefix.Families {
			r := ruleset{page: page, box: &box.Box{}, of: f, family: [2]string{"ip", "ip6"}[f]}
			page.line("table %s dravin {}", r.family)
			page.line("delete table %s dravin", r.family)
			page.block("table "+r.family+" dravin", func() {
				for n, x := range h.Filters {
					r.filtering(
						fmt.Sprintf("coming%d", n+1), "input", x, design.Incoming, r.keepsUp("saddr", "iifname", ""),
					)
					r.filtering(
						fmt.Sprintf("going%d", n+1), "output", x, design.Outgoing, r.keepsUp("daddr", "oifname", ""),
					)
				}
			})
			page.line("")
		}
		prefix := HostFolder(h.Place, h.Name) + "/"
		out = append(
			out,
			File{
				Path:    prefix + "nftables.d/dravin.nft",
				About:   "what may come to and from the host " + h.Name + ", loaded with nft -f",
				Content: page.String(),
			},
			File{
				Path: prefix + "systemd/system/" + start, About: "loads it at boot, before there is a network; enable " +
					"and start it",
				Content: hostUnit(h.Name),
			},
		)
	}
	return out
}
