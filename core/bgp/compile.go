package bgp

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/prefix"
)

// compiled is a network with everything found by number. The end n of session s
// has the number 2s+n.
type compiled struct {
	*Network
	speaker map[string]int32
	ends    []*End
	into    [][]int32 // by end: the speakers that it learns into
	away    [][]uint32
	speaks  []int32   // by end: the speaker that it announces for
	outs    [][]int32 // by speaker: the ends that announce it
	slots   [][]int32 // by speaker: the ends that learn into it
	slotAt  [][]int32 // by end: where its route stands in the slots of each of into
	policy  []policy  // by end: In at 2e, Out at 2e+1
	ranges  rangeTable
	part    []int32 // by speaker: the set of speakers that hang together
	kept    bool    // a next hop may be one that has to be looked up
	down    map[int32]Down
	byKey   map[string]int32 // sessions
}

// Down is a session that dropped, for more routes than an end takes.
type Down struct {
	Session *Session
	End     int // which takes no more
	Family  prefix.Family
	Taken   int // how many there would be
}

// policy is the rules of one direction, found by the ranges that they name.
type policy struct {
	rules   []Rule
	byRange map[int32][]int32
	any     []int32 // rules without a range
	sways   []int32 // the ranges of rules that set what goes before or into a choice
	swayAll bool    // such a rule has no range
}

// rangeTable numbers all ranges that rules and summaries name.
type rangeTable struct {
	id map[Range]int32
	at prefix.Table[rangeAt]
}

type rangeAt struct {
	Range
	id int32
}

func (t *rangeTable) number(r Range) int32 {
	if n, ok := t.id[r]; ok {
		return n
	}
	n := int32(len(t.id))
	t.id[r] = n
	t.at.Add(r.Prefix, rangeAt{r, n})
	return n
}

// matching lists the ranges that a prefix lies in, in order.
func (t *rangeTable) matching(p netip.Prefix, into []int32) []int32 {
	t.at.Covering(p, func(r rangeAt) {
		if r.Matches(p) {
			into = append(into, r.id)
		}
	})
	slices.Sort(into)
	return into
}

// parts is the range of what a summary hides.
func (s Summary) parts() Range {
	return Range{Prefix: s.Prefix, From: s.Prefix.Bits() + 1, To: s.Prefix.Addr().BitLen()}
}

func compile(n *Network, down map[int32]Down) *compiled {
	c := &compiled{
		Network: n, speaker: make(map[string]int32, len(n.Speakers)), ranges: rangeTable{id: map[Range]int32{}},
		down: down,
	}
	for k, s := range n.Speakers {
		c.speaker[s.Key] = int32(k)
		for _, x := range s.Summaries {
			c.ranges.number(x.parts())
		}
	}
	count := 2 * len(n.Sessions)
	c.ends, c.into, c.speaks, c.slotAt = make([]*End, count), make([][]int32, count), make([]int32, count),
		make([][]int32, count)
	c.away = make([][]uint32, count)
	c.policy = make([]policy, 2*count)
	c.outs, c.slots = make([][]int32, len(n.Speakers)), make([][]int32, len(n.Speakers))
	c.byKey = make(map[string]int32, len(n.Sessions))
	for k, s := range n.Sessions {
		c.byKey[s.Key] = int32(k)
		for m := range s.Ends {
			c.end(int32(2*k+m), &s.Ends[m])
		}
	}
	c.parts()
	return c
}

func (c *compiled) end(e int32, end *End) {
	c.ends[e], c.speaks[e] = end, -1
	if s, ok := c.speaker[end.Speaker]; ok {
		c.speaks[e] = s
		c.outs[s] = append(c.outs[s], e)
	}
	for k, key := range end.Into {
		if s, ok := c.speaker[key]; ok {
			away := uint32(0)
			if len(end.Away) > k {
				away = end.Away[k]
			}
			c.away[e] = append(c.away[e], away)
			c.into[e] = append(c.into[e], s)
			c.slotAt[e] = append(c.slotAt[e], int32(len(c.slots[s])))
			c.slots[s] = append(c.slots[s], e)
		}
	}
	c.policy[2*e], c.policy[2*e+1] = c.policyOf(end.In), c.policyOf(end.Out)
	c.kept = c.kept || end.KeepNextHop
}

func (c *compiled) policyOf(rules []Rule) policy {
	p := policy{rules: rules}
	for n, r := range rules {
		if r.Range == nil {
			p.any = append(p.any, int32(n))
			p.swayAll = p.swayAll || r.sways()
			continue
		}
		if p.byRange == nil {
			p.byRange = map[int32][]int32{}
		}
		id := c.ranges.number(*r.Range)
		p.byRange[id] = append(p.byRange[id], int32(n))
		if r.sways() {
			p.sways = append(p.sways, id)
		}
	}
	return p
}

// parts numbers the sets of speakers that hang together.
func (c *compiled) parts() {
	up := make([]int32, len(c.Speakers))
	for n := range up {
		up[n] = int32(n)
	}
	root := func(n int32) int32 {
		for up[n] != n {
			up[n] = up[up[n]]
			n = up[n]
		}
		return n
	}
	for s := range c.Sessions {
		at := int32(-1)
		for e := int32(2 * s); e < int32(2*s+2); e++ {
			for _, n := range append(c.into[e], c.speaks[e]) {
				if n < 0 {
					continue
				}
				if at >= 0 {
					up[root(n)] = root(at)
				}
				at = n
			}
		}
	}
	c.part = up
	for n := range up {
		c.part[n] = root(int32(n))
	}
}

// class is prefixes that are originated alike and that no filter tells apart, with
// what every speaker has of them.
type class struct {
	prefixes   []netip.Prefix
	originated []origination
	ranges     []int32   // that they lie in
	has        []holding // by speaker, in order
	taken      []taking  // by end that took it, in order
	unstable   bool      // no outcome lasts
	several    []string  // speakers whose choice depends on who came first
}

// origination is a speaker that announces the class by itself.
type origination struct {
	speaker int32
	quiet   bool
	summary bool
	origin  Origin   // of a summary: the worst of its parts' (RFC 4271 section 9.2.2.2)
	only    []string // groups of ends
}

// holding is what one speaker has of a class.
type holding struct {
	speaker int32
	by      Why      // the rule that beat the runner-up
	chance  bool     // the runner-up is another speaker's, and nothing that anybody chose beat it
	routes  []*Route // the best, then those that share with it
	rivals  int      // how many others there are
	lost    []*Route // those that are not used
}

// taking is that an end took the class, so many sessions after it was originated.
type taking struct {
	end  int32
	hops int32
}

// signature tells classes apart.
func signature(originated []origination, ranges []int32, f prefix.Family) string {
	out := make([]byte, 0, 8*len(originated)+4*len(ranges)+2)
	out = append(out, byte(f))
	for _, b := range originated {
		out = binary.LittleEndian.AppendUint32(out, uint32(b.speaker))
		flags := byte(0)
		if b.quiet {
			flags |= 1
		}
		if b.summary {
			flags |= 2
		}
		out = append(append(append(out, flags, byte(b.origin)), strings.Join(b.only, "\x00")...), 0xff)
	}
	out = append(out, 0xfe)
	for _, r := range ranges {
		out = binary.LittleEndian.AppendUint32(out, uint32(r))
	}
	return string(out)
}
