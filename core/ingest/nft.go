package ingest

import (
	"fmt"
	"slices"
	"strings"

	"dravin/core/design"
)

// A ruleset of nftables is read statement by statement, however it is laid out: as `nft list ruleset` prints it, in one
// line, or as commands that add chains and rules. What a chain is for follows from its hook and from the family of its
// table; a packet must pass every chain at its hook, so that of two the second is told and not read into one list.

// nftStatement is a piece of a ruleset: what opens or closes a block, or what stands within one.
type nftStatement struct {
	line   int
	words  []string
	opens  bool
	closes bool
}

// nftBlocks are the words that open a block of statements; any other brace holds values.
var nftBlocks = []string{"table", "chain", "set", "map", "flowtable", "counter", "quota", "limit"}

// nftStatements splits a ruleset.
func nftStatements(text string) (out []nftStatement) {
	line, begun, quoted, values := 1, 1, false, 0
	depth := 0 // of blocks
	var now strings.Builder
	end := func(opens, closes bool) {
		words := strings.Fields(now.String())
		now.Reset()
		if len(words) > 0 || opens || closes {
			out = append(out, nftStatement{begun, words, opens, closes})
		}
		begun = line
	}
	comment := false
	for _, r := range text {
		if r == '\n' {
			comment = false
			if values == 0 && !quoted {
				end(false, false)
			} else {
				now.WriteByte(' ')
			}
			line++
			if now.Len() == 0 {
				begun = line
			}
			continue
		}
		switch {
		case comment:
		case quoted:
			quoted = r != '"'
			now.WriteRune(r)
		case r == '"':
			quoted = true
			now.WriteRune(r)
		case r == '#':
			comment = true
		case r == '\'': // the shell's
			now.WriteByte(' ')
		case r == '{' && values == 0 && opensBlock(now.String()):
			depth++
			end(true, false)
		case r == '{':
			values++
			now.WriteString(" { ")
		case r == '}' && values > 0:
			values--
			now.WriteString(" } ")
		case r == '}':
			end(false, false)
			end(false, true)
			depth--
		case r == ';' && values == 0:
			end(false, false)
		default:
			now.WriteRune(r)
		}
	}
	end(false, false)
	return out
}

// opensBlock reports whether a brace after a text opens a block.
func opensBlock(text string) bool {
	words := strings.Fields(text)
	for len(words) > 0 && slices.Contains([]string{"nft", "add", "create", "insert", "-f", "-"}, words[0]) {
		words = words[1:]
	}
	return len(words) > 1 && slices.Contains(nftBlocks, words[0])
}

// nftChain is a chain of filters.
type nftChain struct {
	family string // of its table: ip, ip6 or inet
	hook   string
	refuse bool // its policy
	said   bool // it has one
	read   bool // its rules are taken
	line   int
}

// nftRuleset is one that is being read.
type nftRuleset struct {
	*Ruleset
	chains map[string]*nftChain // by family, table and name
	list   []*nftChain          // that are read, in their order
	table  string               // family and name
	chain  string
	block  []string // the words that opened the blocks around
}

// readNft reads rulesets of nftables: the rules of the input, output and forward hooks.
func readNft(text string, out *Ruleset) {
	r := &nftRuleset{Ruleset: out, chains: map[string]*nftChain{}}
	for _, s := range nftStatements(text) {
		r.statement(s)
	}
	r.defaults()
}

