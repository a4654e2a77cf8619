package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
)

// frr renders the BGP sessions of a box for FRR. A box of several routing instances has BIRD's file only; this one says
// so.
func frr(b *box.Box) []File {
	if len(b.Sessions) == 0 {
		return nil
	}
	at := folders.name(b.Name) + "/frr/frr.conf"
	if len(b.Instances) > 1 {
		return []File{{
			Path:    at,
			About:   "nothing to load: " + b.Name + " has several routing instances, which are not rendered for FRR; use BIRD's",
			Content: "! Not rendered for this box: it has several routing instances.\n",
		}}
	}
	f := &frrFile{page: &page{}, box: b}
	f.line("! BGP sessions of %s", b.Title)
	f.line("! Rendered by Dravin from the design; edit the design, not this file.")
	f.line("! Once, as root on a fresh Debian: apt-get install --yes --no-install-recommends frr")
	f.line("! sed -i 's/^bgpd=no/bgpd=yes/' /etc/frr/daemons && systemctl restart frr.service")
	f.line("frr defaults datacenter")
	f.line("bgp as-path access-list own seq 5 permit ^$")
	body := &page{}
	for n, s := range b.Sessions {
		f.maps(n, s)
	}
	f.router(body)
	f.WriteString(body.String())
	return []File{{
		Path: at, About: "the BGP daemon's sessions and filters, for FRR in the place of BIRD", Content: f.String(),
	}}
}

type frrFile struct {
	*page
	box   *box.Box
	lists int
}

func frrMap(n int, direction string, f prefix.Family) string {
	return fmt.Sprintf("session%d-%s-%s", n+1, direction, f.Code())
}

func frrFamily(f prefix.Family) string { return [2]string{"ip", "ipv6"}[f] }

// maps writes the route maps of a session: of what it takes, where it has rules for that, and of what it announces.
func (f *frrFile) maps(n int, s box.Session) {
	for _, family := range families(s.Set) {
		f.take(n, s, family)
		f.announce(n, s, family)
	}
}

func (f *frrFile) take(n int, s box.Session, family prefix.Family) {
	name := frrMap(n, "in", family)
	if len(s.Near.In) == 0 {
		f.line("route-map %s permit 10", name)
		if s.First {
			f.line(" set weight %d", preferred)
		}
		f.line("exit")
		return
	}
	f.rules(name, s.Near.In, family, s.Set.ASN, 10, s.First)
}

func (f *frrFile) announce(n int, s box.Session, family prefix.Family) {
	name, seq := frrMap(n, "out", family), 10
	own := f.box.Main().Announces
	for _, o := range own { // what is mapped toward another link stays from this one
		if o.Only != "" && o.Only != string(s.Joint) && family.Has(o.Prefix.Addr()) &&
			!slices.Contains(advertised(own, s.Joint, family), o.Prefix) {
			list := f.prefixList(family, []netip.Prefix{o.Prefix}, 0, 0)
			f.line("route-map %s deny %d", name, seq)
			f.line(" match %s address prefix-list %s", frrFamily(family), list)
			f.line(" match as-path own")
			f.line("exit")
			seq += 10
		}
	}
	if len(s.Near.Out) > 0 {
		f.rules(name, s.Near.Out, family, s.Set.ASN, seq, false)
		return
	}
	mine := advertised(own, s.Joint, family)
	for _, p := range prefix.OfFamily(prefixesOf(f.box.Summaries), family) {
		if !slices.Contains(mine, p) {
			mine = append(mine, p)
		}
	}
	if len(mine) > 0 {
		list := f.prefixList(family, mine, 0, 0)
		f.line("route-map %s permit %d", name, seq)
		f.line(" match %s address prefix-list %s", frrFamily(family), list)
		f.line(" match as-path own")
		f.line("exit")
		seq += 10
	}
	f.line("route-map %s deny %d", name, seq)
	f.line("exit")
}

// prefixList writes a list of ranges, of lengths from and to where these are given, and returns its name.
func (f *frrFile) prefixList(family prefix.Family, list []netip.Prefix, from, to int) string {
	f.lists++
	name := fmt.Sprintf("list%d", f.lists)
	for n, p := range list {
		lengths := ""
		switch {
		case to == 0 || from == p.Bits() && to == p.Bits():
		case from > p.Bits():
			lengths = fmt.Sprintf(" ge %d le %d", from, to)
		default:
			lengths = fmt.Sprintf(" le %d", to)
		}
		f.line("%s prefix-list %s seq %d permit %s%s", frrFamily(family), name, 5*(n+1), p.Masked(), lengths)
	}
	return name
}

