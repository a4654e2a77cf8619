package draft

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/allocation"
	"dravin/core/design"
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
// keeps its range, and a site's copy has no public address until one is given. What
// is free is told by the design's books, from which nothing is taken in the end.
func Like(ctx context.Context, books *allocation.Books, source design.ID, names []string) (Copies, error) {
	d := books.Design()
	defer books.Release()
	out := Copies{Edits: []design.Edit{}, Made: []design.ID{}, Notes: []string{}}
	o := d.Get(source)
	if o == nil || !slices.Contains([]design.Kind{design.KindSite, design.KindNetwork, design.KindOutside}, o.Kind) {
		return out, fmt.Errorf(
			"%s can not be copied; choose a site, a cloud network or an outside party", d.Title(source),
		)
	}
	m := &model{design: d, source: o, books: books}
	m.own = m.withInside(o)
	m.joints = m.jointsOf(m.own)
	for _, j := range m.joints {
		m.own = append(m.own, m.withInside(j)...)
	}
	var made []*copier
	for _, name := range names {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		c := &copier{
			model: m, ids: map[design.ID]design.ID{}, ranges: map[netip.Prefix]netip.Prefix{},
			hosts: map[netip.Addr]netip.Addr{},
		}
		edits, err := c.copy(name)
		if err != nil {
			return out, fmt.Errorf("%s: %w", name, err)
		}
		made = append(made, c)
		out.Edits, out.Made, out.Notes = append(out.Edits, edits...),
			append(out.Made, c.ids[source]), append(out.Notes, c.notes...)
	}
	out.Edits = append(out.Edits, m.farEntries(made)...)
	return out, nil
}

// model is what is copied, looked up once for all copies.
type model struct {
	design *design.Design
	source *design.Object
	own    []*design.Object // with all that is inside, its joints included
	joints []*design.Object
	books  *allocation.Books
}

// Numbered are n names by a pattern in which # stands for a number, those that are
// taken left out.
func Numbered(books *allocation.Books, pattern string, n int) []string {
	if !strings.Contains(pattern, "#") {
		pattern += " #"
	}
	var out []string
	for k := 1; len(out) < n; k++ {
		name := strings.ReplaceAll(pattern, "#", fmt.Sprint(k))
		if books.Free(design.KindSite, "", name) {
			out = append(out, name)
		}
	}
	return out
}

// copier makes one copy. It first chooses what everything is replaced by, and then
// writes every object anew with that.
type copier struct {
	*model
	ids    map[design.ID]design.ID
	ranges map[netip.Prefix]netip.Prefix
	hosts  map[netip.Addr]netip.Addr // public and inside addresses
	asns   map[uint32]uint32
	notes  []string
}

func (c *copier) copy(name string) ([]design.Edit, error) {
	if !c.books.Free(c.source.Kind, "", name) {
		return nil, fmt.Errorf("the name is taken; choose another")
	}
	_, root := c.books.Take(c.source.Kind, "", name)
	c.ids[c.source.ID] = root
	for _, o := range c.own {
		if o.ID != c.source.ID {
			c.ids[o.ID] = design.IDFor(o.Kind, string(root)+"/"+string(o.ID))
		}
	}
	for _, choose := range []func() error{c.renumber, c.readdress, c.inside} {
		if err := choose(); err != nil {
			return nil, err
		}
	}
	var edits []design.Edit
	for _, o := range c.own {
		made, err := c.made(o, name)
		if err != nil {
			return nil, err
		}
		edits = append(edits, design.PutEdit(made))
	}
	return edits, nil
}

func (c *model) withInside(o *design.Object) []*design.Object {
	out := []*design.Object{o}
	for _, inner := range c.design.Inside(o.ID) {
		if inner.Kind != design.KindAttachment { // they are joints, and come with these
			out = append(out, c.withInside(inner)...)
		}
	}
	return out
}

// jointsOf are those that end at the source, once each, with what joins them to a
// hub and the mappings toward them.
func (c *model) jointsOf(own []*design.Object) []*design.Object {
	var out []*design.Object
	for _, o := range own {
		for _, j := range c.design.JointsAt(o.ID) {
			if !slices.Contains(out, j.Object) {
				out = append(out, j.Object)
			}
		}
	}
	for _, o := range slices.Concat(own, out) {
		for _, m := range c.design.Referring(o.ID, design.KindMapping, design.KindAttachment) {
			if !slices.Contains(out, m) {
				out = append(out, m)
			}
		}
	}
	return out
}