func (r *nftRuleset) statement(s nftStatement) {
	words := s.words
	for len(words) > 0 && slices.Contains([]string{"nft", "add", "create", "insert"}, words[0]) {
		words = words[1:]
	}
	switch {
	case s.closes:
		if len(r.block) > 0 {
			r.block = r.block[:len(r.block)-1]
		}
		r.chain = ""
		return
	case s.opens:
		r.block = append(r.block, words[0])
	}
	within := ""
	if len(r.block) > 0 {
		within = r.block[len(r.block)-1]
	}
	switch {
	case len(words) == 0:
	case words[0] == "table" && len(words) > 1:
		r.table = strings.Join(inFamily(words[1:]), " ")
		if family := strings.Fields(r.table)[0]; slices.Contains([]string{"bridge", "arp", "netdev"}, family) {
			r.problem(s.line, "a table of "+family+" filters frames, not packets", "leave it out; its rules are not taken")
		}
	case words[0] == "chain" && len(words) > 1:
		r.chain = words[1]
		if len(words) > 2 { // a command names the table, too
			named := inFamily(words[1:])
			r.table, r.chain = strings.Join(named[:2], " "), named[len(named)-1]
		}
	case words[0] == "rule" && len(words) > 3:
		named := inFamily(words[1:])
		if c := r.chains[strings.Join(named[:3], " ")]; c != nil && c.read {
			r.rule(s.line, c, named[3:])
		}
	case within != "chain":
	case words[0] == "type":
		r.base(s.line, words)
	case words[0] == "policy" && len(words) > 1:
		if c := r.chains[r.table+" "+r.chain]; c != nil {
			c.said, c.refuse = true, words[1] == "drop"
		}
	case s.opens:
	default:
		if c := r.chains[r.table+" "+r.chain]; c != nil && c.read {
			r.rule(s.line, c, words)
		}
	}
}

// inFamily are words that begin with a family: that of IPv4 is the usual one.
func inFamily(words []string) []string {
	if slices.Contains([]string{"ip", "ip6", "inet", "bridge", "arp", "netdev"}, words[0]) {
		return words
	}
	return append([]string{"ip"}, words...)
}

// base notes what a chain is for. Of two at one hook for one family the first is read.
func (r *nftRuleset) base(line int, words []string) {
	family, _, _ := strings.Cut(r.table, " ")
	at := slices.Index(words, "hook")
	if len(words) < 2 || words[1] != "filter" || at < 0 || at+1 >= len(words) ||
		!slices.Contains([]string{"ip", "ip6", "inet"}, family) {
		return
	}
	c := &nftChain{family: family, hook: words[at+1], line: line}
	if !slices.Contains([]string{"input", "output", "forward"}, c.hook) {
		return
	}
	c.read = true
	for _, other := range r.list {
		if other.hook == c.hook && (other.family == c.family || other.family == "inet" || c.family == "inet") {
			c.read = false
			r.problem(
				line, fmt.Sprintf("this is a second chain at %s for the same packets, and they must pass both", c.hook),
				"make a filter of each; the rules of this one are not taken",
			)
			break
		}
	}
	r.chains[r.table+" "+r.chain] = c
	if !c.read {
		return
	}
	r.list = append(r.list, c)
	if r.Hook == "" {
		r.Hook = c.hook
	} else if r.Hook != c.hook && (r.Hook == "forward" || c.hook == "forward") {
		r.Hook = c.hook
	}
}

// rule reads one rule of a chain; of a table of one family it is for that.
func (r *nftRuleset) rule(line int, c *nftChain, words []string) {
	before := len(r.Rules)
	r.nftRule(line, c.hook, words)
	for n := range r.Rules[before:] {
		x := &r.Rules[before+n].Rule
		if own := c.ipFamily(); own != "" {
			x.Family = own
		}
	}
}

// ipFamily is the family of packets for which a chain is; empty: both.
func (c *nftChain) ipFamily() string { return map[string]string{"ip": "ipv4", "ip6": "ipv6"}[c.family] }

// defaults are what happens to what no rule is for. Where families differ the stricter one is the default, and a last
// rule lets the other pass.
func (r *nftRuleset) defaults() {
	said, refuse := false, false
	for _, c := range r.list {
		if c.said && c.hook != "output" {
			said, refuse = true, refuse || c.refuse
		}
	}
	if !said {
		return
	}
	r.Default = map[bool]string{false: design.Allow, true: design.Refuse}[refuse]
	for _, c := range r.list {
		if refuse && c.said && !c.refuse && c.hook != "output" {
			r.Rules = append(r.Rules, ReadRule{c.line, design.FilterRule{
				Family: c.ipFamily(), Note: "what no other rule is for: its chain's policy is to accept",
			}})
		}
	}
}
