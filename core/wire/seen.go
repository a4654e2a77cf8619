package wire

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"dravin/core/walk"
)

// Seen is what somebody has seen on the wire or at a box.
type Seen struct {
	Kind    string      `json:"kind" enum:"capture,ping,trace,connections,tunnels,sessions"`
	Packets []Observed  `json:"packets"` // of a capture
	Lines   []Line      `json:"lines"`   // of a text, those that were understood
	Entries []Entry     `json:"entries"` // of a connection table
	Hops    []TracedHop `json:"hops"`    // of a trace
	Ping    *Ping       `json:"ping,omitempty"`
	Stands  []Stands    `json:"stands"` // of tunnels or sessions
}

// Observed is a packet of a capture.
type Observed struct {
	Interface string      `json:"interface"` // as the capture calls it; empty if it does not
	Header    walk.Header `json:"header"`
	What      string      `json:"what"` // as in [Packet]
	ESP       bool        `json:"esp,omitempty"`
}

// Line is a line of a text.
type Line struct {
	N    int    `json:"n"` // from 1
	Text string `json:"text"`
}

// Entry is an entry of a connection table.
type Entry struct {
	Line       int         `json:"line"`
	First      walk.Header `json:"first"`
	Reply      walk.Header `json:"reply"`
	Unanswered bool        `json:"unanswered,omitempty"`
}

// TracedHop is a line of a trace.
type TracedHop struct {
	N       int        `json:"n"`
	Address netip.Addr `json:"address,omitzero"` // invalid: nobody answered
}

// Ping is what became of pings.
type Ping struct {
	To      netip.Addr `json:"to,omitzero"`
	Answers int        `json:"answers"`
	Sent    int        `json:"sent"`
	From    netip.Addr `json:"from,omitzero"` // who said that it can not be reached; invalid if nobody did
	Says    string     `json:"says,omitempty"`
	MTU     int        `json:"mtu,omitempty"` // that somebody said fits
}

// Stands is how a daemon says that a tunnel or session stands.
type Stands struct {
	Line int    `json:"line"`
	Name string `json:"name"` // as its configuration calls it
	Up   bool   `json:"up"`
	Says string `json:"says"`
}

// The forms of text that are read, by what is typical of them.
var (
	pingHead    = regexp.MustCompile(`^PING \S+ \(([0-9a-fA-F.:]+)\)`)
	pingAnswer  = regexp.MustCompile(`^\d+ bytes from (?:\S+ \()?([0-9a-fA-F.:]+)\)?:? .*(?:icmp_)?seq`)
	pingTold    = regexp.MustCompile(`^From (?:\S+ \()?([0-9a-fA-F.:]+?)\)?:? icmp_seq=\d+ (.+)$`)
	pingCount   = regexp.MustCompile(`^(\d+) packets transmitted, (\d+) (?:packets )?received`)
	pingMTU     = regexp.MustCompile(`mtu ?= ?(\d+)`)
	traceHead   = regexp.MustCompile(`^traceroute\d? to \S+ \(([0-9a-fA-F.:]+)\)`)
	traceHop    = regexp.MustCompile(`^\s*(\d+):?\s+(.+)$`)
	traceFrom   = regexp.MustCompile(`\(?\b((?:\d{1,3}\.){3}\d{1,3}|[0-9a-fA-F]*:[0-9a-fA-F:]+)\b\)?`)
	connEntry   = regexp.MustCompile(`\b(?:tcp|udp|icmp|icmpv6)\b.*\bsrc=\S+ dst=\S+`)
	connPair    = regexp.MustCompile(`(src|dst|sport|dport)=(\S+)`)
	tunnelState = regexp.MustCompile(`^(\S+): #\d+, (\w+), (?:IKEv[12]|reqid)`)
	sessionLine = regexp.MustCompile(`^(\S+)\s+BGP\s+\S+\s+(up|start|down)\s+\S+\s*(.*)$`)
)