// rules are those of one direction as a route map: the first that fits decides, and what none fits is dropped.
func (f *frrFile) rules(name string, list []design.Filter, family prefix.Family, asn uint32, seq int, first bool) {
	for _, r := range eitherKind(list) {
		if r.Prefix.IsValid() && !family.Has(r.Prefix.Addr()) {
			continue
		}
		matches, taken := f.matches(r, family), f.takes(r)
		f.line("route-map %s %s %d", name, map[bool]string{true: "deny", false: "permit"}[r.Does() == design.Refuse], seq)
		for _, m := range matches {
			f.line(" %s", m)
		}
		for _, s := range append(frrSets(r, asn, first), taken...) {
			f.line(" %s", s)
		}
		if r.Does() == design.GoOn {
			f.line(" on-match next")
		}
		f.line("exit")
		seq += 10
	}
	f.line("route-map %s deny %d", name, seq)
	f.line("exit")
}

func (f *frrFile) matches(r design.Filter, family prefix.Family) (out []string) {
	if r.Prefix.IsValid() {
		from, to := r.Prefix.Bits(), r.Prefix.Bits()
		if r.From != 0 || r.To != 0 {
			from, to = r.Lengths()
		}
		list := f.prefixList(family, []netip.Prefix{r.Prefix}, from, to)
		out = append(out, fmt.Sprintf("match %s address prefix-list %s", frrFamily(family), list))
	}
	out = append(out, f.matchesCommunities(r.Has)...)
	for _, x := range []struct {
		asn     uint32
		pattern string
	}{{r.Through, "_%d_"}, {r.Neighbour, "^%d_"}, {r.Born, "_%d$"}} {
		if x.asn > 0 {
			out = append(out, "match as-path "+f.pathList(fmt.Sprintf(x.pattern, x.asn)))
		}
	}
	if r.Longest > 0 {
		out = append(out, "match as-path "+f.pathList(fmt.Sprintf("^([0-9]+( [0-9]+){0,%d})?$", r.Longest-1)))
	}
	return out
}

func (f *frrFile) pathList(pattern string) string {
	f.lists++
	name := fmt.Sprintf("path%d", f.lists)
	f.line("bgp as-path access-list %s seq 5 permit %s", name, pattern)
	return name
}

// matchesCommunities match one of several. A rule that asks for such alone as are none matches nothing.
func (f *frrFile) matchesCommunities(has []string) []string {
	if len(has) == 0 {
		return nil
	}
	f.lists++
	name := fmt.Sprintf("mark%d", f.lists)
	standard, large := byKind(has)
	for _, c := range large {
		f.line("bgp large-community-list standard %s permit %s", name, c)
	}
	for _, c := range standard {
		f.line("bgp community-list standard %s permit %s", name, c)
	}
	switch {
	case len(standard) > 0:
		return []string{"match community " + name}
	case len(large) > 0:
		return []string{"match large-community " + name}
	}
	f.line("bgp community-list standard %s deny", name)
	return []string{"match community " + name}
}

func frrSets(r design.Filter, asn uint32, first bool) (out []string) {
	if r.Does() == design.Refuse {
		return nil
	}
	if first {
		out = append(out, fmt.Sprintf("set weight %d", preferred))
	}
	if r.LocalPref > 0 {
		out = append(out, fmt.Sprintf("set local-preference %d", r.LocalPref))
	}
	if r.MED > 0 {
		out = append(out, fmt.Sprintf("set metric %d", r.MED))
	}
	if r.Origin != "" {
		out = append(out, "set origin "+r.Origin)
	}
	if r.Prepend > 0 {
		out = append(out, "set as-path prepend"+strings.Repeat(fmt.Sprintf(" %d", asn), int(r.Prepend)))
	}
	standard, large := byKind(r.Communities)
	if len(standard) > 0 {
		out = append(out, "set community "+strings.Join(standard, " ")+" additive")
	}
	if len(large) > 0 {
		out = append(out, "set large-community "+strings.Join(large, " ")+" additive")
	}
	return out
}

