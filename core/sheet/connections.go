package sheet

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/negotiate"
)

// connection is one of a file that a far end sent: what it sets, whatever the style of the file.
type connection struct {
	Name   string
	line   int
	values []sentValue
	// aside are the lines that are not compared, and decides those for which it can not come up.
	aside, decides design.Problems
}

// notCompared puts a setting aside: it is told, and nothing is made of it.
func (c *connection) notCompared(where string, v setting) {
	name := strings.TrimPrefix(where+"."+v.key, ".")
	if len(c.aside) < mostValues {
		c.aside = append(c.aside, design.Problem{
			Line: v.line, Why: fmt.Sprintf("%s = %s is not compared", name, shortened(v.text)),
			Want: "see to it yourself that it suits",
		})
	}
}

func shortened(text string) string {
	if r := []rune(text); len(r) > 60 {
		return string(r[:60]) + "..."
	}
	return text
}

// refuses notes a setting with which the tunnel never comes up.
func (c *connection) refuses(field string, v *setting, why string) {
	c.decides = append(c.decides, design.Problem{
		Field: field, Line: v.line, Why: fmt.Sprintf("%s = %s: %s", v.key, shortened(v.text), why),
		Want: "our end is a tunnel of ESP with a pre-shared key",
	})
}

// judged looks at what decides in either style: how an end authenticates, the mode, and what is wrapped.
func (c *connection) judged(auth, mode, ah *setting) {
	if auth != nil && !slices.Contains([]string{"psk", "secret", "pre-shared-key"}, strings.ToLower(auth.text)) {
		c.refuses("key", auth, "it authenticates otherwise than by a pre-shared key")
	}
	if mode != nil && !slices.Contains([]string{"", "tunnel", "pass", "drop", "passthrough"}, strings.ToLower(mode.text)) {
		c.refuses("selectors", mode, "it is no tunnel: packets of others do not go by it")
	}
	if ah != nil && ah.text != "" && ah.text != "no" {
		c.refuses("esp", ah, "it wants AH (RFC 4302), which only signs packets")
	}
}

// sentValue is what a file sets one parameter to, by the key in [sentKeys].
type sentValue struct {
	key, text string
	line      int
}

func (c *connection) set(key, text string, line int) {
	c.values = append(c.values, sentValue{key, text, line})
}

func (c *connection) get(key string) string {
	for _, v := range c.values {
		if v.key == key {
			return v.text
		}
	}
	return ""
}

// Choice is a connection of a file that may be the one that is meant.
type Choice struct {
	Name  string `json:"name"`
	About string `json:"about"` // its ends, in words
	Line  int    `json:"line"`
}

func (c *connection) choice() Choice {
	ends := []string{cmp.Or(c.get("address"), "any address"), cmp.Or(c.get("peer"), "any address")}
	return Choice{Name: c.Name, About: strings.Join(ends, " to "), Line: c.line}
}

// choose takes the connection that is about the tunnel between near and far, or the one of a name. ok is false where
// several may be, or none.
func choose(all []connection, near, far netip.Addr, name string) (c connection, ok bool) {
	var fit []connection // those that fit best: by both addresses, by ours, by theirs
	best := 0
	for _, c := range all {
		score := 0
		if negotiate.Known(near) && firstAddress(c.get("peer")) == near {
			score += 2
		}
		if negotiate.Known(far) && firstAddress(c.get("address")) == far {
			score++
		}
		if len(all) == 1 {
			score = 3
		}
		if c.Name == name && name != "" {
			score = 4
		}
		if score > best {
			best, fit = score, nil
		}
		if score == best && score > 0 {
			fit = append(fit, c)
		}
	}
	if len(fit) != 1 {
		return connection{}, false
	}
	return fit[0], true
}

// take sets what a connection sets. What Dravin can not compare, such as a host name in the place of an address, is put
// aside with its line: it is no mistake of whoever sent it.
func (s *Sent) take(c connection) {
	s.Connection = c.Name
	s.Decides, s.Aside = append(s.Decides, c.decides...), append(s.Aside, c.aside...)
	for _, v := range c.values {
		before := len(s.Problems)
		s.set(v.key, v.text, v.line)
		s.Aside = append(s.Aside, s.Problems[before:]...)
		s.Problems = s.Problems[:before]
	}
	slices.SortFunc(s.Given, func(a, b string) int { return keyPlace(a) - keyPlace(b) })
}

func keyPlace(key string) int {
	return slices.IndexFunc(sentKeys, func(k sentKey) bool { return k.key == key })
}

