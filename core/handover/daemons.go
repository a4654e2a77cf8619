package handover

import (
	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/route"
)

// DaemonNames are the tunnels and sessions of a box of one's own, by what the files of the IPsec and BGP daemons call
// them.
func DaemonNames(t *route.Tables, id design.ID) map[string]design.ID {
	out := map[string]design.ID{}
	b := box.Of(t, id)
	if b == nil || !b.Linux {
		return out
	}
	for _, l := range b.Links {
		for _, x := range l.Tunnels {
			out[connectionName(l, x)] = x.ID
		}
	}
	for _, s := range b.Sessions {
		out[protocolName(s)] = s.ID
	}
	return out
}
