package draft

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/inuse"
	"dravin/core/prefix"
	"dravin/core/provider"
)

// Copies is what copying something would do.
type Copies struct {
	Edits []design.Edit `json:"edits"`
	Made  []design.ID   `json:"made"`  // the copies themselves
	Notes []string      `json:"notes"` // what was chosen, and what is still to be given
}

// Like drafts others like a site, cloud network or outside party, one for each
// name: with all that is inside, with their joints to the same far parties, with
// the next free ranges, ASNs and inside addresses. What can not be renumbered
// keeps its range, and a site's copy has no public address until one is given.
func Like(d *design.Design, source design.ID, names []string) (Copies, error) {
	out := Copies{Edits: []design.Edit{}, Made: []design.ID{}, Notes: []string{}}
	o := d.Get(source)
	if o == nil || !slices.Contains([]design.Kind{design.KindSite, design.KindNetwork, design.KindOutside}, o.Kind) {
		return out, fmt.Errorf("%s can not be copied; choose a site, a cloud network or an outside party", d.Title(source))
	}
	for _, name := range names {
		c := &copier{d: d, source: o, ids: map[design.ID]design.ID{}, ranges: map[netip.Prefix]netip.Prefix{}, hosts: map[netip.Addr]netip.Addr{}}
		edits, err := c.copy(name)
		if err != nil {
			return out, fmt.Errorf("%s: %w", name, err)
		}
		out.Edits, out.Made, out.Notes = append(out.Edits, edits...), append(out.Made, c.ids[source]), append(out.Notes, c.notes...)
		d = d.Sketch(edits)
	}
	return out, nil
}

// Numbered are n names by a pattern in which # stands for a number, those that are
// taken left out.
func Numbered(d *design.Design, pattern string, n int) []string {
	if !strings.Contains(pattern, "#") {
		pattern += " #"
	}
	var out []string
	for k := 1; len(out) < n; k++ {
		name := strings.ReplaceAll(pattern, "#", fmt.Sprint(k))
		if len(d.Find(design.Slug(name), design.Parties...)) == 0 {
			out = append(out, name)
		}
	}
	return out
}

// copier makes one copy. It first chooses what everything is replaced by, and then
// writes every object anew with that.
type copier struct {
	d      *design.Design
	source *design.Object
	ids    map[design.ID]design.ID
	ranges map[netip.Prefix]netip.Prefix
	hosts  map[netip.Addr]netip.Addr // public and inside addresses
	asns   map[uint32]uint32
	notes  []string
}

func (c *copier) copy(name string) ([]design.Edit, error) {
	own := c.withInside(c.source)
	joints := c.joints(own)
	for _, j := range joints {
		own = append(own, c.withInside(j)...)
	}
	root := Beside(c.d, c.source.Kind, "", name, c.source.Body)
	if root.Name != name {
		return nil, fmt.Errorf("the name is taken; choose another")
	}
	c.ids[c.source.ID] = root.ID
	for _, o := range own {
		if o.ID != c.source.ID {
			c.ids[o.ID] = design.IDFor(o.Kind, string(root.ID)+"/"+string(o.ID))
		}
	}
	for _, choose := range []func([]*design.Object) error{c.renumber, c.readdress, c.inside} {
		if err := choose(own); err != nil {
			return nil, err
		}
	}
	var edits []design.Edit
	for _, o := range own {
		made, err := c.made(o, name)
		if err != nil {
			return nil, err
		}
		edits = append(edits, design.PutEdit(made))
	}
	return append(edits, c.farEntries(joints)...), nil
}

func (c *copier) withInside(o *design.Object) []*design.Object {
	out := []*design.Object{o}
	for _, inner := range c.d.Inside(o.ID) {
		if inner.Kind != design.KindAttachment { // they are joints, and come with these
			out = append(out, c.withInside(inner)...)
		}
	}
	return out
}

// joints are those that end at the source, once each, with what joins them to a
// hub and the mappings toward them.
func (c *copier) joints(own []*design.Object) []*design.Object {
	var out []*design.Object
	for _, o := range own {
		for _, j := range c.d.JointsAt(o.ID) {
			if !slices.Contains(out, j.Object) {
				out = append(out, j.Object)
			}
		}
	}
	for _, o := range slices.Concat(own, out) {
		for _, m := range c.d.Referring(o.ID, design.KindMapping, design.KindAttachment) {
			if !slices.Contains(out, m) {
				out = append(out, m)
			}
		}
	}
	return out
}

