package ingest

import (
	"context"
	"crypto/sha256"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/words"
)

func (m *maker) rows(ctx context.Context, t *Table) error {
	for n, row := range t.Rows {
		if n%each == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		r := m.recordOf(row)
		if m.how.Only != nil && !m.how.Only(row.Line) {
			continue
		}
		if r.heading {
			m.plan.Items = append(m.plan.Items, Item{
				Line: r.line, Subject: subjectOf(r), Outcome: Kept, Why: "names the party of the lines below",
			})
			continue
		}
		m.log = m.log[:0]
		if err := m.record(r); err != nil {
			m.takeBack()
			m.refuse(r, err)
		}
	}
	return nil
}

func subjectOf(r *record) string {
	var words []string
	for _, c := range []Column{ColumnParty, ColumnName, ColumnPrefix, ColumnAddress} {
		if v := r.get(c); v != "" {
			words = append(words, v)
		}
	}
	return strings.Join(words, " ")
}

// kinds are the words for what a row is; the rest is told by its columns.
var kinds = map[string]design.Kind{
	"lan": design.KindLAN, "vlan": design.KindLAN,
	"inner-route": design.KindInnerRoute, "inner route": design.KindInnerRoute, "route": design.KindInnerRoute,
	"routed":  design.KindInnerRoute,
	"network": design.KindNetwork, "block": design.KindNetwork, "cloud network": design.KindNetwork,
	"subnet":  design.KindSubnet,
	"outside": design.KindOutside, "partner": design.KindOutside,
	"endpoint": design.KindEndpoint, "host": design.KindEndpoint,
	"gateway":      design.KindGateway,
	"site":         design.KindSite,
	"mapping pool": design.KindReservation, "device range": design.KindReservation,
	"reservation": design.KindReservation, "reserved": design.KindReservation,
}

func (m *maker) kindOf(r *record) (design.Kind, error) {
	if word := strings.ToLower(r.get(ColumnKind)); word != "" {
		k, ok := kinds[word]
		if !ok {
			return "", fmt.Errorf(
				"the kind %q is not known; write site, lan, inner route, network, subnet, outside, endpoint, gateway, "+
					"reservation, mapping pool or device range",
				word,
			)
		}
		return k, nil
	}
	switch {
	case r.get(ColumnPrefix) == "" && r.get(ColumnAddress) != "" && r.get(ColumnASN) != "":
		return design.KindGateway, nil
	case r.get(ColumnPrefix) == "" && r.get(ColumnAddress) != "":
		return design.KindEndpoint, nil
	case r.get(ColumnCloud) != "" && r.get(ColumnZone) != "":
		return design.KindSubnet, nil
	case r.get(ColumnCloud) != "":
		return design.KindNetwork, nil
	case r.get(ColumnVia) != "":
		return design.KindInnerRoute, nil
	case m.find(design.KindOutside, "", r.get(ColumnParty)) != nil:
		return design.KindOutside, nil
	case m.find(design.KindNetwork, "", r.get(ColumnParty)) != nil:
		return design.KindNetwork, nil
	}
	return design.KindLAN, nil
}

// record takes one row in, or says why not. A row that is refused leaves
// nothing behind: what can fail is checked first.
func (m *maker) record(r *record) error {
	k, err := m.kindOf(r)
	if err != nil {
		return err
	}
	if err := m.belongs(r, k); err != nil {
		return err
	}
	name := r.get(ColumnParty)
	if k == design.KindReservation {
		name = or(r.get(ColumnName), name)
	}
	sum := sha256.Sum256(
		[]byte(
			strings.Join(
				[]string{
					string(k), design.Slug(name), design.Slug(
						r.get(ColumnName),
					), r.get(ColumnPrefix), r.get(ColumnMask),
					r.get(ColumnAddress), r.get(ColumnAnswers),
				},
				"\x00",
			),
		),
	)
	line := [16]byte(sum[:16])
	if first := m.seen[line]; first != 0 {
		m.plan.Items = append(
			m.plan.Items,
			Item{
				Line: r.line, Subject: subjectOf(r), Outcome: Kept, Why: fmt.Sprintf("says the same as line %d", first),
			},
		)
		return nil
	}
	switch k {
	case design.KindEndpoint, design.KindGateway:
		err = m.addressed(r, k)
	case design.KindSite:
		err = m.site(r)
	default:
		if err = m.readRanges(r); err == nil {
			err = m.ranged(r, k)
		}
	}
	if err == nil {
		m.seen[line] = r.line
	}
	return err
}

