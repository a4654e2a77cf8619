package ledger

import (
	"fmt"
	"net/netip"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// UsablePorts are those of one address that a source may be given: all but the
// well-known ones.
const UsablePorts = 65536 - 1024

// UsualPorts is how many ports a host is reckoned to need at a time toward one far
// service, where no profile says the least that it gives.
const UsualPorts = 64

// Capacity is how far a pool reaches: for each protocol and far end (address and
// port) every address has its usable ports once.
type Capacity struct {
	At    design.ID    `json:"at"` // the gateway, box or attachment
	Title string       `json:"title"`
	Pool  netip.Prefix `json:"pool"`
	// Connections are how many there can be at a time to one far end by one
	// protocol: addresses x usable ports.
	Addresses   uint64 `json:"addresses"`
	Connections uint64 `json:"connections"`
	Ports       uint64 `json:"ports"` // reckoned for each host, or the least that the profile gives
	Hosts       uint64 `json:"hosts"` // that may be behind it, by the ranges
	Named       int    `json:"named"` // of these, in the design
	Fits        uint64 `json:"fits"`  // hosts that the pool serves
	Percent     uint64 `json:"percent"`
	Ends        string `json:"ends"` // when it is full, in words
}

// CapacityOf reckons a pool for the ranges behind it.
func CapacityOf(d *design.Design, at design.ID, pool netip.Prefix, behind []netip.Prefix, ports uint32) Capacity {
	c := Capacity{At: at, Title: d.Title(at), Pool: pool, Addresses: prefix.Size(pool), Ports: uint64(ports)}
	if c.Ports == 0 {
		c.Ports = UsualPorts
	}
	c.Connections = c.Addresses * UsablePorts
	for _, r := range behind {
		c.Hosts += prefix.Size(r)
	}
	for o, body := range design.Each[design.Endpoint](d.Of(design.KindEndpoint)) {
		for _, a := range body.Addresses {
			if prefix.Has(behind, a) && d.Party(o.ID) == d.Party(at) {
				c.Named++
			}
		}
	}
	c.Fits = c.Connections / c.Ports
	if c.Fits > 0 {
		c.Percent = (c.Hosts*100 + c.Fits - 1) / c.Fits
	}
	switch {
	case c.Hosts > c.Fits:
		c.Ends = fmt.Sprintf("%d hosts at %d ports each fill it, and %d may be behind it", c.Fits, c.Ports, c.Hosts)
	default:
		c.Ends = fmt.Sprintf("%d of %d hosts at %d ports each; %d more fit", c.Hosts, c.Fits, c.Ports, c.Fits-c.Hosts)
	}
	return c
}

// Pools are all pools of a design with how far they reach.
func Pools(t *route.Tables) []Capacity {
	d := t.Design
	out := []Capacity{}
	for _, k := range []design.Kind{design.KindGateway, design.KindBox} {
		for _, o := range d.Of(k) {
			for _, r := range route.Translations(d, o.ID) {
				if r.Does == design.FromPool {
					out = append(out, CapacityOf(d, o.ID, r.Into, behind(d, o, r.Rule), PortsAt(d, o.ID)))
				}
			}
		}
	}
	for o, b := range design.Each[design.Attachment](d.Of(design.KindAttachment)) {
		profile := d.ProfileOf(o.Parent)
		if b.Pool == "" || profile == nil || profile.Hub == nil {
			continue
		}
		for _, r := range d.Ranges(b.Pool) {
			out = append(out, AttachmentPool(d, o, r, d.AttachmentExports(o), profile.Hub.PortsPerHost))
		}
	}
	return out
}

// AttachmentPool reckons the source pool of an attachment: behind it are the hosts
// of the subnets that are not exported.
func AttachmentPool(
	d *design.Design,
	a *design.Object,
	pool netip.Prefix,
	exported []netip.Prefix,
	ports uint32,
) Capacity {
	network := a.Body.(*design.Attachment).What
	var subnets []netip.Prefix
	for _, s := range d.Inside(network, design.KindSubnet) {
		subnets = append(subnets, prefix.OfFamily(design.RangesOf(s), prefix.FamilyOf(pool.Addr()))...)
	}
	c := CapacityOf(d, network, pool, prefix.Free(subnets, exported), ports)
	c.At = a.ID
	return c
}

func PortsAt(d *design.Design, box design.ID) uint32 {
	if p := d.ProfileOf(box); p != nil && d.Get(box).Kind == design.KindGateway {
		return p.Translation.PortsPerHost
	}
	return 0
}

// behind are the ranges that a rule of a box hides: what it names as sources, else
// all of the party's own.
func behind(d *design.Design, box *design.Object, r design.Rule) []netip.Prefix {
	f := prefix.FamilyOf(r.Into.Addr())
	if len(r.Source) > 0 {
		return prefix.Minimal(prefix.OfFamily(r.Source, f))
	}
	return prefix.OfFamily(d.Exports(d.Party(box.ID).ID), f)
}
