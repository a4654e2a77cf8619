package handover

import (
	"slices"

	"dravin/core/box"
)

// Everything is set up again at boot by units of systemd: the routes' script and the
// ruleset by one that runs once, the watcher and the listeners by units that wait for
// it and never give up.

// start is the unit that everything else waits for.
const start = "dravin.service"

// startUnit sets up addresses, interfaces, routes and rules.
func startUnit(b *box.Box) string {
	return unit(
		"Sets up "+b.Name,
		"Dravin's addresses, interfaces, routes and rules",
		slices.Concat(
			[]string{"Wants=network-online.target", "After=network-online.target nftables.service", "Before=bird.service"},
			bound,
		),
		[]string{
			"Type=oneshot",
			"RemainAfterExit=yes",
			"ExecStart=/usr/sbin/nft -f /etc/nftables.d/dravin.nft",
			"ExecStart=/bin/sh /etc/dravin/routes.sh",
			"ExecReload=/usr/sbin/nft -f /etc/nftables.d/dravin.nft",
			"ExecReload=/bin/sh /etc/dravin/routes.sh",
		},
	)
}

// bound is what loads rules again when Debian's own unit flushes all there are, as it does whenever it is restarted or
// reloaded (systemd.unit(5)).
var bound = []string{"PartOf=nftables.service", "ReloadPropagatedFrom=nftables.service"}

// hostUnit loads a host's filter before anybody can reach it.
func hostUnit(name string) string {
	return unit(
		"Loads the filter of "+name, "Dravin's filter of this host",
		slices.Concat(
			[]string{"Wants=network-pre.target", "After=nftables.service", "Before=network-pre.target"}, bound,
		),
		[]string{
			"Type=oneshot", "RemainAfterExit=yes", "ExecStart=/usr/sbin/nft -f /etc/nftables.d/dravin.nft",
			"ExecReload=/usr/sbin/nft -f /etc/nftables.d/dravin.nft",
		},
	)
}

// watcher is the script that watches and the unit that runs it, where there is anything
// to watch.
func watcher(b *box.Box, prefix string) []File {
	text := watch(b)
	if text == "" {
		return nil
	}
	runs := unit(
		"Runs the watcher of "+b.Name, "Dravin's watcher of tunnels and circuits", later,
		[]string{"ExecStart=/bin/sh /etc/dravin/watch.sh", "Restart=always"},
	)
	return []File{
		{
			Path:  prefix + "dravin/watch.sh",
			About: "takes typed routes out of what does not answer, and asks again for refused tunnels", Content: text,
		},
		{Path: prefix + "systemd/system/dravin-watch.service", About: "runs the watcher", Content: runs},
	}
}

// later is what units say that need the addresses: they start after them, and go on
// trying however long these take.
var later = []string{"Wants=" + start, "After=" + start, "StartLimitIntervalSec=0"}

// unit renders a unit of systemd.
func unit(head, about string, first, service []string) string {
	p := &page{}
	p.head(head)
	p.line("[Unit]")
	p.line("Description=%s", about)
	for _, l := range slices.Concat(
		first, []string{"", "[Service]"}, service, []string{"", "[Install]", "WantedBy=multi-user.target"},
	) {
		p.line("%s", l)
	}
	return p.String()
}

// startFile is the unit that a box has in any case.
func startFile(prefix string, b *box.Box) File {
	return File{
		Path: prefix + "systemd/system/" + start, About: "sets everything up at boot; enable and start it",
		Content: startUnit(b),
	}
}