// renumber chooses a range for every one that the source holds itself.
func (c *copier) renumber(own []*design.Object) error {
	used := inuse.ForHolding(c.d, nil, "")
	keep := func(p netip.Prefix, why string) {
		c.ranges[p] = p
		c.notes = append(c.notes, fmt.Sprintf("%s is kept: %s", p, why))
	}
	for _, o := range own {
		if m, ok := o.Body.(*design.Mapping); ok {
			if next, ok := nextLike(m.Mapped, append(inuse.ForMapping(c.d), used...)); ok {
				c.ranges[m.Mapped], used = next, append(used, next)
			}
			continue
		}
		lan, _ := o.Body.(*design.LAN)
		inner, _ := o.Body.(*design.InnerRoute)
		if o.Kind == design.KindSubnet || !slices.Contains([]design.Kind{design.KindLAN, design.KindInnerRoute, design.KindNetwork, design.KindOutside}, o.Kind) {
			continue
		}
		for _, p := range design.RangesOf(o) {
			if lan != nil && lan.Fixed || inner != nil && inner.Fixed {
				keep(p, c.d.Title(o.ID)+" can not be renumbered")
				continue
			}
			next, ok := nextLike(p, used)
			if !ok {
				return fmt.Errorf("no /%d is free for what is like %s %s", p.Bits(), c.d.Title(o.ID), p)
			}
			c.ranges[p], used = next, append(used, next)
		}
	}
	return nil
}

// nextLike is the first free range of a range's size behind it, as near as can be.
func nextLike(p netip.Prefix, used []netip.Prefix) (netip.Prefix, bool) {
	_, odd := prefix.Reserved(p)
	for _, wide := range []int{48, 32, 16, 12, 8} {
		if wide > p.Bits() || p.Addr().Is4() && wide > 16 {
			continue
		}
		space := prefix.NewSpace([]netip.Prefix{netip.PrefixFrom(p.Addr(), wide).Masked()}, used)
		var best netip.Prefix
		for _, f := range space.Fits(netip.PrefixFrom(p.Addr(), wide).Masked(), p.Bits(), 512) {
			behind := p.Addr().Less(f.Prefix.Addr())
			if !best.IsValid() || behind && (best.Addr().Less(p.Addr()) || f.Prefix.Addr().Less(best.Addr())) {
				best = f.Prefix
			}
		}
		if _, reserved := prefix.Reserved(best); best.IsValid() && (odd || !reserved) {
			return best, true
		}
	}
	return netip.Prefix{}, false
}

// readdress takes public addresses away: they are given by others, and are filled
// in when they are known.
func (c *copier) readdress(own []*design.Object) error {
	c.asns = map[uint32]uint32{}
	for _, o := range own {
		g, ok := o.Body.(*design.Gateway)
		if !ok {
			continue
		}
		for _, a := range g.Addresses {
			c.hosts[a] = netip.IPv4Unspecified()
		}
		if len(g.Addresses) > 0 {
			c.notes = append(c.notes, fmt.Sprintf("%s has no public address until you give it one", o.Name))
		}
		if g.ASN != 0 && c.asns[g.ASN] == 0 {
			var given []uint32
			for _, n := range c.asns {
				given = append(given, n)
			}
			next, err := NextASN(c.d, given...)
			if err != nil {
				return err
			}
			c.asns[g.ASN] = next
		}
	}
	return nil
}

