package design

import (
	"fmt"
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

	"dravin/core/prefix"
)

const maxName = 80 // characters

// MaxID is as long as an ID may be, bytes.
const MaxID = 128

// validate finds what makes a design impossible to work with: names that clash,
// references to nothing, values that contradict each other. What is merely
// unwise, such as an overlap, is a finding and not a problem.
func (d *Design) validate() Problems {
	v := newValidator(d)
	if !IsLine(d.Name) || utf8.RuneCountInString(d.Name) > maxName {
		v.problems = append(
			v.problems,
			Problem{
				Field: "name", Why: "the design's name is too long or no text",
				Want: fmt.Sprintf("at most %d characters", maxName),
			},
		)
	}
	for parent, list := range d.inside {
		if parent != "" && d.objects[parent] == nil {
			for _, o := range list {
				v.missing(o, "parent", parent)
			}
			continue
		}
		v.siblings(list, nil)
	}
	for _, o := range d.All() {
		v.object(o)
	}
	return v.problems
}

// revalidate is as validate, for a design that was made from a valid one: it
// looks only at what the change can have made wrong, which is what was touched,
// what stands inside it or beside it, and what refers to it.
func (d *Design) revalidate(before *Design, touched []ID) Problems {
	v := newValidator(d)
	again, parents := d.concerned(before, touched)
	isTouched := map[ID]bool{}
	for _, id := range touched {
		isTouched[id] = true
	}
	for _, parent := range slices.Sorted(maps.Keys(parents)) { // the same problems in the same order, always
		if list := d.inside[parent]; parent == "" || d.objects[parent] != nil {
			v.siblings(list, isTouched)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(again)) {
		o := d.objects[id]
		switch {
		case o == nil || !again[id]:
		case o.Parent != "" && d.objects[o.Parent] == nil:
			v.missing(o, "parent", o.Parent)
		case !d.rooted(o): // what it stands in tells
		default:
			v.object(o)
		}
	}
	return v.problems
}

// rooted reports whether all is there in which an object stands.
func (d *Design) rooted(o *Object) bool {
	for n := 0; o != nil && n < deepest; n++ {
		if o.Parent == "" {
			return true
		}
		o = d.objects[o.Parent]
	}
	return o != nil
}

// concerned are the objects that a change of the touched may have made invalid,
// and the parents whose children's names may clash now.
func (d *Design) concerned(before *Design, touched []ID) (again, parents map[ID]bool) {
	again, parents = map[ID]bool{}, map[ID]bool{}
	sites := map[ID]bool{}
	for _, id := range touched {
		again[id] = true
		for _, o := range d.inside[id] {
			again[o.ID] = true
		}
		for _, o := range slices.Concat(d.referring[id], before.referring[id]) {
			again[o.ID] = true
			if o.Kind == KindLink { // its tunnels stand on its gateways' addresses
				for _, t := range d.inside[o.ID] {
					again[t.ID] = true
				}
			}
		}
		for _, o := range []*Object{before.objects[id], d.objects[id]} {
			if o != nil {
				parents[o.Parent] = true
			}
			if o != nil && (o.Kind == KindLAN || o.Kind == KindSubnet) {
				sites[o.Parent] = true
			}
		}
	}
	for site := range sites { // inner routers, gateways and boxes stand in LANs and subnets
		for _, beside := range d.inside[site] {
			again[beside.ID] = again[beside.ID] || beside.Kind == KindInnerRoute || beside.Kind == KindGateway ||
				beside.Kind == KindBox
		}
	}
	return again, parents
}

type validator struct {
	design   *Design
	lans     map[ID]*prefix.Index         // of sites that were asked for
	given    map[numberPlace]map[int][]ID // who has each number, of places that were asked for
	problems Problems
}

func newValidator(d *Design) *validator {
	return &validator{design: d, lans: map[ID]*prefix.Index{}, given: map[numberPlace]map[int][]ID{}}
}

func (v *validator) add(o *Object, field, why, want string) {
	v.problems = append(
		v.problems,
		Problem{Object: o.ID, Subject: string(o.Kind) + " " + v.design.Path(o.ID), Field: field, Why: why, Want: want},
	)
}

func (v *validator) missing(o *Object, field string, id ID) {
	v.add(o, field, "refers to nothing", "give the id of an object that exists")
	v.problems[len(v.problems)-1].missing = id
}

// scope tells which siblings' names must differ: all inside a party, tables
// apart; at the top, parties share one set of names and every other kind has its
// own.
func scope(o *Object) string {
	if o.Parent == "" && !slices.Contains(Parties, o.Kind) || o.Kind == KindTable || o.Kind == KindHubTable {
		return string(o.Kind) + ":"
	}
	return ""
}

// siblings checks that paths are unique. Of two of one name it is the one that was
// touched whose name is to differ, or the later one.
func (v *validator) siblings(list []*Object, touched map[ID]bool) {
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b *Object) int {
		switch {
		case touched[a.ID] == touched[b.ID]:
			return 0
		case touched[b.ID]:
			return -1
		}
		return 1
	})
	seen := map[string]*Object{}
	for _, o := range list {
		key := scope(o) + Slug(o.Name)
		if first := seen[key]; first != nil {
			v.add(
				o, "name", fmt.Sprintf("the name %q is taken by the %s %q", o.Name, first.Kind, first.Name),
				"names beside each other must differ in letters or digits",
			)
			continue
		}
		seen[key] = o
	}
}

