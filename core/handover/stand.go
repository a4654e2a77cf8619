package handover

import (
	"fmt"
	"slices"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/prefix"
)

// Stand renders what the open daemons need to stand for the gateways of a cloud, which get no files: nothing but what
// their instructions say. boxes are those of one device, of a hub its tables, too; numbers are the kernel's of a hub's
// tables.
func Stand(boxes []*box.Box, numbers map[design.ID]int, keys Keys) []File {
	var gateways, tables []*box.Box
	var sessions []box.Session
	for _, b := range boxes {
		if b.Kind == design.KindHubTable {
			tables = append(tables, b)
		} else {
			gateways, sessions = append(gateways, b), append(sessions, b.Sessions...)
		}
	}
	connections, secrets := &page{}, &page{}
	connections.block("connections", func() {
		for _, b := range gateways {
			for _, l := range b.Links {
				for _, t := range l.Tunnels {
					connection(connections, l, t)
				}
			}
			secrets.WriteString(swanctlKeys(b, keys))
		}
	})
	out := []File{
		{Path: "swanctl/conf.d/dravin.conf", Content: connections.String()},
		{Path: "swanctl/conf.d/dravin-keys.conf", Content: secrets.String(), Secret: true},
	}
	switch {
	case len(sessions) == 0:
	case len(tables) > 0:
		out = append(out, File{Path: "bird/bird.conf", Content: hubBird(gateways, tables, numbers)})
	case len(gateways) > 0:
		out = append(out, File{Path: "bird/bird.conf", Content: bird(gateways[0])})
	}
	return out
}

// hubBird is the BGP daemon of a hub: one table for each of the hub's, and one for each session, which hears of the
// table that it announces and tells those that it feeds.
func hubBird(gateways, tables []*box.Box, numbers map[design.ID]int) string {
	p := &page{}
	p.line("router id %s;", gateways[0].RouterID)
	p.line("protocol device { }")
	for _, family := range prefix.Families {
		code := family.Code()
		for n, t := range tables {
			name := hubTable(tables, t.ID, family)
			p.line("%s table %s;", code, name)
			p.block("protocol kernel kernel_"+name, func() {
				if gateways[0].Shares {
					p.line("merge paths on;")
				}
				p.line("metric %d;", learnedMetric)
				p.line("kernel table %d;", numbers[t.ID])
				p.line("%s { table %s; export where source = RTS_BGP; };", code, name)
			})
			p.block(fmt.Sprintf("protocol static own%d_%s", n+1, code), func() {
				p.line("%s { table %s; };", code, name)
				for _, r := range announced(t.Main().Announces, nil, family) {
					p.line("route %s unreachable;", r)
				}
			})
		}
	}
	for _, g := range gateways {
		for _, s := range g.Sessions {
			hubSession(p, s, tables)
		}
	}
	return p.String()
}

func hubTable(tables []*box.Box, id design.ID, family prefix.Family) string {
	n := slices.IndexFunc(tables, func(t *box.Box) bool { return t.ID == id })
	return fmt.Sprintf("hub%d_%s", n+1, family.Code()[3:])
}

// hubSession is a session with a table of its own, and what joins that with the hub's.
func hubSession(p *page, s box.Session, tables []*box.Box) {
	name := protocolName(s)
	for _, family := range families(s.Set) {
		code, own := family.Code(), name+"_"+family.Code()[3:]
		p.line("%s table %s;", code, own)
		pipe := func(n int, table design.ID, importing, exporting string) {
			p.block(fmt.Sprintf("protocol pipe join%d_%s", n, own), func() {
				p.line("table %s;", hubTable(tables, table, family))
				p.line("peer table %s;", own)
				p.line("import %s; export %s;", importing, exporting)
			})
		}
		if s.Speaks != "" {
			pipe(0, s.Speaks, "none", fmt.Sprintf("where proto != %q", name))
		}
		for n, feeds := range s.Feeds {
			pipe(n+1, feeds, fmt.Sprintf("where proto = %q", name), "none")
		}
	}
	p.block("protocol bgp "+name, func() {
		p.line("local %s as %d;", s.Set.Address, s.Set.ASN)
		p.line("neighbor %s as %d;", s.Set.Peer, s.Set.PeerASN)
		p.line("deterministic med on;")
		p.line("hold time %d;", s.Set.Hold)
		for _, family := range families(s.Set) {
			p.block(family.Code(), func() {
				p.line("table %s_%s;", name, family.Code()[3:])
				if len(s.Near.In) == 0 {
					p.line("import all;")
				} else {
					birdFilter(p, "import", s.Near.In, family, s.Set.ASN, "")
				}
				if s.Near.MaxPrefixes > 0 {
					p.line("import limit %d action disable;", s.Near.MaxPrefixes)
				}
				p.line("next hop self;")
				if len(s.Near.Out) == 0 {
					p.line("export all;")
				} else {
					birdFilter(p, "export", s.Near.Out, family, s.Set.ASN, "")
				}
			})
			p.Truncate(p.Len() - 1)
			p.WriteString(";\n")
		}
	})
}

// ConnectionName is what a tunnel is called in the IPsec daemon's files, with its children.
func ConnectionName(l *box.Link, t box.Tunnel) (connection string, children []string) {
	for n := range t.Pairs() {
		children = append(children, childName(l, t, n))
	}
	return connectionName(l, t), children
}

// ProtocolName is what a session is called in the BGP daemon's files.
func ProtocolName(s box.Session) string { return protocolName(s) }

// KernelTable is the kernel's number of a routing instance, 0 of that in which everything meets.
func KernelTable(i *box.Instance) int { return kernelTable(i) }
