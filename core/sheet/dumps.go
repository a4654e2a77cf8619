package sheet

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"dravin/core/design"
)

// What other programs of a far end have: the BGP daemons' configurations, and what ip and nft say as JSON.

var (
	birdHead  = regexp.MustCompile(`\b(?:protocol|template)\s+bgp\b`)
	birdName  = regexp.MustCompile(`^\s*(?:([A-Za-z_][A-Za-z0-9_]*)|'([^'\n]*)')`)
	birdLocal = regexp.MustCompile(`\blocal\s+(?:([0-9A-Fa-f.:]+)\s+)?(?:port\s+\d+\s+)?as\s+(\d+)`)
	birdFar   = regexp.MustCompile(
		`\bneighbor\s+(?:range\s+)?([0-9A-Fa-f.:]+)(?:\s*%\s*'?[\w.-]+'?)?(?:\s+port\s+\d+)?(?:\s+as\s+(\d+))?`,
	)
	birdHold     = regexp.MustCompile(`\bhold\s+time\s+(\d+)`)
	birdMost     = regexp.MustCompile(`\b(?:import|receive)\s+limit\s+(\d+)`)
	frrProcess   = regexp.MustCompile(`(?m)^router bgp (\d+)`)
	frrNeighbour = regexp.MustCompile(`^\s*neighbor (\S+) (remote-as|timers|maximum-prefix|local-as) (.*?)\s*$`)
	hashComment  = regexp.MustCompile(`(?m)#.*$`)
)

// fromBird are the sessions of a BGP daemon that is configured in braces.
func fromBird(text string) (out []connection) {
	text = hashComment.ReplaceAllString(text, "")
	line := 1
	for len(out) < mostConnections {
		at, head, ok := birdHeader(text)
		if !ok {
			break
		}
		body, name := braced(text[at[1]:]), "a session"
		if m := birdName.FindStringSubmatch(head); m != nil && m[1]+m[2] != "from" {
			name = m[1] + m[2]
		}
		c := connection{Name: name, line: line + strings.Count(text[:at[0]], "\n")}
		end := at[1] + len(body) // what stands within braces is no header of another
		line, text = line+strings.Count(text[:end], "\n"), text[end:]
		if m := birdLocal.FindStringSubmatch(body); m != nil {
			c.set("asn", m[2], c.line)
			if m[1] != "" {
				c.set("bgp-address", m[1], c.line)
			}
		}
		if m := birdFar.FindStringSubmatch(body); m != nil {
			c.set("bgp-peer", m[1], c.line)
			if m[2] != "" {
				c.set("peer-asn", m[2], c.line)
			}
		}
		if m := birdHold.FindStringSubmatch(body); m != nil {
			c.set("hold", m[1], c.line)
		}
		if m := birdMost.FindStringSubmatch(body); m != nil {
			c.set("max-prefixes", m[1], c.line)
		}
		if len(c.values) > 0 {
			out = append(out, c)
		}
	}
	return out
}

// isBird reports whether a text is of a BGP daemon that is configured in braces.
func isBird(text string) bool {
	_, _, ok := birdHeader(text)
	return ok
}

// birdHeader is where the first section of a session begins and where its brace has opened, with what stands between.
// A header is short: without a bound each of many that never open would be looked for to the end of the text.
func birdHeader(text string) (at [2]int, head string, ok bool) {
	const most = 300
	for from := 0; ; {
		m := birdHead.FindStringIndex(text[from:])
		if m == nil {
			return at, "", false
		}
		begins, ends := from+m[0], from+m[1]
		rest := text[ends:min(ends+most, len(text))]
		if n := strings.IndexAny(rest, "{};"); n >= 0 && rest[n] == '{' {
			return [2]int{begins, ends + n + 1}, rest[:n], true
		}
		from = ends
	}
}

// mostConnections bounds how many connections are read of one text: nobody chooses among more.
const mostConnections = 1000