// fromSections are the connections of a swanctl.conf.
func fromSections(text string) ([]connection, error) {
	root, err := readSections(text)
	if err != nil {
		return nil, err
	}
	all := root.sub("connections")
	if all == nil && looksLikeOne(root) {
		root.name = "the connection" // a part that is included in one
		all = &section{subs: []*section{root}}
	}
	if all == nil && slices.ContainsFunc(root.subs, looksLikeOne) {
		all = root // a part that is included in the section
	}
	if all == nil {
		return nil, design.Problems{{
			Line: 1, Why: "there is no connections section",
			Want: "paste the whole swanctl.conf, or the connection inside connections { }",
		}}
	}
	var out []connection
	for _, x := range all.subs {
		if all == root && !looksLikeOne(x) {
			continue
		}
		c := connection{Name: x.name, line: x.line}
		for _, f := range [][2]string{{"local_addrs", "address"}, {"remote_addrs", "peer"}, {"version", "version"},
			{"proposals", "ike"}, {"rekey_time", "ike-life"}, {"dpd_delay", "dpd"}} {
			c.from(x, f[0], f[1])
		}
		c.from(x.sub("local"), "id", "identity")
		c.from(x.sub("remote"), "id", "peer-identity")
		for _, side := range x.subs {
			if name := side.name; strings.HasPrefix(name, "local") || strings.HasPrefix(name, "remote") {
				c.judged(side.value("auth"), nil, nil)
			}
		}
		if children := x.sub("children"); children != nil {
			if !c.children(children) {
				continue // it keeps packets out of tunnels
			}
		}
		c.secret(root.sub("secrets"))
		x.rest("", c.notCompared)
		out = append(out, c)
	}
	return out, nil
}

// looksLikeOne reports whether a section has what only connections have.
func looksLikeOne(s *section) bool {
	return s.value("remote_addrs") != nil || s.value("local_addrs") != nil || s.sub("children") != nil ||
		s.sub("local") != nil || s.sub("remote") != nil
}

func (c *connection) from(s *section, field, key string) {
	if s == nil {
		return
	}
	if v := s.value(field); v != nil {
		c.set(key, v.text, v.line)
	}
}

// children unites the children of a connection: a daemon may have one for each pair of ranges. It is false where all
// of them let packets pass by, or drop them.
func (c *connection) children(children *section) bool {
	var local, remote []string
	line, tunnels := children.line, len(children.subs) == 0
	for _, x := range children.subs {
		if m := x.get("mode"); m == "pass" || m == "drop" {
			continue
		}
		tunnels = true
		c.judged(nil, x.value("mode"), x.value("ah_proposals"))
		c.from(x, "esp_proposals", "esp")
		c.from(x, "rekey_time", "child-life")
		for field, to := range map[string]*[]string{"local_ts": &local, "remote_ts": &remote} {
			if v := x.value(field); v != nil && !slices.Contains(*to, v.text) {
				*to, line = append(*to, v.text), v.line
			}
		}
	}
	for key, values := range map[string][]string{"local": local, "remote": remote} {
		var ranges []string
		for _, v := range strings.Split(strings.Join(values, ","), ",") {
			switch v = strings.TrimSpace(v); {
			case v == "":
			case strings.HasPrefix(v, "dynamic"):
				c.notCompared("children", setting{key: key, text: v, line: line}) // the outside address that it has by then
			default:
				ranges = append(ranges, v)
			}
		}
		if len(ranges) > 0 {
			c.set(key, strings.Join(ranges, ","), line)
		}
	}
	return tunnels
}

// secret takes the pre-shared key that is for the connection's identities, or for any.
func (c *connection) secret(secrets *section) {
	if secrets == nil {
		return
	}
	for _, k := range secrets.subs {
		if !strings.HasPrefix(k.name, "ike") {
			continue
		}
		any := true
		fits := false
		for _, v := range k.values {
			if strings.HasPrefix(v.key, "id") {
				any = false
				fits = fits || v.text == c.get("peer-identity") || v.text == c.get("peer")
			}
		}
		if any || fits {
			c.from(k, "secret", "key")
		}
	}
}

// severalWords says that none of several connections can be told to be the one.
func severalWords(all []connection) design.Problem {
	var names []string
	for _, c := range all {
		names = append(names, c.Name)
	}
	return design.Problem{
		Line: all[0].line,
		Why: fmt.Sprintf(
			"it can not be told which of the connections %s is about this tunnel",
			strings.Join(names[:min(len(names), 5)], ", "),
		),
		Want: "choose one",
	}
}
