package finding

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/provider"
	"dravin/core/settings"
	"dravin/core/status"
)

// isOffered finds what a cloud's profile knows nothing of: a kind of VPN gateway, a region,
// a zone, a way of routing, a table for what enters. Nothing else says then what the
// cloud allows there, so that it is told and never passed over.
func (c *collector) isOffered(*design.Object) {
	for _, o := range c.design.All() {
		p := c.design.ProfileOf(o.ID)
		if p == nil {
			continue
		}
		switch b := o.Body.(type) {
		case *design.Network:
			c.region(o, p, b.Region)
			c.entersBy(o, p)
		case *design.Hub:
			c.region(o, p, b.Region)
		case *design.Subnet:
			region := c.design.Get(o.Parent).Body.(*design.Network).Region
			if p.Networks.SpanRegions {
				region = "" // its subnets are in any zone of the cloud
			}
			c.zone(o, p, region, b.Zone)
		case *design.Gateway:
			c.vpnKind(o, p, b)
		}
	}
	for o, body := range design.Each[design.Circuit](c.design.Of(design.KindCircuit)) {
		for _, e := range body.Ends {
			if p := c.design.ProfileOf(e.At); p != nil && e.Zone != "" {
				c.zone(o, p, regionOf(c.design.Party(e.At)), e.Zone)
			}
		}
	}
	for _, o := range c.design.Of(design.KindLink) {
		c.routing(o)
	}
	for o, body := range design.Each[design.Session](c.design.Of(design.KindSession)) {
		c.sessionRules(o, body)
	}
}

// sessionRules finds filters and limits where a cloud lets nobody set any.
func (c *collector) sessionRules(o *design.Object, s *design.Session) {
	for n, e := range s.Ends {
		line := ""
		switch {
		case len(e.In) > 0:
			line = "in"
		case len(e.Out) > 0:
			line = "out"
		case e.MaxPrefixes > 0:
			line = "max_prefixes"
		}
		if line == "" || !settings.FiltersFixed(c.design, o, n) {
			continue
		}
		at := settings.Speaker(c.design, o, n)
		now := design.Edited(o, func(b *design.Session) {
			b.Ends[n].In, b.Ends[n].Out, b.Ends[n].MaxPrefixes = nil, nil, 0
		})
		f := c.add(
			"not-in-profile", Risk, o.ID, nil,
			"filters or a limit are written down for %s on %s, and its kind lets nobody set any: it takes what comes, "+
				"and announces what is its cloud's",
			c.design.Title(at.ID), status.CarrierName(c.design, o),
		)
		f.Line = line
		f.Fixes = append(f.Fixes, Fix{
			Title: "Take them out of the design", Edits: []design.Edit{design.PutEdit(now)},
		})
	}
}

func regionOf(o *design.Object) string {
	switch b := o.Body.(type) {
	case *design.Network:
		return b.Region
	case *design.Hub:
		return b.Region
	}
	return ""
}

func (c *collector) notOffered(o *design.Object, line, format string, args ...any) {
	c.add("not-in-profile", Risk, o.ID, nil, format, args...).Line = line
}

func (c *collector) region(o *design.Object, p *provider.Profile, region string) {
	if region == "" || len(p.Regions) == 0 {
		return
	}
	if !slices.ContainsFunc(p.Regions, func(r provider.Region) bool { return strings.EqualFold(r.Name, region) }) {
		c.notOffered(
			o, "region", "%s is in %s, which is no region of %s; there %s",
			c.design.Title(o.ID), region, design.CloudOf(o),
			are(names(p.Regions, func(r provider.Region) string { return r.Name })),
		)
	}
}

func (c *collector) zone(o *design.Object, p *provider.Profile, region, zone string) {
	known := p.Zones(region)
	for _, r := range p.Regions {
		if region == "" && p.Networks.SpanRegions {
			known = append(known, r.Zones...)
		}
	}
	if zone == "" || len(known) == 0 ||
		slices.ContainsFunc(known, func(z string) bool { return strings.EqualFold(z, zone) }) {
		return
	}
	c.notOffered(
		o, "zone", "%s is in %s, which is no zone of %s; there %s", c.design.Title(o.ID), zone,
		cmp.Or(region, design.CloudOf(c.design.Party(o.ID))), are(known),
	)
}

// vpnKind finds a gateway of a kind that its cloud does not have: none of the cloud's
// rules for VPN gateways are known to hold for it.
func (c *collector) vpnKind(o *design.Object, p *provider.Profile, g *design.Gateway) {
	if g.VPN == "" || len(p.VPN) == 0 {
		return
	}
	if c.design.VPNOf(o.ID) == nil {
		c.notOffered(
			o, "vpn", "%s is a %s gateway, and its cloud has none of that kind; there %s", c.design.Title(o.ID), g.VPN,
			are(names(p.VPN, func(v provider.VPN) string { return v.Name })),
		)
	}
}

// routing finds links whose routing a cloud's gateway does not do.
func (c *collector) routing(o *design.Object) {
	l := o.Body.(*design.Link)
	for _, e := range l.Ends {
		v := c.design.VPNOf(e.Gateway)
		if v == nil || len(v.Routing) == 0 || slices.Contains(v.Routing, l.Routing) {
			continue
		}
		c.notOffered(
			o, "routing", "%s is decided by %s, and a %s gateway of %s does %s only", o.Name, l.Routing, v.Name,
			c.design.Title(e.Gateway), strings.Join(v.Routing, " or "),
		)
	}
}

// entersBy finds tables for what enters a network, where its cloud has none.
func (c *collector) entersBy(network *design.Object, p *provider.Profile) {
	if p.Networks.EnteringTables {
		return
	}
	var by []string
	for g, body := range design.Each[design.Gateway](c.design.Inside(network.ID, design.KindGateway)) {
		if body.Enters != "" {
			by = append(by, c.design.Title(g.ID))
		}
		for o, body := range design.Each[design.Circuit](c.design.Referring(g.ID, design.KindCircuit)) {
			if slices.ContainsFunc(
				body.Ends, func(e design.CircuitEnd) bool { return e.At == g.ID && e.Enters != "" },
			) {
				by = append(by, o.Name)
			}
		}
	}
	for o, body := range design.Each[design.Peering](c.design.Referring(network.ID, design.KindPeering)) {
		if slices.ContainsFunc(
			body.Halves,
			func(h design.Half) bool { return h.Network == network.ID && h.Enters != "" },
		) {
			by = append(by, o.Name)
		}
	}
	for o, body := range design.Each[design.Attachment](c.design.Referring(network.ID, design.KindAttachment)) {
		if a := body; a.What == network.ID && a.Enters != "" {
			by = append(by, o.Name)
		}
	}
	if len(by) > 0 {
		c.notOffered(
			network, "enters", "%s has a table for what enters by %s, and its cloud has no such tables", network.Name,
			strings.Join(by, ", "),
		)
	}
}

func names[T any](list []T, of func(T) string) []string {
	out := make([]string, len(list))
	for n, x := range list {
		out[n] = of(x)
	}
	return out
}

func are(list []string) string {
	if len(list) == 1 {
		return "is " + list[0]
	}
	return fmt.Sprintf("are %s", strings.Join(list, ", "))
}