// braced is what stands before the brace that closes.
func braced(text string) string {
	depth := 1
	for n, r := range text {
		switch r {
		case '{':
			depth++
		case '}':
			if depth--; depth == 0 {
				return text[:n]
			}
		}
	}
	return text
}

// fromFRR are the neighbours of a BGP daemon that is configured in lines.
func fromFRR(text string) (out []connection) {
	asn, known := "", map[string]int{}
	at := func(name string, line int) *connection {
		n, there := known[name]
		if !there {
			n = len(out)
			known[name] = n
			out = append(out, connection{Name: name, line: line})
			out[n].set("asn", asn, line)
			out[n].set("bgp-peer", name, line)
		}
		return &out[n]
	}
	for n, line := range strings.Split(text, "\n") {
		if m := frrProcess.FindStringSubmatch(line); m != nil {
			asn = m[1]
			continue
		}
		m := frrNeighbour.FindStringSubmatch(line)
		if m == nil || asn == "" {
			continue
		}
		words := strings.Fields(m[3])
		if _, there := known[m[1]]; !there && len(known) == mostConnections {
			continue
		}
		c := at(m[1], n+1)
		switch {
		case m[2] == "remote-as" && len(words) > 0:
			c.set("peer-asn", words[0], n+1)
		case m[2] == "timers" && len(words) == 2 && words[0] != "connect":
			c.set("hold", words[1], n+1)
		case m[2] == "maximum-prefix" && len(words) > 0:
			c.set("max-prefixes", words[0], n+1)
		}
	}
	return out
}

// fromJSON are the interfaces that "ip -j address" lists, or what "nft -j list ruleset" says of segment sizes.
func fromJSON(text string) ([]connection, error) {
	bad := func(why string) error {
		return design.Problems{{Line: 1, Why: why, Want: "paste the output of ip -j address, or of nft -j list ruleset"}}
	}
	var links []struct {
		Name string `json:"ifname"`
		MTU  int    `json:"mtu"`
		Addr []struct {
			Local  string `json:"local"`
			Bits   int    `json:"prefixlen"`
			Family string `json:"family"`
		} `json:"addr_info"`
	}
	if json.Unmarshal([]byte(text), &links) == nil {
		var out []connection
		for _, l := range links {
			c := connection{Name: l.Name, line: 1}
			for _, a := range l.Addr {
				if a.Family == "inet" || a.Family == "inet6" && !strings.HasPrefix(a.Local, "fe80:") {
					c.set("inside", fmt.Sprintf("%s/%d", a.Local, a.Bits), 1)
				}
			}
			if l.MTU > 0 {
				c.set("mtu", fmt.Sprint(l.MTU), 1)
			}
			if len(l.Addr) > 0 && l.Name != "lo" {
				out = append(out, c)
			}
		}
		return out, nil
	}
	var rules struct {
		Nftables []map[string]json.RawMessage `json:"nftables"`
	}
	if err := json.Unmarshal([]byte(text), &rules); err != nil {
		return nil, bad("this is JSON of no kind that is known here: " + err.Error())
	}
	if rules.Nftables == nil {
		return nil, bad("this is JSON, and neither interfaces nor rules")
	}
	c := connection{Name: "the ruleset", line: 1}
	if m := segmentSize.FindStringSubmatch(text); m != nil {
		var size int
		_, _ = fmt.Sscan(m[1], &size)
		c.set("mtu", fmt.Sprint(size+ipAndTCP), 1)
	}
	return []connection{c}, nil
}

// segmentSize is a rule that sets the largest segment, of IPv4: so much less than what fits (RFC 9293 section 3.7.1).
var segmentSize = regexp.MustCompile(`"tcp option"\s*:\s*\{[^{}]*"maxseg"[^{}]*\}\s*\}\s*,\s*"value"\s*:\s*(\d+)`)

const ipAndTCP = 40
