package main

import (
	"bufio"
	"bytes"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/ingest"
	"dravin/core/overlap"
	"dravin/core/prefix"
)

// stock is who holds what, from a design or from a list of prefixes.
type stock struct {
	design *design.Design // nil: from a list
	claims []overlap.Claim
	list   *ingest.Prefixes
}

// readStock reads a design file, or delimited text with the columns party and
// prefix. What it is is told by its name, or else by how it begins.
func readStock(path string) (*stock, error) {
	if isDesign(path) {
		d, err := readDesign(path)
		if err != nil {
			return nil, err
		}
		return &stock{design: d, claims: overlap.Claims(d)}, nil
	}
	in := os.Stdin
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return nil, badInput(err)
		}
		defer f.Close()
		in = f
	}
	// A command that lives for a second had better not collect what it will
	// need until its end.
	defer debug.SetGCPercent(debug.SetGCPercent(400))
	list, err := ingest.ReadPrefixes(in)
	if err != nil {
		return nil, badInput(fmt.Errorf("%s can not be used\n%w", path, err))
	}
	return &stock{list: list}, nil
}

func isDesign(path string) bool {
	switch strings.ToLower(filepath.Ext(path)) {
	case ".yaml", ".yml":
		return true
	case ".csv", ".tsv", ".txt":
		return false
	}
	f, err := os.Open(path)
	if err != nil || path == "-" {
		return false
	}
	defer f.Close()
	head, _ := bufio.NewReaderSize(f, 4096).Peek(4096)
	return bytes.HasPrefix(head, []byte("dravin:")) || bytes.Contains(head, []byte("\ndravin:"))
}

// flat gives the ranges and the number of the party of each; what belongs to
// no party has one number of its own.
func (s *stock) flat() ([]netip.Prefix, []uint32) {
	if s.list != nil {
		return s.list.Prefixes, s.list.Parties
	}
	ranges, parties := make([]netip.Prefix, len(s.claims)), make([]uint32, len(s.claims))
	number := map[design.ID]uint32{}
	for n, c := range s.claims {
		if _, known := number[c.Party]; !known {
			number[c.Party] = uint32(len(number))
		}
		ranges[n], parties[n] = c.Prefix, number[c.Party]
	}
	return ranges, parties
}

func (s *stock) prefix(n int) netip.Prefix {
	if s.list != nil {
		return s.list.Prefixes[n]
	}
	return s.claims[n].Prefix
}

// party names the holder of the n-th range.
func (s *stock) party(n int) string {
	if s.list != nil {
		return s.list.Names[s.list.Parties[n]]
	}
	if p := s.design.Get(s.claims[n].Party); p != nil {
		return p.Name
	}
	return s.claims[n].Title
}

// sentence says how two ranges lie to each other.
func (s *stock) sentence(a, b int) string {
	if s.list == nil {
		return overlap.Sentence(s.claims[a], s.claims[b])
	}
	claim := func(n int) overlap.Claim {
		return overlap.Claim{Title: s.party(n), Prefix: s.list.Prefixes[n]}
	}
	return overlap.Sentence(claim(a), claim(b))
}

// groups are the components of ranges; for a design with what they break, worst
// first.
func (s *stock) groups(within bool) []overlap.Group {
	if s.list == nil {
		return slices.DeleteFunc(overlap.Find(s.design), func(g overlap.Group) bool { return !within && g.Parties < 2 })
	}
	out := []overlap.Group{}
	for _, component := range prefix.Components(s.list.Prefixes) {
		g := overlap.Group{Span: s.list.Prefixes[component[0]], Weight: overlap.Apart, Intents: []design.ID{}}
		parties := map[uint32]bool{}
		other := component[1]
		for _, n := range component {
			g.Claims = append(
				g.Claims, overlap.Claim{Party: design.ID(s.party(n)), Title: s.party(n), Prefix: s.list.Prefixes[n]},
			)
			parties[s.list.Parties[n]] = true
			if len(parties) == 2 && s.list.Parties[other] == s.list.Parties[component[0]] {
				other = n
			}
		}
		if g.Parties = len(parties); g.Parties < 2 {
			if !within {
				continue
			}
			g.Weight = overlap.Within
		}
		g.Key = g.Span.String()
		g.Sentence = s.sentence(component[0], other)
		out = append(out, g)
	}
	return out
}

// used lists the ranges of some parties, or of all for none.
func (s *stock) used(parties []string) ([]netip.Prefix, error) {
	if s.list != nil {
		return s.list.Holds(parties)
	}
	var wanted []design.ID
	for _, name := range parties {
		found := s.design.Find(name, design.Parties...)
		if len(found) != 1 {
			return nil, fmt.Errorf("--for %q names %d parties; give the path of one", name, len(found))
		}
		wanted = append(wanted, found[0].ID)
	}
	return allocation.ForHolding(s.design, wanted, ""), nil
}
