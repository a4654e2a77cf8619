package ingest

import (
	"encoding/csv"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
)

// ReadRule is a filter rule that was read, and from which line.
type ReadRule struct {
	Line int
	Rule design.FilterRule
}

// Ruleset is what a text says of a filter.
type Ruleset struct {
	Rules    []ReadRule
	Hook     string // of a ruleset: input, output or forward, if all of its rules are of one; else empty
	Default  string // allow or refuse; empty if the text does not say
	Stateful bool   // answers to what was let through pass
	Problems []design.Problem
}

// ReadRules reads filter rules as people have them: what `nft list ruleset` prints, or a table with a heading that
// names protocol, port, source and destination. Lines that are not understood are problems, each with what would be;
// nothing is guessed of them.
func ReadRules(text string) Ruleset {
	out := Ruleset{Rules: []ReadRule{}, Problems: []design.Problem{}}
	if strings.Contains(text, "hook ") || strings.Contains(text, "chain ") || strings.Contains(text, "add rule ") {
		readNft(text, &out)
	} else {
		readRuleTable(text, &out)
	}
	if len(out.Rules) == 0 && len(out.Problems) == 0 {
		out.problem(1, "holds no rule", "paste what nft list ruleset prints, or a table with a heading")
	}
	return out
}

func (r *Ruleset) problem(line int, why, want string) {
	r.Problems = append(r.Problems, design.Problem{Subject: "rules", Line: line, Why: why, Want: want})
}

// nftRule reads one rule.
func (r *Ruleset) nftRule(line int, hook string, words []string) {
	x := design.FilterRule{}
	if hook == "output" {
		x.Direction = design.Outgoing
	}
	p := nftReader{words: words}
	for !p.done() {
		if why := p.clause(&x); why != "" {
			r.problem(
				line, fmt.Sprintf("%q is not understood: %s", strings.Join(words, " "), why), "write it as a rule here",
			)
			return
		}
	}
	switch {
	case p.state == "established":
		r.Stateful = r.Stateful || p.verdict == design.Allow
		return
	case p.state == "invalid" || p.own:
		return
	case p.verdict == "":
		r.problem(line, fmt.Sprintf("%q neither accepts nor drops", strings.Join(words, " ")), "leave it out")
		return
	case p.verdict == design.Refuse:
		x.Does = design.Refuse
	}
	x.Services, x.Note = p.services(), p.note
	x.Replies = p.source
	r.Rules = append(r.Rules, ReadRule{line, x})
}

// nftReader goes through the words of a rule.
type nftReader struct {
	words   []string
	at      int
	protos  []string
	ports   map[string][]string
	icmp    []string
	source  bool   // ports are those of the source
	dest    bool   // and some are those of the destination
	state   string // established, invalid, new
	own     bool   // it is for what stays within the box
	verdict string
	note    string
}

func (p *nftReader) done() bool { return p.at >= len(p.words) }

func (p *nftReader) next() string {
	if p.done() {
		return ""
	}
	p.at++
	return p.words[p.at-1]
}

// values are one word, or those of a set in braces.
func (p *nftReader) values() (out []string) {
	w := p.next()
	if w == "==" {
		w = p.next()
	}
	if !strings.HasPrefix(w, "{") {
		return strings.Split(strings.Trim(w, `",`), ",")
	}
	for w = strings.TrimPrefix(w, "{"); ; w = p.next() {
		last := strings.HasSuffix(w, "}")
		if v := strings.Trim(w, `",} `); v != "" {
			out = append(out, v)
		}
		if last || p.done() {
			return out
		}
	}
}

// clause reads one condition or verdict of a rule into it, and says why not.
func (p *nftReader) clause(x *design.FilterRule) string {
	switch w := p.next(); w {
	case "accept":
		p.verdict = design.Allow
	case "drop", "reject":
		p.verdict = design.Refuse
		if w == "reject" {
			p.at = len(p.words)
		}
	case "counter":
		for !p.done() && slices.Contains([]string{"packets", "bytes"}, p.words[p.at]) {
			p.at += 2
		}
	case "log":
		for !p.done() && slices.Contains([]string{"prefix", "level", "flags", "group"}, p.words[p.at]) {
			p.at += 2
		}
	case "comment":
		p.note = strings.Trim(strings.Join(p.words[p.at:], " "), `"`)
		p.at = len(p.words)
	case "ct":
		return p.connection()
	case "iifname", "oifname", "iif", "oif":
		if v := p.values(); len(v) != 1 || v[0] != "lo" {
			return "rules here ask for no interface"
		}
		p.own = true
	case "ip", "ip6":
		return p.address(x, w)
	case "tcp", "udp":
		return p.port(w)
	case "icmp", "icmpv6":
		if p.next() != "type" {
			return "only types of ICMP are read"
		}
		p.icmp = append(p.icmp, p.values()...)
	case "meta":
		return p.meta(x)
	default:
		return w + " is no condition that is read"
	}
	return ""
}