// ReadText reads what somebody has pasted: the output of ping, of a trace, of conntrack -L, of swanctl --list-sas or of
// birdc show protocols.
func ReadText(text string) (Seen, error) {
	s := Seen{Packets: []Observed{}, Lines: []Line{}, Entries: []Entry{}, Hops: []TracedHop{}, Stands: []Stands{}}
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	for n, line := range lines {
		kind := s.line(n+1, line)
		if kind == "" {
			continue
		}
		s.Lines = append(s.Lines, Line{n + 1, strings.TrimSpace(line)})
		if s.Kind == "" {
			s.Kind = kind
		}
		if s.Kind != kind {
			return s, fmt.Errorf(
				"line %d is of a %s and what comes before it of a %s; paste one at a time", n+1, kind, s.Kind,
			)
		}
	}
	if s.Kind == "" {
		return s, errors.New(
			"nothing of this is known; paste what ping, traceroute, conntrack -L, swanctl --list-sas or birdc show " +
				"protocols prints, or drop a capture",
		)
	}
	return s, nil
}

// line takes in one line, and says of what it is; empty if it is of nothing.
func (s *Seen) line(n int, line string) string {
	switch {
	case s.pings(line):
		return "ping"
	case connEntry.MatchString(line):
		return s.connects(n, line)
	case tunnelState.MatchString(line):
		m := tunnelState.FindStringSubmatch(line)
		s.Stands = append(s.Stands, Stands{n, m[1], m[2] == "ESTABLISHED", m[2]})
		return "tunnels"
	case sessionLine.MatchString(line):
		m := sessionLine.FindStringSubmatch(line)
		up := strings.Contains(m[3], "Established")
		s.Stands = append(s.Stands, Stands{n, m[1], up, strings.TrimSpace(m[2] + " " + m[3])})
		return "sessions"
	case traceHead.MatchString(line):
		return "trace"
	case s.Kind == "trace" || s.Kind == "" && strings.Contains(line, " ms"):
		return s.hops(line)
	}
	return ""
}

func (s *Seen) pings(line string) bool {
	ping := func() *Ping {
		if s.Ping == nil {
			s.Ping = &Ping{}
		}
		return s.Ping
	}
	switch {
	case pingHead.MatchString(line):
		ping().To, _ = netip.ParseAddr(pingHead.FindStringSubmatch(line)[1])
	case pingCount.MatchString(line):
		m := pingCount.FindStringSubmatch(line)
		ping().Sent, _ = strconv.Atoi(m[1])
		ping().Answers, _ = strconv.Atoi(m[2])
	case pingTold.MatchString(line):
		m := pingTold.FindStringSubmatch(line)
		ping().From, _ = netip.ParseAddr(m[1])
		ping().Says = m[2]
		if x := pingMTU.FindStringSubmatch(m[2]); x != nil {
			s.Ping.MTU, _ = strconv.Atoi(x[1])
		}
	case pingAnswer.MatchString(line):
		if a, err := netip.ParseAddr(pingAnswer.FindStringSubmatch(line)[1]); err == nil && !ping().To.IsValid() {
			ping().To = a
		}
		ping().Answers++
		ping().Sent++
	default:
		return false
	}
	return true
}

// connects takes in an entry of a connection table: its first direction, then the other.
func (s *Seen) connects(n int, line string) string {
	var way [2]walk.Header
	proto := regexp.MustCompile(`\b(tcp|udp|icmpv6|icmp)\b`).FindString(line)
	at := -1
	for _, m := range connPair.FindAllStringSubmatch(line, -1) {
		if m[1] == "src" {
			at++
		}
		if at < 0 || at > 1 {
			return ""
		}
		h := &way[at]
		h.Proto = strings.TrimSuffix(proto, "v6")
		a, _ := netip.ParseAddr(m[2])
		port, _ := strconv.ParseUint(m[2], 10, 16)
		switch m[1] {
		case "src":
			h.Src = a
		case "dst":
			h.Dst = a
		case "sport":
			h.SPort = uint16(port)
		case "dport":
			h.DPort = uint16(port)
		}
	}
	if at != 1 {
		return ""
	}
	s.Entries = append(s.Entries, Entry{n, way[0], way[1], strings.Contains(line, "[UNREPLIED]")})
	return "connections"
}

func (s *Seen) hops(line string) string {
	m := traceHop.FindStringSubmatch(line)
	if m == nil {
		return ""
	}
	n, _ := strconv.Atoi(m[1])
	h := TracedHop{N: n}
	if from := traceFrom.FindStringSubmatch(m[2]); from != nil {
		h.Address, _ = netip.ParseAddr(from[1])
	} else if !strings.Contains(m[2], "*") {
		return ""
	}
	if !slices.ContainsFunc(s.Hops, func(x TracedHop) bool { return x.N == n }) {
		s.Hops = append(s.Hops, h)
	}
	return "trace"
}
