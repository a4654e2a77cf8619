// Package handover renders what the people at each end need: configuration
// files for a gateway, and the list of what must be set where there is no file
// to give. Rendering is pure; nothing here is applied.
package handover

import (
	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/route"
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
var Parties = box.Parties

// Render returns the files for a party, none for one that is not there: configurations for its own boxes, and its sheet
// of what must be set always.
func Render(t *route.Tables, party design.ID, keys Keys) []File {
	return Files(box.PartyOf(t, party), keys)
}

// Files prints a party: nothing else is asked, so that what is proven is what is printed.
func Files(p *box.Party, keys Keys) []File {
	if p.Kind == "" {
		return nil
	}
	var out []File
	for _, b := range p.Boxes {
		out = append(out, filesOf(b, keys)...)
	}
	out = append(out, hostFilters(p)...)
	if keys := cloudKeys(p, keys); keys.Path != "" {
		out = append(out, keys)
	}
	if l, ok := letter(p); ok {
		out = append(out, l)
	}
	return append(out, sheet(p))
}

// filesOf renders the files of one Linux box; none for a cloud's.
func filesOf(b *box.Box, keys Keys) []File {
	if !b.Linux {
		return nil
	}
	prefix := folders.name(b.Name) + "/"
	var out []File
	if b.Kind == design.KindGateway {
		out = append(
			out,
			File{
				Path: prefix + "swanctl/conf.d/dravin.conf", About: "the IPsec daemon's connections",
				Content: swanctl(b),
			},
			File{
				Path: prefix + "strongswan.d/dravin.conf",
				About: "keeps the IPsec daemon from adding routes of its own: they would go before the box's " +
					"own ranges",
				Content: daemonSettings(b),
			},
			File{
				Path: prefix + "swanctl/conf.d/dravin-keys.conf", About: "the pre-shared keys; the far end needs " +
					"the same",
				Content: swanctlKeys(b, keys), Secret: true,
			},
		)
	}
	translates, scripted := "address translation and segment size", "addresses, interfaces, routes and kernel settings"
	switch b.Kind {
	case design.KindEdgeRouter:
		translates, scripted = "segment size", "interfaces, addresses, routes and kernel settings"
	case design.KindBox:
		scripted = "addresses, routes and kernel settings"
	}
	out = append(
		out,
		File{Path: prefix + "nftables.d/dravin.nft", About: translates + ", loaded with nft -f", Content: nftables(b)},
		File{Path: prefix + "dravin/routes.sh", About: scripted + "; may be run again at any time", Content: routes(b)},
		startFile(prefix, b),
	)
	out = append(out, relays(b)...)
	out = append(out, watcher(b, prefix)...)
	return append(out, meets(b, prefix)...)
}

// meets are the files of what a box meets by BGP and over circuits.
func meets(b *box.Box, prefix string) (out []File) {
	if len(b.Circuits) > 0 {
		out = append(
			out, File{Path: prefix + portsFile, About: "the port of each circuit, to fill in", Content: ports(b)},
		)
	}
	if len(b.Sessions) > 0 {
		out = append(
			out,
			File{Path: prefix + "bird/bird.conf", About: "the BGP daemon's sessions and filters", Content: bird(b)},
		)
	}
	return out
}

// Devices are the interfaces of the tunnels of a gateway's route-based links, by
// tunnel.
func Devices(t *route.Tables, gateway design.ID) map[design.ID]string {
	out := map[design.ID]string{}
	for _, l := range box.Of(t, gateway).Links {
		for _, x := range l.Tunnels {
			if l.Routed() {
				out[x.ID] = x.Device()
			}
		}
	}
	return out
}