// badName says why a text is no name, and what would be one; nothing if it is.
func badName(name string) (why, want string) {
	switch {
	case Slug(name) == "":
		return "is empty", "a name needs a letter or digit"
	case utf8.RuneCountInString(name) > maxName:
		return "is too long", fmt.Sprintf("at most %d characters", maxName)
	case !IsLine(name):
		return "holds a control character", "use letters, digits, spaces and marks"
	}
	return "", ""
}

func (v *validator) object(o *Object) {
	if why, want := badName(o.Name); why != "" {
		v.add(o, "name", why, want)
	}
	if len(o.ID) > MaxID || !IsLine(string(o.ID)) {
		v.add(
			o, "id", "is too long or holds a control character",
			fmt.Sprintf("an ID has at most %d letters, digits and marks", MaxID),
		)
	}
	s := specOf(o.Kind)
	if s.body == nil || reflect.TypeOf(o.Body) != reflect.PointerTo(s.body) {
		v.add(o, "kind", "is not a kind of object, or the body is another kind's", anyKind())
		return
	}
	v.texts(o)
	if !s.fits(v.design.Get(o.Parent)) {
		v.add(o, "parent", one(string(o.Kind))+" can not stand here", "it belongs into "+whereOf(s))
		return
	}
	if v.refs(o) {
		v.rules(o)
	}
}

// texts refuses what no database, file, terminal or box takes as what it should
// be.
func (v *validator) texts(o *Object) {
	textProblems(reflect.ValueOf(o.Body).Elem(), func(field, why, want string) { v.add(o, field, why, want) })
}

func whereOf(s *spec) string {
	if len(s.parents) == 0 {
		return "the top level"
	}
	return one(wordsOf(s.parents))
}

// refs checks every reference in a body and reports whether all are good.
func (v *validator) refs(o *Object) bool {
	ok := true
	eachRef(reflect.ValueOf(o.Body).Elem(), "", func(field string, to Ref, kinds string, optional bool) {
		ok = v.ref(o, field, to, kinds, optional) && ok
	})
	return ok
}

// eachRef calls do for every reference in a body, with its field's path and
// the kinds it may refer to.
func eachRef(body reflect.Value, path string, do func(field string, to Ref, kinds string, optional bool)) {
	for n := range body.NumField() {
		sf := body.Type().Field(n)
		key, optional := keyOf(sf)
		at, f := join(path, key), body.Field(n)
		kinds := sf.Tag.Get("ref")
		switch {
		case f.Kind() == reflect.String && kinds != "":
			do(at, Ref(f.String()), kinds, optional)
		case f.Kind() == reflect.Slice && kinds != "":
			for i := range f.Len() {
				do(fmt.Sprintf("%s[%d]", at, i), Ref(f.Index(i).String()), kinds, false)
			}
		case f.Kind() == reflect.Slice && f.Type().Elem().Kind() == reflect.Struct &&
			f.Type().Elem().PkgPath() == body.Type().PkgPath():
			for i := range f.Len() {
				eachRef(f.Index(i), fmt.Sprintf("%s[%d]", at, i), do)
			}
		}
	}
}

func (v *validator) ref(o *Object, field string, id Ref, kinds string, optional bool) bool {
	if id == "" && optional {
		return true
	}
	to := v.design.Get(id)
	if to == nil {
		v.missing(o, field, id)
		return false
	}
	for _, k := range kindsIn(kinds) {
		if to.Kind == k {
			return true
		}
	}
	v.add(o, field, "refers to "+one(Word(to.Kind)), one(wordsOf(kindsIn(kinds)))+" is needed")
	return false
}