// renumber chooses a range for every one that the source holds itself.
func (c *copier) renumber() error {
	for _, o := range c.own {
		if m, ok := o.Body.(*design.Mapping); ok {
			if next, ok := c.hold(m.Mapped, c.books.Mapping()); ok {
				c.ranges[m.Mapped] = next
			}
			continue
		}
		lan, _ := o.Body.(*design.LAN)
		inner, _ := o.Body.(*design.InnerRoute)
		if o.Kind == design.KindSubnet || !slices.Contains(
			[]design.Kind{design.KindLAN, design.KindInnerRoute, design.KindNetwork, design.KindOutside}, o.Kind,
		) {
			continue
		}
		for _, p := range design.RangesOf(o) {
			if lan != nil && lan.Fixed || inner != nil && inner.Fixed {
				c.ranges[p] = p
				c.notes = append(c.notes, fmt.Sprintf("%s is kept: %s can not be renumbered", p, c.design.Title(o.ID)))
				continue
			}
			next, ok := c.hold(p, c.books.Holding())
			if !ok {
				return fmt.Errorf("no /%d is free for what is like %s %s", p.Bits(), c.design.Title(o.ID), p)
			}
			c.ranges[p] = next
		}
	}
	return nil
}

// hold takes the next free range like one.
func (c *copier) hold(p netip.Prefix, taken *allocation.Taken) (netip.Prefix, bool) {
	next, ok := taken.NextLike(p)
	if ok {
		c.books.TakeRange(next)
	}
	return next, ok
}

// readdress takes public addresses away: they are given by others, and are filled
// in when they are known.
func (c *copier) readdress() error {
	c.asns = map[uint32]uint32{}
	for _, o := range c.own {
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
			next, err := c.books.TakeASN()
			if err != nil {
				return err
			}
			c.asns[g.ASN] = next
		}
	}
	return nil
}

// inside carves a range for every tunnel and session that has one.
func (c *copier) inside() error {
	carve := func(old netip.Prefix, rules [2]*provider.Inside) error {
		next, err := TakeInside(c.books, rules[0], rules[1])
		if err != nil {
			return err
		}
		low, high := hosts(netip.PrefixFrom(next.Addr(), 30))
		oldLow, oldHigh := hosts(netip.PrefixFrom(old.Masked().Addr(), 30))
		c.hosts[oldLow.Addr()], c.hosts[oldHigh.Addr()] = low.Addr(), high.Addr()
		return nil
	}
	for _, o := range c.own {
		switch b := o.Body.(type) {
		case *design.Tunnel:
			if len(b.Inside) == 2 && b.Inside[0].Addr().Is4() {
				if err := carve(b.Inside[0], insideRules(c.design, c.design.Get(o.Parent))); err != nil {
					return err
				}
			}
			if len(b.Inside6) == 2 {
				next, err := TakeInside6(c.books)
				if err != nil {
					return err
				}
				low, high := hosts(next)
				if b.Inside6[1].Addr().Less(b.Inside6[0].Addr()) {
					low, high = high, low
				}
				c.hosts[b.Inside6[0].Addr()], c.hosts[b.Inside6[1].Addr()] = low.Addr(), high.Addr()
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

// farEntries are those that far tables need for the copies' ranges where they have one
// for the source's.
func (m *model) farEntries(copies []*copier) []design.Edit {
	via := map[design.ID]bool{}
	for _, j := range m.joints {
		joint, ok := design.JointOf(j)
		if !ok {
			continue
		}
		via[j.ID], via[joint.Ends[0]], via[joint.Ends[1]] = true, true, true
		for _, a := range m.design.Inside(joint.Ends[0], design.KindAttachment) { // of a hub
			via[a.ID] = true
		}
	}
	var out []design.Edit
	for t, body := range design.Each[design.Table](m.design.Of(design.KindTable)) {
		b := *body
		b.Routes = slices.Clone(b.Routes)
		for _, r := range body.Routes {
			for _, c := range copies {
				if p, by, ok := c.entry(r.Prefix, r.Via, via); ok && c.ids[t.Parent] == "" {
					b.Routes = append(b.Routes, design.Entry{Prefix: p, Via: by})
				}
			}
		}
		if len(b.Routes) > len(body.Routes) {
			out = append(out, design.PutEdit(t.With(&b)))
		}
	}
	for t, body := range design.Each[design.HubTable](m.design.Of(design.KindHubTable)) {
		b := *body
		b.Routes = slices.Clone(b.Routes)
		for _, r := range body.Routes {
			for _, c := range copies {
				if p, by, ok := c.entry(r.Prefix, r.Via, via); ok {
					b.Routes = append(b.Routes, design.HubEntry{Prefix: p, Via: by})
				}
			}
		}
		if len(b.Routes) > len(body.Routes) {
			out = append(out, design.PutEdit(t.With(&b)))
		}
	}
	return out
}

// entry is that for the copy beside one for the source.
func (c *copier) entry(to netip.Prefix, by design.ID, via map[design.ID]bool) (netip.Prefix, design.ID, bool) {
	other, ok := c.ranges[to]
	if ok = ok && via[by] && other != to; !ok {
		return other, by, false
	}
	if at, copied := c.ids[by]; copied {
		return other, at, true
	}
	return other, by, true
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
		n.Name, _ = c.books.Take(o.Kind, o.Parent, renamed(o.Name, c.source.Name, name))
	}
	return n, nil
}

// renamed is a joint's name with the copy's in place of the source's.
func renamed(text, old, name string) string {
	if n := strings.Index(strings.ToLower(text), strings.ToLower(old)); n >= 0 && len(old) > 0 &&
		len(text) >= n+len(old) {
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
