package handover

import (
	"fmt"
	"strings"

	"dravin/core/design"
	"dravin/core/route"
)

// How the strands of static links are watched.
const (
	watchMisses     = 3 // answers that a strand may miss before it is left
	watchPause      = 1 // seconds between rounds; a round waits a second for an answer
	failoverSeconds = watchMisses*(watchPause+1) + 2
)

// watched reports whether a link's strands need watching: routes are entered by
// hand, there are several, and each has an address to ask.
func watched(e *end) bool {
	if e.body.Routing != design.RoutingStatic || len(e.strands) < 2 || len(e.near.Routes) == 0 {
		return false
	}
	for _, s := range e.strands {
		if len(s.body.Inside) != 2 {
			return false
		}
	}
	return true
}

// watch renders a script that moves the routes of static links off strands that
// no longer answer and back onto those that do; with BGP the daemon does that.
func watch(t *route.Tables, g *design.Object, all []*end) string {
	p := &page{}
	p.line("#!/bin/sh")
	p.head("Watches the strands of static links at " + t.Design.Title(g.ID))
	p.line("set -u")
	p.comment("A strand that misses %d answers is left, within %d s; one that answers again is used again.", watchMisses, failoverSeconds)
	p.line(`asks() { ping -n -c 1 -W 1 -I "$1" "$2" >/dev/null 2>&1; }`)
	p.line(`own() { ip -o "$1" address show to "$2" scope global | awk 'NR == 1 { sub("/.*", "", $4); print $4 }'; }`)
	for _, e := range all {
		if !watched(e) {
			continue
		}
		for _, s := range e.strands {
			p.line("missed_%d=0", s.number)
		}
		p.line("had_%d=", e.strands[0].number)
	}
	p.part("while :; do", "done", func() {
		for n, e := range all {
			if watched(e) {
				watchLink(p, t.Point(g.ID), e, n)
			}
		}
		p.line("sleep %d", watchPause)
	})
	return p.String()
}

func watchLink(p *page, point *route.Point, e *end, n int) {
	p.comment("%s", e.link.Name)
	first := e.strands[0].number
	p.line("up=")
	for _, s := range e.strands {
		p.line("if asks %s %s; then missed_%d=0; else missed_%d=$((missed_%d + 1)); fi", s.device(), s.body.Inside[1-e.n].Addr(), s.number, s.number, s.number)
		p.line(`if [ "$missed_%d" -lt %d ]; then up="$up nexthop dev %s"; fi`, s.number, watchMisses, s.device())
	}
	p.line(`if [ -z "$up" ]; then up=" nexthop dev %s"; fi`, strings.Join(e.devices(), " nexthop dev "))
	p.part(fmt.Sprintf(`if [ "$up" != "$had_%d" ]; then`, first), "fi", func() {
		for _, r := range e.near.Routes {
			v4 := r.Addr().Is4()
			p.line("s=%s", ownSource(point, v4))
			for _, half := range halves(r) {
				if v4 {
					p.line("ip -4 route replace %s metric %d ${s:+src $s} $up", half, metric4+n*perLink)
					continue
				}
				for k, s := range e.strands {
					metric := metric6 + n*perLink + k
					p.line(`case "$up" in *" %s"*) ip -6 route replace %s metric %d ${s:+src $s} dev %s ;; *) ip -6 route del %s metric %d dev %s 2>/dev/null ;; esac`, s.device(), half, metric, s.device(), half, metric, s.device())
				}
			}
		}
		p.line(`had_%d="$up"`, first)
	})
}

// unit renders the service that runs the watcher.
func unit(g *design.Object) string {
	p := &page{}
	p.head("Runs the watcher of " + g.Name)
	for _, l := range []string{"[Unit]", "Description=Dravin's watcher of strands", "After=network.target", "", "[Service]", "ExecStart=/bin/sh /etc/dravin/watch.sh", "Restart=always", "", "[Install]", "WantedBy=multi-user.target"} {
		p.line("%s", l)
	}
	return p.String()
}
