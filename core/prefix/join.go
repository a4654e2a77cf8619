package prefix

import (
	"cmp"
	"encoding/binary"
	"net/netip"
	"slices"
)

// An IPv4 prefix is sorted as one number: its address, then its length, then a
// label that rides along.
const (
	labelBits = 26
	maxLabel  = 1<<labelBits - 1
)

// MaxPrefixes is how many prefixes can be joined at once.
const MaxPrefixes = maxLabel + 1

func key4(p netip.Prefix, label uint32) uint64 {
	a := p.Addr().As4()
	return uint64(binary.BigEndian.Uint32(a[:]))<<32 | uint64(p.Bits())<<labelBits | uint64(label)
}

// last4 is the highest address of the prefix in a key.
func last4(key uint64) uint32 {
	return uint32(key>>32) | uint32(uint64(1)<<(32-key>>labelBits&63)-1)
}

// sorted returns the indexes of ps, at most [MaxPrefixes], in the order of
// [Compare], equal ones by index.
func sorted(ps []netip.Prefix) []uint32 {
	order := make([]uint32, 0, len(ps))
	keys := make([]uint64, 0, len(ps))
	var six []uint32
	for n, p := range ps {
		if p.Addr().Is4() {
			keys = append(keys, key4(p, uint32(n)))
		} else {
			six = append(six, uint32(n))
		}
	}
	sortKeys(keys, make([]uint64, len(keys)), labelBits)
	for _, k := range keys {
		order = append(order, uint32(k&maxLabel))
	}
	slices.SortStableFunc(six, func(a, b uint32) int { return Compare(ps[a], ps[b]) })
	return append(order, six...)
}

// Repeated reports of each of ps, at most [MaxPrefixes], whether it stands before already,
// held by the same party; nil if none does. parties is as long as ps.
func Repeated(ps []netip.Prefix, parties []uint32) []bool {
	var out []bool
	order := sorted(ps)
	for from, to := 0, 0; from < len(order); from = to {
		for to = from + 1; to < len(order) && ps[order[to]] == ps[order[from]]; to++ {
		}
		run := order[from:to]
		if len(run) > 1 {
			slices.SortStableFunc(run, func(a, b uint32) int { return cmp.Compare(parties[a], parties[b]) })
		}
		for n := 1; n < len(run); n++ {
			if parties[run[n]] == parties[run[n-1]] {
				if out == nil {
					out = make([]bool, len(ps))
				}
				out[run[n]] = true
			}
		}
	}
	return out
}

// Count returns the number of overlapping pairs in ps, at most [MaxPrefixes].
// With parties, as long as ps and with numbers from 0 without large gaps, only
// pairs of different parties count; with nil all do. The extra memory is 16
// bytes for each IPv4 prefix and 24 for each IPv6 prefix.
func Count(ps []netip.Prefix, parties []uint32) uint64 {
	keys := make([]uint64, 0, len(ps))
	var six []uint32
	top := uint32(0)
	for n, p := range ps {
		party := uint32(0)
		if parties != nil {
			party = parties[n]
			top = max(top, party)
		}
		if p.Addr().Is4() {
			keys = append(keys, key4(p, party))
		} else {
			six = append(six, uint32(n))
		}
	}
	c := counter{open: make([]uint32, top+1), each: parties == nil}
	sortKeys(keys, make([]uint64, len(keys)), labelBits)
	c.four(keys)
	c.six(ps, parties, six)
	return c.pairs
}

// counter sweeps over sorted prefixes and knows how many of each party are
// open: contain the present place.
type counter struct {
	open  []uint32 // by party
	each  bool     // pairs within a party count too
	pairs uint64
}

func (c *counter) add(depth int, party uint32) {
	c.pairs += uint64(depth)
	if !c.each {
		c.pairs -= uint64(c.open[party])
		c.open[party]++
	}
}

func (c *counter) close(party uint32) {
	if !c.each {
		c.open[party]--
	}
}

func (c *counter) four(keys []uint64) {
	type span struct {
		last  uint32
		party uint32
	}
	var stack []span
	for _, k := range keys {
		a := uint32(k >> 32)
		for len(stack) > 0 && stack[len(stack)-1].last < a {
			c.close(stack[len(stack)-1].party)
			stack = stack[:len(stack)-1]
		}
		party := uint32(k & maxLabel)
		c.add(len(stack), party)
		stack = append(stack, span{last4(k), party})
	}
	for _, s := range stack {
		c.close(s.party)
	}
}

func (c *counter) six(ps []netip.Prefix, parties []uint32, order []uint32) {
	slices.SortFunc(order, func(a, b uint32) int { return Compare(ps[a], ps[b]) })
	party := func(n uint32) uint32 {
		if parties == nil {
			return 0
		}
		return parties[n]
	}
	var stack []uint32
	for _, n := range order {
		for len(stack) > 0 && !Contains(ps[stack[len(stack)-1]], ps[n]) {
			c.close(party(stack[len(stack)-1]))
			stack = stack[:len(stack)-1]
		}
		c.add(len(stack), party(n))
		stack = append(stack, n)
	}
}