// rules checks what must hold between an object's values and its surroundings.
// Its references are good.
func (v *validator) rules(o *Object) {
	switch b := o.Body.(type) {
	case *LAN:
		v.vlan(o, "vlan", b.VLAN)
		for n, r := range b.GivesOut {
			if len(prefix.Free([]netip.Prefix{r}, b.Prefixes)) > 0 {
				v.add(
					o, fmt.Sprintf("gives_out[%d]", n), fmt.Sprintf("%s is not all in its ranges", r),
					"give a part of them",
				)
			}
		}
		for n, g := range b.Gateways {
			if v.design.Get(g).Parent != o.Parent {
				v.add(
					o, fmt.Sprintf("gateways[%d]", n), "is another site's gateway",
					"name a gateway of "+v.design.Get(o.Parent).Name,
				)
			}
		}
	case *InnerRoute:
		if b.Via.IsValid() && !v.inLAN(o.Parent, b.Via) {
			v.add(
				o, "via", fmt.Sprintf("%s is in no LAN of %s", b.Via, v.design.Get(o.Parent).Name),
				"give the inner router's address in one of the site's LANs",
			)
		}
	case *Table:
		for n, r := range b.Routes {
			if !v.joins(v.design.Get(r.Via), o.Parent) {
				v.add(
					o, fmt.Sprintf("routes[%d].via", n), "does not belong to this network",
					"name a gateway, peering or attachment of "+v.design.Get(o.Parent).Name,
				)
			}
		}
	case *Subnet:
		v.subnet(o, b)
	case *Endpoint:
		v.endpoint(o, b)
	case *Link:
		v.link(o, b)
	case *Tunnel:
		v.tunnel(o, b)
	case *Mapping:
		v.mapping(o, b)
	case *Intent:
		v.intent(o, b)
	case *PacketFilter:
		v.filter(o, b)
	case *Crossing:
		v.crossing(o, b)
	case *Names:
		v.names(o, b)
	case *Gateway:
		if b.Subnet != "" && v.design.Get(b.Subnet).Parent != o.Parent {
			v.add(o, "subnet", "is another network's subnet", "name a subnet of "+v.design.Get(o.Parent).Name)
		}
		if v.design.Get(o.Parent).Kind != KindSite && len(b.Stands) > 0 {
			v.add(o, "stands", "a cloud's gateway stands in no LAN", "leave it out")
		} else {
			v.stands(o, "stands", b.Stands)
		}
		for n, r := range b.Translate {
			v.rule(o, n, r)
		}
	case *Box:
		v.box(o, b)
	case *Listener:
		v.listener(o, b)
	default:
		v.linkRules(o)
	}
	v.numbers(o)
}

func (v *validator) inLAN(site ID, a netip.Addr) bool {
	index := v.lans[site]
	if index == nil { // once for each site: it may have as many inner routes as LANs
		var ranges []netip.Prefix
		for _, lan := range v.design.Inside(site, KindLAN) {
			ranges = append(ranges, RangesOf(lan)...)
		}
		index = prefix.NewIndex(ranges)
		v.lans[site] = index
	}
	return len(index.Containing(netip.PrefixFrom(a, a.BitLen()))) > 0
}

func (v *validator) subnet(o *Object, b *Subnet) {
	if v.design.Get(b.Table).Parent != o.Parent {
		v.add(o, "table", "is another network's table", "name a table of "+v.design.Get(o.Parent).Name)
	}
	network := v.design.Get(o.Parent).Body.(*Network)
	for n, p := range b.Prefixes {
		if !anyContains(network.Blocks, p) {
			v.add(
				o, fmt.Sprintf("prefixes[%d]", n), p.String()+" is outside the network's blocks",
				"the blocks are "+prefixWords(network.Blocks),
			)
		}
	}
}

func (v *validator) endpoint(o *Object, b *Endpoint) {
	ranges := v.design.Ranges(o.Parent)
	for n, a := range b.Addresses {
		at := fmt.Sprintf("addresses[%d]", n)
		inside := false
		for _, p := range ranges {
			if !p.Contains(a) {
				continue
			}
			inside = true
			if !prefix.IsHost(p, a) {
				v.add(
					o, at, fmt.Sprintf("%s is not a host's address in %s", a, p),
					"the first host is "+prefix.FirstHost(p).String(),
				)
			}
		}
		if place := v.design.Get(o.Parent); inside && place.Kind != KindInnerRoute {
			v.notABox(o, at, place, a)
		}
		if !inside {
			v.add(o, at, fmt.Sprintf("%s is outside %s", a, v.design.Path(o.Parent)), "it holds "+prefixWords(ranges))
		}
	}
}

