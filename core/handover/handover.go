// Package handover renders what the people at each end need: configuration
// files for a gateway, and the list of what must be set where there is no file
// to give. Rendering is pure; nothing here is applied.
package handover

import (
	"fmt"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/route"
	"dravin/core/settings"
)

// File is one rendered file.
type File struct {
	Path    string `json:"path"` // where it goes, relative to /etc on a Linux gateway
	About   string `json:"about"`
	Content string `json:"content"`
	Secret  bool   `json:"secret,omitempty"` // it holds keys
}

// Keys holds the pre-shared key of each tunnel by its ID. A missing key is
// rendered as a place to fill in.
type Keys map[design.ID]string

// Masked stands for a key that was not asked for.
const Masked = "(masked)"

// Parties are the kinds that get something.
var Parties = []design.Kind{design.KindSite, design.KindNetwork, design.KindHub, design.KindEdgeRouter}

// Render returns the files for a party: configurations for its gateways if it
// is a site, and its sheet of settings always.
func Render(t *route.Tables, party design.ID, keys Keys) []File {
	d := t.Design
	var out []File
	if o := d.Get(party); o != nil && o.Kind == design.KindSite {
		for _, g := range d.Inside(party, design.KindGateway) {
			out = append(out, linuxGateway(t, g, keys)...)
		}
	}
	for _, b := range d.Inside(party, design.KindBox) {
		out = append(out, linuxBox(t, b)...)
	}
	if o := d.Get(party); o != nil && o.Kind == design.KindEdgeRouter {
		out = append(out, linuxRouter(t, o)...)
	}
	if keys := cloudKeys(t, party, keys); keys.Path != "" {
		out = append(out, keys)
	}
	return append(out, sheet(t, party))
}

// linuxGateway renders the files of one Linux gateway.
func linuxGateway(t *route.Tables, g *design.Object, keys Keys) []File {
	all := endsOf(t, g.ID)
	prefix := folders.name(g.Name) + "/"
	out := []File{
		{Path: prefix + "swanctl/conf.d/dravin.conf", About: "the IPsec daemon's connections", Content: swanctl(t, g, all)},
		{Path: prefix + "strongswan.d/dravin.conf", About: "keeps the IPsec daemon from adding routes of its own: they would go before the box's own ranges", Content: daemonSettings(g)},
		{Path: prefix + "swanctl/conf.d/dravin-keys.conf", About: "the pre-shared keys; the far end needs the same", Content: swanctlKeys(t.Design, all, keys), Secret: true},
		{Path: prefix + "nftables.d/dravin.nft", About: "address translation and segment size, loaded with nft -f", Content: nftables(t, g, all)},
		{Path: prefix + "dravin/routes.sh", About: "addresses, interfaces, routes and kernel settings; may be run again at any time", Content: routes(t, g, all)},
		startFile(prefix, g),
	}
	out = append(out, relays(t, g)...)
	out = append(out, watcher(t, g, all, prefix)...)
	return append(out, meets(t, g, prefix)...)
}

// meets are the files of what a box meets by BGP and over circuits.
func meets(t *route.Tables, o *design.Object, prefix string) (out []File) {
	if on := circuitsAt(t, o.ID); len(on) > 0 {
		out = append(
			out,
			File{Path: prefix + portsFile, About: "the port of each circuit, to fill in", Content: ports(t, o, on)},
		)
	}
	if sessions := sessionsAt(t, o.ID); len(sessions) > 0 {
		out = append(
			out,
			File{
				Path: prefix + "bird/bird.conf", About: "the BGP daemon's sessions and filters",
				Content: bird(t, o, sessions),
			},
		)
	}
	return out
}

// linuxRouter renders the files of an edge router.
func linuxRouter(t *route.Tables, o *design.Object) []File {
	prefix := folders.name(o.Name) + "/"
	out := []File{
		{
			Path: prefix + "nftables.d/dravin.nft", About: "segment size, loaded with nft -f",
			Content: nftables(t, o, nil),
		},
		{Path: prefix + "dravin/routes.sh", About: "interfaces, addresses, routes and kernel settings; may be run again at any time", Content: routes(t, o, nil)},
		startFile(prefix, o),
	}
	out = append(out, watcher(t, o, nil, prefix)...)
	return append(out, meets(t, o, prefix)...)
}

// linuxBox renders the files of a translating box.
func linuxBox(t *route.Tables, b *design.Object) []File {
	prefix := folders.name(b.Name) + "/"
	return append([]File{
		{Path: prefix + "nftables.d/dravin.nft", About: "address translation and segment size, loaded with nft -f", Content: nftables(t, b, nil)},
		{Path: prefix + "dravin/routes.sh", About: "addresses, routes and kernel settings; may be run again at any time", Content: routes(t, b, nil)},
		startFile(prefix, b),
	}, relays(t, b)...)
}

// end is a link as one gateway sees it.
type end struct {
	link      *design.Object
	body      *design.Link
	near, far *design.End
	n         int // the gateway's position among the link's ends
	tunnels   []tunnel
}

// tunnel is a tunnel with the number and the interface it has on the gateway.
type tunnel struct {
	tunnel *design.Object
	body   *design.Tunnel
	number int // interface and mark, unique on the gateway
	set    negotiate.Settings
	starts bool // this end begins: only one does, so that there is never a second pair of SAs
	up     bool // its sheet says so; nothing is sent into it else, until it answers
}

// Devices are the interfaces of the tunnels of a gateway's route-based links, by
// tunnel.
func Devices(t *route.Tables, gateway design.ID) map[design.ID]string {
	out := map[design.ID]string{}
	for _, e := range endsOf(t, gateway) {
		for _, s := range e.tunnels {
			if e.routed() {
				out[s.tunnel.ID] = s.device()
			}
		}
	}
	return out
}

func (s tunnel) device() string { return fmt.Sprintf("dravin%d", s.number) }

func (e *end) routed() bool { return e.body.Routing != design.RoutingSelectors }

// devices are the names of a route-based link's interfaces.
func (e *end) devices() []string {
	var out []string
	for _, s := range e.tunnels {
		out = append(out, s.device())
	}
	return out
}

func endsOf(t *route.Tables, gateway design.ID) []*end {
	d := t.Design
	var out []*end
	number := 0
	for _, o := range design.InOrder(d.Referring(gateway, design.KindLink)) {
		b := o.Body.(*design.Link)
		near, far, n, ok := b.End(gateway)
		if !ok || !t.Status.Intended(o) {
			continue
		}
		e := &end{link: o, body: b, near: near, far: far, n: n}
		for _, s := range d.Inside(o.ID, design.KindTunnel) {
			number++ // also of what is gone, so that the others keep their interfaces
			if design.GoneAtAnEnd(s) {
				continue
			}
			e.tunnels = append(
				e.tunnels,
				tunnel{
					s, s.Body.(*design.Tunnel), number, settings.SettingsOf(d, s, "")[n], settings.Starts(d, s, n),
					t.Status.Of(s.ID).Up,
				},
			)
		}
		out = append(out, e)
	}
	return out
}