func (p *nftReader) connection() string {
	if p.next() != "state" {
		return "of connection tracking only the state is read"
	}
	if !p.done() && p.words[p.at] == "vmap" {
		return p.verdicts()
	}
	states := p.values()
	switch {
	case slices.Contains(states, "new"):
	case slices.Contains(states, "established"):
		p.state = "established"
	case slices.Contains(states, "invalid"):
		p.state = "invalid"
	default:
		return "only the states new, established, related and invalid are read"
	}
	return ""
}

// verdicts read a map of connection states to verdicts: established and related pass, invalid does not.
func (p *nftReader) verdicts() string {
	p.at++
	text := strings.Trim(strings.Join(p.words[p.at:], " "), "{} ")
	p.at = len(p.words)
	for _, pair := range strings.Split(text, ",") {
		state, verdict, ok := strings.Cut(pair, ":")
		state, verdict = strings.TrimSpace(state), strings.TrimSpace(verdict)
		switch {
		case ok && state == "established" && verdict == "accept":
			p.state, p.verdict = "established", design.Allow
		case ok && state == "related" && verdict == "accept", ok && state == "invalid" && verdict == "drop":
		default:
			return fmt.Sprintf("%q is no verdict on a state that is read", strings.TrimSpace(pair))
		}
	}
	return ""
}

func (p *nftReader) meta(x *design.FilterRule) string {
	switch w := p.next(); w {
	case "l4proto":
		for _, proto := range p.values() {
			proto = map[string]string{"ipv6-icmp": "icmp", "icmpv6": "icmp"}[proto] + proto
			p.protos = append(p.protos, strings.TrimSuffix(strings.TrimSuffix(proto, "ipv6-icmp"), "icmpv6"))
		}
	case "nfproto":
		x.Family = p.values()[0]
	case "iifname", "oifname":
		p.at--
		return p.clause(x)
	default:
		return "meta " + w + " is no condition that is read"
	}
	return ""
}

func (p *nftReader) address(x *design.FilterRule, family string) string {
	side := p.next()
	switch side {
	case "protocol", "nexthdr":
		p.protos = append(p.protos, p.values()...)
		return ""
	case "saddr", "daddr":
	default:
		return family + " " + side + " is no condition that is read"
	}
	if !p.done() && p.words[p.at] == "!=" {
		return "rules here name what they are for, and not what they are not for"
	}
	for _, text := range p.values() {
		ranges, err := looseRanges(text)
		if err != nil || len(ranges) == 0 {
			return text + " is no range"
		}
		if side == "saddr" {
			x.From = append(x.From, ranges...)
		} else {
			x.To = append(x.To, ranges...)
		}
	}
	return ""
}

func (p *nftReader) port(proto string) string {
	side := p.next()
	if side != "dport" && side != "sport" {
		return proto + " " + side + " is no condition that is read"
	}
	p.source, p.dest = p.source || side == "sport", p.dest || side == "dport"
	if p.source && p.dest {
		return "a rule here asks for the port of the destination, or for that of the source of an answer, and not for both"
	}
	if p.ports == nil {
		p.ports = map[string][]string{}
	}
	p.ports[proto] = append(p.ports[proto], p.values()...)
	return ""
}

// ports by the names that people and nft write for them.
var portNames = map[string]string{
	"ssh": "22", "domain": "53", "http": "80", "ntp": "123", "snmp": "161", "bgp": "179", "https": "443",
	"syslog": "514",
	"ldap":   "389", "ldaps": "636", "isakmp": "500", "ipsec-nat-t": "4500", "smtp": "25", "mbap": "502",
}