func (v *validator) link(o *Object, b *Link) {
	if len(b.Ends) != 2 {
		v.add(o, "ends", fmt.Sprintf("has %d of them", len(b.Ends)), "a link has two ends")
		return
	}
	if b.Ends[0].Gateway == b.Ends[1].Gateway {
		v.add(o, "ends[1].gateway", "both ends are the same gateway", "name the far gateway")
	}
	for n, e := range b.Ends {
		at := fmt.Sprintf("ends[%d]", n)
		switch {
		case b.Routing != RoutingSelectors && len(e.Local)+len(e.Remote) > 0:
			v.add(
				o, at+".local", "a route-based link has no selectors of its own",
				"give routes, or set routing to selectors",
			)
		case b.Routing == RoutingSelectors && len(e.Routes) > 0:
			v.add(
				o, at+".routes", "a policy-based link has no routes", "give local and remote, or set routing to static",
			)
		case b.Routing == RoutingSelectors && (len(e.Local) == 0 || len(e.Remote) == 0):
			v.add(o, at, "local or remote is empty", "a policy-based link needs both")
		}
	}
}

func (v *validator) tunnel(o *Object, b *Tunnel) {
	link := v.design.Get(o.Parent).Body.(*Link)
	if len(b.Outside) != 2 || len(link.Ends) != 2 {
		return
	}
	for n, a := range b.Outside {
		g := v.design.Get(link.Ends[n].Gateway)
		if g == nil {
			continue
		}
		if gw, ok := g.Body.(*Gateway); ok && !a.IsUnspecified() && !gw.Owns(a) {
			v.add(
				o, fmt.Sprintf("outside[%d]", n), fmt.Sprintf("%s is not an address of %s", a, v.design.Path(g.ID)),
				"it has "+addressWords(gw.Addresses),
			)
		}
	}
	for n, e := range b.Ends {
		if link.Routing == RoutingSelectors && len(e.Local)+len(e.Remote) > 0 {
			v.add(
				o, fmt.Sprintf("ends[%d].local", n), "a policy-based link has its selectors at its own ends",
				"set local and remote of the link",
			)
		}
	}
	if len(b.Ends) == 1 {
		v.add(o, "ends", "has 1 of them", "give both ends' settings, an empty one ({}) where all follows, or none")
	}
	if len(b.Inside) == 2 && b.Inside[0].Masked() != b.Inside[1].Masked() {
		v.add(
			o, "inside[1]", fmt.Sprintf("%s and %s are not in one range", b.Inside[0], b.Inside[1]),
			"both inside addresses must share a range such as a /30",
		)
	}
	for n, p := range b.Inside6 {
		switch {
		case p.Addr().Is4():
			v.add(o, fmt.Sprintf("inside6[%d]", n), p.String()+" is of IPv4", "those of IPv4 are its inside addresses")
		case len(b.Inside6) != 2 || b.Inside6[0].Masked() != b.Inside6[1].Masked():
			v.add(o, "inside6", "are not two in one range", "both must share a range such as a /126")
			return
		}
	}
}

func (v *validator) mapping(o *Object, b *Mapping) {
	if j, ok := JointOf(v.design.Get(b.Link)); ok {
		if _, _, at := j.Far(b.Gateway); !at {
			v.add(o, "link", "does not end at "+v.design.Path(b.Gateway), "name a link or circuit of that gateway")
		}
	}
	if b.Real.Bits() != b.Mapped.Bits() || b.Real.Addr().BitLen() != b.Mapped.Addr().BitLen() {
		v.add(
			o, "mapped", fmt.Sprintf("%s is not as long as %s", b.Mapped, b.Real),
			fmt.Sprintf("one-to-one mapping needs a /%d", b.Real.Bits()),
		)
	}
}

// Ranges returns the prefixes of a LAN, an inner route, a subnet, a network or
// an outside party, nil for anything else.
func (d *Design) Ranges(id ID) []netip.Prefix { return RangesOf(d.Get(id)) }

// RangesOf is as [Design.Ranges], for an object at hand or nil.
func RangesOf(o *Object) []netip.Prefix {
	if o == nil {
		return nil
	}
	switch b := o.Body.(type) {
	case *LAN:
		return b.Prefixes
	case *InnerRoute:
		return b.Prefixes
	case *Outside:
		return b.Prefixes
	case *Subnet:
		return b.Prefixes
	case *Network:
		return b.Blocks
	}
	return nil
}

func anyContains(ps []netip.Prefix, p netip.Prefix) bool {
	for _, o := range ps {
		if prefix.Contains(o, p) {
			return true
		}
	}
	return false
}

func prefixWords(ps []netip.Prefix) string {
	words := make([]string, len(ps))
	for n, p := range ps {
		words[n] = p.String()
	}
	return strings.Join(words, ", ")
}

func addressWords(as []netip.Addr) string {
	words := make([]string, len(as))
	for n, a := range as {
		words[n] = a.String()
	}
	return strings.Join(words, ", ")
}
