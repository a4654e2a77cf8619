package topology

import "dravin/core/design"

// Fed reports whether a table has by itself what its network's gateways know (via is their kind), what the hubs know
// that the network is attached to, or what its peerings lead to. A table says so of gateways and hubs, else its cloud
// does; of peerings its cloud alone.
func Fed(d *design.Design, table *design.Object, via design.Kind) bool {
	profile := d.ProfileOf(table.Parent)
	if profile == nil {
		return false
	}
	if via == design.KindPeering {
		return profile.Peering != nil && profile.Peering.AutomaticRoutes
	}
	if b, ok := table.Body.(*design.Table); ok && b.Learns != "" {
		return b.Learns == "yes"
	}
	switch via {
	case design.KindGateway:
		return profile.Networks.GatewayFeeds
	case design.KindAttachment:
		return profile.Hub != nil && profile.Hub.AutomaticRoutes
	}
	return false
}