// inside carves a range for every tunnel and session that has one.
func (c *copier) inside(own []*design.Object) error {
	taken := inuse.ForInside(c.d)
	carve := func(old netip.Prefix, rules [2]*provider.Inside) error {
		next, err := InsideRanges(rules[0], rules[1], taken, 1)
		if err != nil {
			return err
		}
		taken = append(taken, next...)
		low, high := hosts(netip.PrefixFrom(next[0].Addr(), 30))
		oldLow, oldHigh := hosts(netip.PrefixFrom(old.Masked().Addr(), 30))
		c.hosts[oldLow.Addr()], c.hosts[oldHigh.Addr()] = low.Addr(), high.Addr()
		return nil
	}
	for _, o := range own {
		switch b := o.Body.(type) {
		case *design.Tunnel:
			if len(b.Inside) == 2 && b.Inside[0].Addr().Is4() {
				if err := carve(b.Inside[0], insideRules(c.d, c.d.Get(o.Parent))); err != nil {
					return err
				}
			}
		case *design.Circuit:
			if in := b.Ends[0].Inside; in.IsValid() && in.Addr().Is4() {
				if err := carve(in, [2]*provider.Inside{}); err != nil {
					return err
				}
			}
		case *design.Session:
			if a := b.Ends[0].Address; a.Is4() && !c.hosts[a].IsValid() {
				if err := carve(netip.PrefixFrom(a, 30), [2]*provider.Inside{}); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// insideRules are what the clouds at a link's two ends say of inside ranges.
func insideRules(d *design.Design, link *design.Object) (out [2]*provider.Inside) {
	for n, e := range link.Body.(*design.Link).Ends {
		if v := d.VPNOf(e.Gateway); v != nil {
			out[n] = &v.Inside
		}
	}
	return out
}

// farEntries are those that far tables need for the copy's ranges where they have
// one for the source's.
func (c *copier) farEntries(joints []*design.Object) []design.Edit {
	via := map[design.ID]bool{}
	for _, j := range joints {
		joint, ok := design.JointOf(j)
		if !ok {
			continue
		}
		via[j.ID], via[joint.Ends[0]], via[joint.Ends[1]] = true, true, true
		for _, a := range c.d.Inside(joint.Ends[0], design.KindAttachment) { // of a hub
			via[a.ID] = true
		}
	}
	// next is the entry for the copy beside one for the source.
	next := func(to netip.Prefix, by design.ID) (netip.Prefix, design.ID, bool) {
		other, ok := c.ranges[to]
		if at, copied := c.ids[by]; copied {
			return other, at, ok && via[by] && other != to
		}
		return other, by, ok && via[by] && other != to
	}
	var out []design.Edit
	for _, t := range c.d.Of(design.KindTable) {
		old := t.Body.(*design.Table).Routes
		b := *t.Body.(*design.Table)
		b.Routes = slices.Clone(old)
		for _, r := range old {
			if p, by, ok := next(r.Prefix, r.Via); ok && c.ids[t.Parent] == "" {
				b.Routes = append(b.Routes, design.Entry{Prefix: p, Via: by})
			}
		}
		if len(b.Routes) > len(old) {
			out = append(out, design.PutEdit(t.With(&b)))
		}
	}
	for _, t := range c.d.Of(design.KindHubTable) {
		old := t.Body.(*design.HubTable).Routes
		b := *t.Body.(*design.HubTable)
		b.Routes = slices.Clone(old)
		for _, r := range old {
			if p, by, ok := next(r.Prefix, r.Via); ok {
				b.Routes = append(b.Routes, design.HubEntry{Prefix: p, Via: by})
			}
		}
		if len(b.Routes) > len(old) {
			out = append(out, design.PutEdit(t.With(&b)))
		}
	}
	return out
}

// made is one object of the copy.
func (c *copier) made(o *design.Object, name string) (*design.Object, error) {
	n, err := o.Rewritten(design.Rewrite{ID: func(id design.ID) design.ID {
		if to, ok := c.ids[id]; ok {
			return to
		}
		return id
	}, Prefix: c.prefixOf, Address: c.addressOf, Number: func(key string, n uint32) uint32 {
		if to := c.asns[n]; to != 0 && (key == "asn" || key == "peer_asn") {
			return to
		}
		return n
	}})
	if err != nil {
		return nil, err
	}
	switch b := n.Body.(type) {
	case *design.Gateway:
		b.Addresses = slices.DeleteFunc(b.Addresses, netip.Addr.IsUnspecified)
	case *design.Tunnel:
		for k := range b.Ends {
			if b.Ends[k].Peer.IsUnspecified() {
				b.Ends[k].Peer = netip.Addr{}
			}
			for _, text := range []*string{&b.Ends[k].Identity, &b.Ends[k].PeerIdentity} {
				if a, err := netip.ParseAddr(*text); err == nil && c.hosts[a].IsValid() {
					*text = ""
				}
			}
		}
	case *design.Circuit: // a code holds once
		b.Code, b.CodeZone, b.Expires, b.Step = "", "", "", ""
	}
	if o.ID == c.source.ID {
		n.Name = name
	} else if o.Parent == "" || o.Kind == design.KindAttachment {
		n.Name = Beside(c.d, o.Kind, o.Parent, renamed(o.Name, c.source.Name, name), nil).Name
	}
	return n, nil
}

// renamed is a joint's name with the copy's in place of the source's.
func renamed(text, old, name string) string {
	if n := strings.Index(strings.ToLower(text), strings.ToLower(old)); n >= 0 && len(old) > 0 && len(text) >= n+len(old) {
		return text[:n] + name + text[n+len(old):]
	}
	return text + " of " + name
}

func (c *copier) prefixOf(p netip.Prefix) netip.Prefix {
	if a, ok := c.hosts[p.Addr()]; ok {
		return netip.PrefixFrom(a, p.Bits())
	}
	if from, ok := c.holding(p); ok {
		return prefix.TranslatePrefix(p, from, c.ranges[from])
	}
	return p
}

func (c *copier) addressOf(a netip.Addr) netip.Addr {
	if to, ok := c.hosts[a]; ok {
		return to
	}
	if from, ok := c.holding(netip.PrefixFrom(a, a.BitLen())); ok {
		return prefix.Translate(a, from, c.ranges[from])
	}
	return a
}

// holding is the smallest of the source's ranges that holds p.
func (c *copier) holding(p netip.Prefix) (netip.Prefix, bool) {
	for bits := p.Bits(); bits >= 0; bits-- {
		from := netip.PrefixFrom(p.Addr(), bits).Masked()
		if _, ok := c.ranges[from]; ok {
			return from, true
		}
	}
	return netip.Prefix{}, false
}
