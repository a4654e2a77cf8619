package handover

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/box"
	"dravin/core/prefix"
)

// networkd renders the interfaces of tunnels and circuits with their addresses and routes for systemd-networkd, in the
// place of the script. What the script finds out on the spot, such as the box's own interfaces in its LANs, and what it
// does beside, has no words there: routing instances, answers for mapped ranges, selectors' way out. A box that needs
// such keeps the script.
func networkd(b *box.Box) []File {
	at := folders.name(b.Name) + "/systemd/network/"
	selects := slices.ContainsFunc(b.Links, func(l *box.Link) bool { return !l.Routed() })
	if len(b.Instances) > 1 || len(b.Among) > 0 || selects {
		return []File{{
			Path: at + "README", About: "nothing to load: " + b.Name + " needs what only the script does",
			Content: "# Not rendered for this box: it has routing instances, mapped ranges or policy-based links.\n",
		}}
	}
	n := networkdFiles{script: watching(b), at: at}
	n.kernel()
	for _, l := range b.Links {
		for _, t := range l.Tunnels {
			n.tunnel(l, t)
		}
	}
	for k, c := range b.Circuits {
		n.circuit(k, c)
	}
	return n.out
}

type networkdFiles struct {
	*script
	at  string
	out []File
}

func (n *networkdFiles) file(name, about string, write func(p *page)) {
	p := &page{}
	p.head(about)
	write(p)
	n.out = append(n.out, File{Path: n.at + name, About: about, Content: p.String()})
}

// kernel is what the kernel is set to as a whole, which networkd itself does not set.
func (n *networkdFiles) kernel() {
	p := &page{}
	p.head("Kernel settings of " + n.box.Title + ", for systemd-sysctl")
	for _, s := range []string{
		"net.ipv4.ip_forward = 1", "net.ipv6.conf.all.forwarding = 1", "net.ipv4.conf.all.rp_filter = 0",
	} {
		p.line("%s", s)
	}
	n.out = append(n.out, File{
		Path: folders.name(n.box.Name) + "/sysctl.d/60-dravin.conf", About: "kernel settings", Content: p.String(),
	})
}

func (n *networkdFiles) tunnel(l *box.Link, t box.Tunnel) {
	about := fmt.Sprintf("%s, %s, to %s", l.Name, t.Name, l.Far)
	n.file("50-"+t.Device()+".netdev", about, func(p *page) {
		p.line("[NetDev]")
		p.line("Name=%s", t.Device())
		p.line("Kind=xfrm")
		if t.Set.MTU != 0 {
			p.line("MTUBytes=%d", t.Set.MTU)
		}
		p.line("")
		p.line("[Xfrm]")
		p.line("InterfaceId=%d", t.Number)
		p.line("Independent=yes")
	})
	n.network(t.Device(), about, t.Insides()...)
}

func (n *networkdFiles) circuit(k int, c box.Circuit) {
	if c.VLAN != 0 {
		n.file(fmt.Sprintf("40-port%d.network", k+1), "the port of "+c.Name, func(p *page) {
			p.line("[Match]")
			p.comment("Put the port's name in place of %s.", fillIn)
			p.line("Name=%s", fillIn)
			p.line("")
			p.line("[Network]")
			p.line("VLAN=%s", c.Device())
			p.line("LinkLocalAddressing=no")
		})
		n.file("50-"+c.Device()+".netdev", c.Name, func(p *page) {
			p.line("[NetDev]")
			p.line("Name=%s", c.Device())
			p.line("Kind=vlan")
			p.line("")
			p.line("[VLAN]")
			p.line("Id=%d", c.VLAN)
		})
	}
	n.network(c.Device(), c.Name, c.Insides()...)
}

// network is what an interface has, with the routes that lead into it.
func (n *networkdFiles) network(device, about string, inside ...netip.Prefix) {
	n.file("60-"+device+".network", about, func(p *page) {
		p.line("[Match]")
		p.line("Name=%s", device)
		p.line("")
		p.line("[Network]")
		p.line("LinkLocalAddressing=no")
		p.line("IPv6AcceptRA=no")
		for _, own := range inside {
			p.line("")
			p.line("[Address]")
			p.line("Address=%s", own)
			p.comment("Nobody answers for an address in a tunnel; else those of RFC 3927 would wait for that.")
			p.line("DuplicateAddressDetection=none")
		}
		for _, w := range n.ways(n.box.Main().Table, 0) {
			k := slices.Index(w.devices, device)
			if k < 0 {
				continue
			}
			if w.shares() {
				k = 0 // the kernel shares among those of one metric
			}
			for _, half := range halves(w.to) {
				p.line("")
				p.line("[Route]")
				p.line("Destination=%s", half)
				if w.via.IsValid() {
					p.line("Gateway=%s", w.via)
					p.line("GatewayOnLink=yes")
				} else {
					p.line("Scope=%s", map[bool]string{true: "link", false: "global"}[prefix.FamilyOf(half.Addr()) == prefix.IPv4])
				}
				p.line("Metric=%d", w.metric+k)
			}
		}
	})
}
