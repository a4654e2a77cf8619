package handover

import (
	"slices"
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

// watch renders a script that moves the routes of static links, in every routing
// instance, off strands that no longer answer and back onto those that do; with BGP
// the daemon does that.
func watch(t *route.Tables, g *design.Object, all []*end) string {
	s := &script{page: &page{}, t: t, box: g, ends: all}
	s.line("#!/bin/sh")
	s.head("Watches the strands of static links at " + t.Design.Title(g.ID))
	s.line("set -u")
	s.comment("A strand that misses %d answers is left, within %d s; one that answers again is used again.", watchMisses, failoverSeconds)
	s.line(`asks() { ping -n -c 1 -W 1 -I "$1" "$2" >/dev/null 2>&1; }`)
	s.line(`own() { ip -o "$1" address show to "$2" scope global | awk '$2 != "lo" { sub("/.*", "", $4); print $4; exit }'; }`)
	s.comment("over DEVICE...: next hops over those that answer; over all if none does.")
	s.line(`over() { h=; for v; do case "$lost" in *" $v "*) ;; *) h="$h nexthop dev $v" ;; esac; done; if [ -z "$h" ]; then for v; do h="$h nexthop dev $v"; done; fi; echo "$h"; }`)
	s.line("had=none")
	for _, e := range all {
		if watched(e) {
			for _, x := range e.strands {
				missed := 0
				if !x.up { // as the sheet says; it is taken when it answers
					missed = watchMisses
				}
				s.line("missed_%d=%d", x.number, missed)
			}
		}
	}
	s.part("while :; do", "done", func() {
		s.line(`lost=" "`)
		for _, e := range all {
			if watched(e) {
				s.askStrands(e)
			}
		}
		s.part(`if [ "$lost" != "$had" ]; then`, "fi", func() {
			for _, w := range s.watchedWays() {
				w.move(s.page)
			}
			s.line(`had="$lost"`)
		})
		s.line("sleep %d", watchPause)
	})
	return s.String()
}

// askStrands notes which strands of a link are lost.
func (s *script) askStrands(e *end) {
	s.comment("%s", e.link.Name)
	for _, x := range e.strands {
		s.line("if asks %s %s; then missed_%d=0; else missed_%d=$((missed_%d + 1)); fi", x.device(), x.body.Inside[1-e.n].Addr(), x.number, x.number, x.number)
		s.line(`if [ "$missed_%d" -ge %d ]; then lost="${lost}%s "; fi`, x.number, watchMisses, x.device())
	}
}

// move writes the commands that put a route over the strands that answer.
func (w way) move(p *page) {
	if w.src != "" {
		p.line("s=%s", w.src)
	}
	for _, half := range halves(w.to) {
		if w.to.Addr().Is4() {
			p.line("ip -4 route replace %s metric %d %s$(over %s)", half, w.metric, w.tail(), strings.Join(w.devices, " "))
			continue
		}
		for k, v := range w.devices {
			table := strings.TrimSuffix(w.tail(), "${s:+src $s} ")
			p.line(`case "$(over %s) " in *" %s "*) ip -6 route replace %s metric %d %sdev %s ;; *) ip -6 route del %s metric %d %sdev %s 2>/dev/null ;; esac`,
				strings.Join(w.devices, " "), v, half, w.metric+k, w.tail(), v, half, w.metric+k, table, v)
		}
	}
}

// watches reports whether a gateway has links to watch.
func watches(all []*end) bool { return slices.ContainsFunc(all, watched) }