// services is what the rule is for.
func (p *nftReader) services() (out []design.Traffic) {
	add := func(text string) {
		if t, err := design.ParseTraffic(text); err == nil && !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	for _, proto := range []string{"tcp", "udp"} {
		for _, port := range p.ports[proto] {
			if name := portNames[port]; name != "" {
				port = name
			}
			add(proto + "/" + port)
		}
	}
	for _, m := range p.icmp {
		add("icmp/" + map[string]string{
			"echo-request": design.EchoRequest, "echo-reply": design.EchoReply,
			"destination-unreachable": design.Unreachable,
			"packet-too-big":          design.TooBig, "time-exceeded": design.TimeExceeded,
		}[m])
	}
	for _, proto := range p.protos {
		if len(p.ports[proto]) == 0 && (proto != "icmp" || len(p.icmp) == 0) {
			add(proto)
		}
	}
	return out
}

// ruleColumns are the words by which a heading names the columns of a table of rules.
var ruleColumns = map[string][]string{
	"direction":   {"direction", "way", "in/out"},
	"does":        {"action", "does", "verdict", "allow/deny", "permit"},
	"protocol":    {"protocol", "proto"},
	"port":        {"port", "ports", "service", "destination port", "dport"},
	"source":      {"source", "from", "src", "source address"},
	"destination": {"destination", "to", "dst", "destination address"},
	"note":        {"note", "comment", "description", "remark"},
}

// readRuleTable reads a table with commas, semicolons or tabs.
func readRuleTable(text string, out *Ruleset) {
	comma := ','
	for _, c := range []rune{';', '\t'} {
		if strings.Count(text, string(c)) > strings.Count(text, string(comma)) {
			comma = c
		}
	}
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.TrimLeadingSpace, r.LazyQuotes = comma, -1, true, true
	rows, err := r.ReadAll()
	if err != nil || len(rows) == 0 {
		out.problem(1, "is no table", "begin with a heading such as protocol, port, source, destination")
		return
	}
	at := map[string]int{}
	for n, cell := range rows[0] {
		for key, words := range ruleColumns {
			if slices.Contains(words, strings.ToLower(strings.TrimSpace(cell))) {
				at[key] = n
			}
		}
	}
	if _, ok := at["source"]; !ok || len(at) < 3 {
		out.problem(1, "the heading names no source", "name the columns protocol, port, source, destination")
		return
	}
	for n, row := range rows[1:] {
		cell := func(key string) string {
			k, ok := at[key]
			if !ok || k >= len(row) {
				return ""
			}
			return strings.ToLower(strings.TrimSpace(row[k]))
		}
		if strings.Join(row, "") == "" {
			continue
		}
		if x, why := tableRule(cell); why != "" {
			out.problem(n+2, why, "correct the line")
		} else {
			out.Rules = append(out.Rules, ReadRule{n + 2, x})
		}
	}
}

func tableRule(cell func(string) string) (x design.FilterRule, why string) {
	x.Note = cell("note")
	switch d := cell("direction"); d {
	case "", "in", "inbound", "ingress", "incoming":
	case "out", "outbound", "egress", "outgoing":
		x.Direction = design.Outgoing
	default:
		return x, fmt.Sprintf("%q is no direction; write in or out", d)
	}
	switch d := cell("does"); d {
	case "", "allow", "permit", "accept", "yes":
	case "refuse", "deny", "drop", "reject", "block", "no":
		x.Does = design.Refuse
	default:
		return x, fmt.Sprintf("%q is neither allow nor refuse", d)
	}
	var err string
	if x.From, err = tableRanges(cell("source")); err != "" {
		return x, err
	}
	if x.To, err = tableRanges(cell("destination")); err != "" {
		return x, err
	}
	x.Services, err = tableServices(cell("protocol"), cell("port"))
	return x, err
}

var anywhere = []string{"", "any", "all", "*", "anywhere", "0.0.0.0/0", "-"}

func tableRanges(text string) ([]netip.Prefix, string) {
	if slices.Contains(anywhere, text) {
		return nil, ""
	}
	out, err := looseRanges(text)
	if err != nil {
		return nil, err.Error()
	}
	return out, ""
}

// looseRanges are the ranges of a cell, however they are written.
func looseRanges(text string) (out []netip.Prefix, err error) {
	for _, part := range prefix.SplitRanges(text) {
		if a, err := netip.ParseAddr(part); err == nil {
			out = append(out, prefix.Alone(a))
			continue
		}
		l, err := prefix.ReadLoose(part, "")
		if err != nil {
			return nil, err
		}
		out = append(out, l.Prefixes...)
	}
	return out, nil
}

func tableServices(proto, port string) (out []design.Traffic, why string) {
	if slices.Contains(anywhere, port) {
		port = ""
	}
	if strings.Contains(port, "/") {
		proto, port, _ = strings.Cut(port, "/")
	}
	if slices.Contains(anywhere, proto) {
		if port != "" {
			return nil, "port " + port + " has no protocol"
		}
		return nil, ""
	}
	parts := strings.FieldsFunc(port, func(r rune) bool { return r == ' ' || r == ',' || r == ';' })
	if len(parts) == 0 {
		parts = []string{""}
	}
	for _, p := range parts {
		text := proto
		if p != "" {
			text += "/" + p
		}
		t, err := design.ParseTraffic(text)
		if err != nil {
			return nil, err.Error()
		}
		out = append(out, t)
	}
	return out, ""
}