func or(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// mostNamed is how many parties a refusal names.
const mostNamed = 4

// belongs refuses a row that is nobody's. A host that nobody is named for is of the one party that has its
// address.
func (m *maker) belongs(r *record, k design.Kind) error {
	name := r.get(ColumnParty)
	if k == design.KindReservation {
		name = or(r.get(ColumnName), name)
	}
	if design.Slug(name) != "" {
		return nil
	}
	a, err := address(or(r.get(ColumnAddress), r.get(ColumnPrefix)))
	if err != nil || k != design.KindEndpoint && k != design.KindGateway {
		m.asks("party")
		return errNobodys
	}
	switch owners := m.owners(a); len(owners) {
	case 0:
		m.asks("party")
		return fmt.Errorf("%s is in no LAN, inner route or subnet; bring its range in first, or name its party", a)
	case 1:
		r.cells[ColumnParty] = owners[0]
		r.say("the party is " + owners[0] + ", which has " + a.String())
	default:
		m.asks("party")
		if len(owners) > mostNamed {
			owners = append(owners[:mostNamed-1:mostNamed-1], fmt.Sprintf("%d more", len(owners)-mostNamed+1))
		}
		return fmt.Errorf(
			"%s have %s; name the party beside the file, or in a column of its own", words.List(owners), a,
		)
	}
	return nil
}

// owners are the names of the parties that have an address, in order.
func (m *maker) owners(a netip.Addr) (names []string) {
	for bits := range a.BitLen() + 1 {
		for _, id := range m.holders[netip.PrefixFrom(a, bits).Masked()] {
			o := m.get(id)
			if o != nil && m.homeOf(o, a) != "" && !slices.Contains(names, o.Name) {
				names = append(names, o.Name)
			}
		}
	}
	slices.Sort(names)
	return names
}

// holds notes that a party has ranges, so that a host without a party finds it.
func (m *maker) holds(party design.ID, ranges []netip.Prefix) {
	for _, p := range ranges {
		if !slices.Contains(m.holders[p], party) {
			m.holders[p] = append(m.holders[p], party)
		}
	}
}

// ranged takes a row in that is about ranges.
func (m *maker) ranged(r *record, k design.Kind) error {
	fixed, err := truth(r.get(ColumnFixed))
	if err != nil {
		return err
	}
	var via netip.Addr
	if text := r.get(ColumnVia); text != "" && k == design.KindInnerRoute {
		if via, err = netip.ParseAddr(text); err != nil {
			return fmt.Errorf("the next hop %q is not an address", text)
		}
	}
	if k == design.KindReservation {
		return m.reservation(r)
	}
	tag, err := vlan(r)
	if err != nil {
		return err
	}
	party, err := m.party(r, k)
	if err != nil {
		return err
	}
	switch k {
	case design.KindNetwork, design.KindOutside:
		m.extend(party, r, details{fixed: fixed, via: via})
		m.item(r, party.Name+" "+written(r.ranges), party.ID)
	case design.KindSubnet:
		m.subnet(r, party)
	default:
		o := m.place(r, k, party)
		m.extend(o, r, details{fixed, via, tag})
		m.item(r, party.Name+" "+o.Name+" "+written(r.ranges), o.ID)
	}
	return nil
}

// reservationUses are the uses of a reservation by the kinds that say them.
var reservationUses = map[string]string{"mapping pool": design.UseMapping, "device range": design.UseDevice}

// reservation keeps a range. What the row does not speak of stays as it is.
func (m *maker) reservation(r *record) error {
	if len(r.ranges) != 1 {
		return fmt.Errorf("a reservation keeps one range; write %s in lines of their own", written(r.ranges))
	}
	p := r.ranges[0]
	o := m.holder(
		design.KindReservation, "", or(r.get(ColumnName), r.get(ColumnParty)),
		func() design.Body { return &design.Reservation{} },
	)
	c := *o.Body.(*design.Reservation)
	c.Prefix, c.Note = p, or(r.get(ColumnNote), c.Note)
	c.Use = or(reservationUses[strings.ToLower(r.get(ColumnKind))], c.Use)
	if name := r.get(ColumnParty); name != "" && r.get(ColumnName) != "" {
		found := false
		for _, k := range []design.Kind{design.KindSite, design.KindNetwork, design.KindOutside} {
			if party := m.find(k, "", name); party != nil {
				c.Party, found = party.ID, true
			}
		}
		if !found {
			return fmt.Errorf(
				"there is no site, network or outside party called %q to keep it for; bring that in first, or "+
					"leave the party out",
				name,
			)
		}
	}
	m.put(o.With(&c))
	m.item(r, "reservation "+o.Name+" "+p.String(), o.ID)
	return nil
}

// site takes a site in by itself.
func (m *maker) site(r *record) error {
	if r.get(ColumnPrefix) != "" || r.get(ColumnAddress) != "" {
		return fmt.Errorf(
			"a site has no range or address of its own; write lan, inner route, gateway or endpoint as the kind",
		)
	}
	o, err := m.party(r, design.KindSite)
	if err != nil {
		return err
	}
	c := *o.Body.(*design.Site)
	c.Note = or(r.get(ColumnNote), c.Note)
	m.put(o.With(&c))
	m.item(r, "site "+o.Name, o.ID)
	return nil
}

// partyKind is the kind of party that holds objects of a kind.
var partyKind = map[design.Kind]design.Kind{
	design.KindNetwork: design.KindNetwork, design.KindSubnet: design.KindNetwork,
	design.KindOutside: design.KindOutside,
}

// party finds the party of a row, or makes it.
func (m *maker) party(r *record, k design.Kind) (*design.Object, error) {
	name := r.get(ColumnParty)
	for _, known := range design.Parties {
		o := m.find(known, "", name)
		if o == nil {
			continue
		}
		if want := partyKind[k]; (want != "" || known != design.KindSite) && want != known &&
			(k != design.KindEndpoint && k != design.KindGateway) {
			return nil, fmt.Errorf("%s is a %s, which can not have a %s", o.Name, known, k)
		}
		return m.owned(o, r), nil
	}
	switch k {
	case design.KindNetwork:
		cloud := or(r.get(ColumnCloud), "unnamed cloud")
		return m.owned(m.make(k, "", name, &design.Network{Cloud: cloud, Region: r.get(ColumnRegion)}), r), nil
	case design.KindOutside:
		return m.owned(m.make(k, "", name, &design.Outside{}), r), nil
	case design.KindSubnet:
		return nil, fmt.Errorf("there is no cloud network called %q; bring its block in first", name)
	}
	return m.owned(m.make(design.KindSite, "", name, &design.Site{}), r), nil
}

// owned sets a party's owner if the row names one.
func (m *maker) owned(o *design.Object, r *record) *design.Object {
	name := r.get(ColumnOwner)
	if design.Slug(name) == "" {
		return o
	}
	owner := m.named(design.KindOwner, name, &design.Owner{})
	switch o.Body.(type) {
	case *design.Site:
		o = design.Edited(o, func(c *design.Site) { c.Owner = owner })
	case *design.Network:
		o = design.Edited(o, func(c *design.Network) { c.Owner = owner })
	case *design.Outside:
		o = design.Edited(o, func(c *design.Outside) { c.Owner = owner })
	}
	m.put(o)
	return o
}

// named finds an owner or segment, or makes it.
func (m *maker) named(k design.Kind, name string, b design.Body) design.ID {
	if o := m.find(k, "", name); o != nil {
		return o.ID
	}
	return m.make(k, "", name, b).ID
}

// holder finds an object by name, or makes it.
func (m *maker) holder(k design.Kind, parent design.ID, name string, body func() design.Body) *design.Object {
	if o := m.find(k, parent, name); o != nil {
		return o
	}
	return m.make(k, parent, name, body())
}

// place finds the LAN or inner route of a row: by its name, by its ranges if it has none or they were told
// by a host, or makes it.
func (m *maker) place(r *record, k design.Kind, party *design.Object) *design.Object {
	name := r.get(ColumnName)
	if design.Slug(name) == "" || r.hosted && m.find(k, party.ID, name) == nil {
		for _, p := range r.ranges {
			if o := m.get(m.held[holding{party.ID, k, p}]); o != nil {
				return o
			}
		}
	}
	if design.Slug(name) == "" {
		name = r.ranges[0].String()
	}
	o := m.holder(k, party.ID, name, func() design.Body {
		if k == design.KindInnerRoute {
			return &design.InnerRoute{}
		}
		return &design.LAN{}
	})
	if r.hosted {
		for _, p := range r.ranges {
			m.held[holding{party.ID, k, p}] = o.ID
		}
	}
	return o
}

// details are what a row says of an object beside its ranges.
type details struct {
	fixed bool
	via   netip.Addr
	vlan  uint16
}

// extend puts ranges and what else the row says into its object. The first
// row about an object replaces its prefixes, further rows add to them.
func (m *maker) extend(o *design.Object, r *record, x details) {
	_, again := m.filled[o.ID]
	m.filled[o.ID] = r.line
	if o.Parent != "" {
		m.holds(o.Parent, r.ranges)
	}
	list := func(old []netip.Prefix) []netip.Prefix {
		if !again {
			old = m.first(o, r.ranges)
		}
		old = slices.Clone(old)
		for _, p := range r.ranges {
			if !slices.Contains(old, p) {
				old = append(old, p)
			}
		}
		return old
	}
	segment := func(old design.ID) design.ID {
		if name := r.get(ColumnSegment); design.Slug(name) != "" {
			return m.named(design.KindSegment, name, &design.Segment{})
		}
		return old
	}
	switch b := o.Body.(type) {
	case *design.LAN:
		edited := design.Edited(o, func(c *design.LAN) {
			c.Prefixes, c.Segment, c.Fixed, c.Note = list(b.Prefixes), segment(b.Segment), b.Fixed || x.fixed,
				remark(r, b.Note)
			if x.vlan != 0 {
				c.VLAN = x.vlan
			}
		})
		m.put(edited)
	case *design.InnerRoute:
		edited := design.Edited(o, func(c *design.InnerRoute) {
			c.Prefixes, c.Segment, c.Fixed, c.Note = list(b.Prefixes), segment(b.Segment), b.Fixed || x.fixed,
				remark(r, b.Note)
			if x.via.IsValid() {
				c.Via = x.via
			}
		})
		m.put(edited)
	case *design.Network:
		edited := design.Edited(o, func(c *design.Network) {
			c.Blocks, c.Segment, c.Note = list(b.Blocks), segment(b.Segment), remark(r, b.Note)
		})
		m.put(edited)
	case *design.Outside:
		edited := design.Edited(o, func(c *design.Outside) {
			c.Prefixes, c.Segment, c.Note = list(b.Prefixes), segment(b.Segment), remark(r, b.Note)
		})
		m.put(edited)
	}
}

// first is what the first row makes of an object's prefixes: if it names one
// that is there already, the others stay; else the row's take their place.
func (m *maker) first(o *design.Object, list []netip.Prefix) []netip.Prefix {
	old := m.design.Ranges(o.ID)
	if slices.ContainsFunc(list, func(p netip.Prefix) bool { return slices.Contains(old, p) }) {
		return old
	}
	return nil
}

func (m *maker) subnet(r *record, network *design.Object) {
	m.holds(network.ID, r.ranges)
	name := or(r.get(ColumnName), r.ranges[0].String())
	o := m.find(design.KindSubnet, network.ID, name)
	if o == nil {
		table := m.find(design.KindTable, network.ID, "main table")
		if all := m.design.Inside(network.ID, design.KindTable); len(all) > 0 {
			table = all[0]
		} else if table == nil {
			table = m.make(design.KindTable, network.ID, "main table", &design.Table{})
		}
		o = m.make(design.KindSubnet, network.ID, name, &design.Subnet{Table: table.ID})
	}
	c := *o.Body.(*design.Subnet)
	c.Prefixes, c.Zone, c.Note = r.ranges, or(r.get(ColumnZone), c.Zone), remark(r, c.Note)
	if old := m.first(o, r.ranges); old != nil {
		c.Prefixes = old
	}
	m.put(o.With(&c))
	m.item(r, network.Name+" "+o.Name+" "+written(r.ranges), o.ID)
}

// addressed takes a row in that is about an address: an endpoint or a gateway.
func (m *maker) addressed(r *record, k design.Kind) error {
	a, err := address(or(r.get(ColumnAddress), r.get(ColumnPrefix))) // some tables have one column for both
	if err != nil {
		return err
	}
	answers, asn, err := answersAndASN(r)
	if err != nil {
		return err
	}
	party, err := m.party(r, k)
	if err != nil {
		return err
	}
	name := or(r.get(ColumnName), a.String())
	if k == design.KindGateway {
		o := m.holder(k, party.ID, name, func() design.Body { return &design.Gateway{} })
		edited := design.Edited(o, func(c *design.Gateway) {
			if !c.Owns(a) {
				c.Addresses = append(c.Addresses, a)
			}
			if asn != 0 {
				c.ASN = asn
			}
		})
		m.put(edited)
		m.item(r, party.Name+" "+name+" "+a.String(), o.ID)
		return nil
	}
	home := m.homeOf(party, a)
	if home == "" {
		return fmt.Errorf("%s is in no LAN, inner route or subnet of %s; bring its range in first", a, party.Name)
	}
	o := m.holder(k, home, name, func() design.Body { return &design.Endpoint{} })
	c := *o.Body.(*design.Endpoint)
	if !slices.Contains(c.Addresses, a) {
		c.Addresses = append(slices.Clone(c.Addresses), a)
	}
	if answers != nil {
		c.Answers = answers
	}
	c.Note = or(r.get(ColumnNote), c.Note)
	m.put(o.With(&c))
	m.item(r, party.Name+" "+name+" "+a.String(), o.ID)
	return nil
}

// homeOf is the LAN, inner route or subnet of a party that holds an address.
func (m *maker) homeOf(party *design.Object, a netip.Addr) design.ID {
	for _, id := range m.within[party.ID] {
		if o := m.get(id); o != nil &&
			slices.ContainsFunc(design.RangesOf(o), func(p netip.Prefix) bool { return p.Contains(a) }) {
			return id
		}
	}
	return ""
}
