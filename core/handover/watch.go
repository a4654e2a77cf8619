package handover

import (
	"fmt"
	"net/netip"
	"strings"

	"dravin/core/box"
	"dravin/core/proof"
)

// How tunnels and circuits whose routes are entered by hand are watched.
const (
	watchMisses     = proof.WatchMisses // answers that one may miss before it is left
	watchPause      = proof.WatchPause  // seconds between rounds; a round waits a second for an answer
	watchCalls      = 5                 // rounds after which what was refused is asked for again
	failoverSeconds = proof.WatchWithin
)

// watched is an interface that takes routes only while its far end answers.
type watched struct {
	device     string
	about      string
	up         bool       // as the sheet says; else it is taken when it answers
	far        netip.Addr // which is asked; invalid if none can be
	connection string     // of the IPsec daemon, whose word counts while nothing has answered; empty: none
}

// watched are the tunnels of static links and the circuits without a session that
// routes lead into: with BGP the daemon takes the routes away.
func (s *script) watched() (out []watched) {
	into := map[string]bool{}
	for _, w := range s.allWays() {
		for _, v := range w.devices {
			into[v] = true
		}
	}
	for _, l := range s.box.Links {
		for _, t := range l.Tunnels {
			if into[t.Device()] {
				out = append(out, watched{t.Device(), l.Name + ", " + t.Name, t.Up, t.Asked(), connectionName(l, t)})
			}
		}
	}
	for _, c := range s.box.Circuits {
		if into[c.Device()] {
			out = append(out, watched{c.Device(), c.Name, c.Up, c.FarInside, ""})
		}
	}
	return out
}

// watch renders a script that takes routes, in every routing instance, out of tunnels
// and circuits that no longer answer and puts them back into those that do, and that asks
// again for tunnels that were refused; "" where there is nothing to do. A route over none
// that answers is taken away, so that the next goes: the kernel would keep it, since its
// interface is there.
func watch(b *box.Box) string {
	s := watching(b)
	list, calls := s.watched(), s.calls()
	if len(list)+len(calls) == 0 {
		return ""
	}
	s.line("#!/bin/sh")
	s.head("Watches tunnels and circuits at " + b.Title)
	s.line("set -u")
	s.watchWords(list, calls)
	s.part("while :; do", "done", func() {
		if len(list) > 0 {
			s.round(list)
		}
		if len(calls) > 0 {
			s.part(fmt.Sprintf("if [ $((round %% %d)) -eq 0 ]; then", watchCalls), "fi", func() {
				for _, c := range calls {
					s.line("%s", c)
				}
			})
			s.line("round=$((round + 1))")
		}
		s.line("sleep %d", watchPause)
	})
	return s.String()
}

func watching(b *box.Box) *script { return &script{page: &page{}, box: b} }

// watchSheet tells what the watcher does, where there is one.
func watchSheet(p *page, b *box.Box) {
	s := watching(b)
	if len(s.watched()) > 0 {
		p.line(
			"      the watcher runs: what does not answer is left within %d s, and a route over nothing that answers goes",
			failoverSeconds,
		)
	} else if len(s.calls()) > 0 {
		p.line("      the watcher runs: a tunnel that was refused is asked for again")
	}
}

// watchWords are the functions of the script, and how it begins.
func (s *script) watchWords(list []watched, calls []string) {
	if len(calls) > 0 {
		s.comment(
			"calls CONNECTION CHILD: asks for it again where it is not there. The IPsec daemon gives up when it is " +
				"refused, as by an end that is not ready yet.",
		)
		s.line(
			`calls() { sas=$(swanctl --list-sas --raw --ike "$1" 2>/dev/null) || return 0; case "$sas" in *CONNECTING* | *"name=$2 "*) ;; *) swanctl --initiate --child "$2" --timeout 1 >/dev/null 2>&1 ;; esac; }`,
		)
		s.line("round=0")
	}
	if len(list) == 0 {
		return
	}
	s.comment(
		"What misses %d answers is left, within %d s; what answers again is used again. While nothing has ever "+
			"answered, the IPsec daemon's word counts: not every far end answers.",
		watchMisses,
		failoverSeconds,
	)
	s.line(`asks() { ping -n -c 1 -W 1 -I "$1" "$2" >/dev/null 2>&1; }`)
	s.line(`agreed() { swanctl --list-sas --raw --ike "$1" 2>/dev/null | grep -q state=INSTALLED; }`)
	s.line(
		`own() { ip -o "$1" address show to "$2" scope global | awk '$2 != "lo" { sub("/.*", "", $4); print $4; exit }'; }`,
	)
	s.comment("over DEVICE...: next hops over those that answer.")
	s.line(`over() { h=; for v; do case "$lost" in *" $v "*) ;; *) h="$h nexthop dev $v" ;; esac; done; echo "$h"; }`)
	s.line("had=none")
	for _, w := range list {
		missed := 0
		if !w.up {
			missed = watchMisses
		}
		s.line("missed_%[1]s=%[2]d heard_%[1]s=no", w.device, missed)
	}
}

// round asks all, and moves the routes when another set is lost.
func (s *script) round(list []watched) {
	s.line(`lost=" "`)
	for _, w := range list {
		s.comment("%s", w.about)
		var tests []string
		if w.far.IsValid() {
			tests = append(
				tests, fmt.Sprintf("if asks %s %s; then missed_%s=0 heard_%s=yes", w.device, w.far, w.device, w.device),
			)
		}
		if w.connection != "" {
			tests = append(
				tests,
				fmt.Sprintf(`if [ "$heard_%s" = no ] && agreed %s; then missed_%s=0`, w.device, w.connection, w.device),
			)
		}
		s.line("%s; else missed_%[2]s=$((missed_%[2]s + 1)); fi", strings.Join(tests, "; el"), w.device)
		s.line(`if [ "$missed_%[1]s" -ge %[2]d ]; then lost="${lost}%[1]s "; fi`, w.device, watchMisses)
	}
	s.part(`if [ "$lost" != "$had" ]; then`, "fi", func() {
		for _, w := range s.allWays() {
			w.move(s.page)
		}
		s.line(`had="$lost"`)
	})
}

// calls are the commands that ask again for what this end starts.
func (s *script) calls() (out []string) {
	for _, l := range s.box.Links {
		for _, t := range l.Tunnels {
			for n := range t.Pairs() {
				if t.Starts {
					out = append(out, fmt.Sprintf("calls %s %s", connectionName(l, t), childName(l, t, n)))
				}
			}
		}
	}
	return out
}

// move writes the commands that put a route over what answers, or take it away.
func (w way) move(p *page) {
	if w.src != "" {
		p.line("s=%s", w.src)
	}
	for _, half := range halves(w.to) {
		if w.shares() {
			p.line(`h=$(over %s)`, strings.Join(w.devices, " "))
			p.line(`if [ -n "$h" ]; then %s; else %s; fi`, w.put(half, 0, "$h"), w.drop(half, 0, ""))
			continue
		}
		for k, v := range w.devices {
			hop := "dev " + v
			if w.via.IsValid() {
				hop = fmt.Sprintf("via %s dev %s", w.via, v)
			}
			p.line(`case "$lost" in *" %s "*) %s ;; *) %s ;; esac`, v, w.drop(half, k, " dev "+v), w.put(half, k, hop))
		}
	}
}