// takes are the lines that take communities away.
func (f *frrFile) takes(r design.Filter) (out []string) {
	if r.Does() == design.Refuse {
		return nil
	}
	standard, large := byKind(r.Take)
	for _, x := range []struct {
		list       []string
		kind, does string
	}{{standard, "community-list", "comm-list"}, {large, "large-community-list", "large-comm-list"}} {
		if len(x.list) == 0 {
			continue
		}
		f.lists++
		name := fmt.Sprintf("take%d", f.lists)
		for _, c := range x.list {
			f.line("bgp %s standard %s permit %s", x.kind, name, c)
		}
		out = append(out, fmt.Sprintf("set %s %s delete", x.does, name))
	}
	return out
}

// byKind are communities as this daemon writes them, those of RFC 1997 and those of RFC 8092.
func byKind(list []string) (standard, large []string) {
	for _, text := range list {
		c, err := negotiate.ParseCommunity(text)
		switch {
		case err != nil:
		case c.Large:
			large = append(large, fmt.Sprintf("%d:%d:%d", c.Values[0], c.Values[1], c.Values[2]))
		default:
			standard = append(standard, fmt.Sprintf("%d:%d", c.Values[0], c.Values[1]))
		}
	}
	return standard, large
}

// eitherKind makes two rules of one that asks for either kind of community: a route map asks for both at once.
func eitherKind(list []design.Filter) (out []design.Filter) {
	for _, r := range list {
		standard, large := byKind(r.Has)
		if len(standard) == 0 || len(large) == 0 {
			out = append(out, r)
			continue
		}
		second := r
		r.Has, second.Has = standard, large
		out = append(out, r, second)
	}
	return out
}

// router writes the process with its neighbours.
func (f *frrFile) router(p *page) {
	b := f.box
	p.line("router bgp %d", b.Sessions[0].Set.ASN)
	for _, l := range []string{
		"bgp router-id " + b.RouterID.String(), "no bgp ebgp-requires-policy", "no bgp network import-check",
		"no bgp default ipv4-unicast", "bgp bestpath compare-routerid", "bgp bestpath as-path multipath-relax",
		"bgp deterministic-med", "bgp route-reflector allow-outbound-policy",
	} {
		p.line(" %s", l)
	}
	for _, s := range b.Sessions {
		p.line(" neighbor %s remote-as %d", s.Set.Peer, s.Set.PeerASN)
		p.line(" neighbor %s update-source %s", s.Set.Peer, s.Set.Address)
		p.line(" neighbor %s timers %d %d", s.Set.Peer, max(1, s.Set.Hold/3), s.Set.Hold)
		if s.Near.Password {
			p.line(" ! agree on a password with the far end, and put it in place of %s", fillIn)
			p.line(" neighbor %s password %s", s.Set.Peer, fillIn)
		}
		if s.Set.ASN != b.Sessions[0].Set.ASN {
			p.line(" neighbor %s local-as %d no-prepend replace-as", s.Set.Peer, s.Set.ASN)
		}
	}
	for _, family := range prefix.Families {
		f.family(p, family)
	}
	p.line("exit")
}

func (f *frrFile) family(p *page, family prefix.Family) {
	b := f.box
	speaks := func(s box.Session) bool { return slices.Contains(families(s.Set), family) }
	if !slices.ContainsFunc(b.Sessions, speaks) {
		return
	}
	p.line(" address-family %s unicast", family.Code())
	for _, r := range announced(b.Main().Announces, b.Summaries, family) {
		p.line("  network %s", r)
	}
	for _, x := range b.Summaries {
		if family.Has(x.Prefix.Addr()) {
			p.line("  aggregate-address %s%s", x.Prefix.Masked(), map[bool]string{true: " summary-only"}[x.Hide])
		}
	}
	paths := 1
	if b.Shares {
		paths = 64
	}
	p.line("  maximum-paths %d", paths)
	p.line("  maximum-paths ibgp %d", paths)
	for n, s := range b.Sessions {
		if !speaks(s) {
			continue
		}
		at := "  neighbor " + s.Set.Peer.String()
		p.line("%s activate", at)
		p.line("%s route-map %s in", at, frrMap(n, "in", family))
		p.line("%s route-map %s out", at, frrMap(n, "out", family))
		if !s.Near.KeepNextHop {
			p.line("%s next-hop-self force", at)
		}
		if s.Near.Client && s.Internal {
			p.line("%s route-reflector-client", at)
		}
		if s.Near.AllowOwn > 0 {
			p.line("%s allowas-in %d", at, s.Near.AllowOwn)
		}
		if s.Near.MaxPrefixes > 0 {
			p.line("%s maximum-prefix %d", at, s.Near.MaxPrefixes)
		}
	}
	p.line(" exit-address-family")
}
