package sheet

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dravin/core/design"
)

// The older settings style of the IPsec daemon: sections begin at the margin ("conn NAME"), their settings are set in,
// "also" takes another section's, and what %default says holds for all.

var (
	keyedHead  = regexp.MustCompile(`^(conn|config|ca)\s+(\S+)\s*(?:#.*)?$`)
	keyedValue = regexp.MustCompile(`^\s+([A-Za-z_][A-Za-z0-9_-]*)\s*=\s*(.*?)\s*$`)
	keyedStyle = regexp.MustCompile(`(?m)^(conn|config)\s+\S+`)
)

// readKeyed reads the connections of such a file, each with what it takes from others.
func readKeyed(text string) (map[string]*section, []string, error) {
	all := map[string]*section{}
	var order []string
	var now *section
	for n, line := range strings.Split(text, "\n") {
		trimmed := strings.TrimSpace(line)
		switch m := keyedHead.FindStringSubmatch(strings.TrimRight(line, " \t")); {
		case trimmed == "" || strings.HasPrefix(trimmed, "#") || strings.HasPrefix(trimmed, "include"):
		case m != nil:
			now = &section{name: m[2], line: n + 1}
			if m[1] == "conn" {
				if all[m[2]] != nil {
					now = all[m[2]] // it goes on
				} else {
					all[m[2]] = now
					order = append(order, m[2])
				}
			}
		default:
			v := keyedValue.FindStringSubmatch(line)
			if v == nil || now == nil {
				return nil, nil, design.Problems{{
					Line: n + 1, Why: "what stands here is neither a section nor a setting of one",
					Want: "a section begins at the margin, such as conn lodge; its settings are set in: key=value",
				}}
			}
			value := v[2]
			if at := strings.Index(value, " #"); at >= 0 && !strings.HasPrefix(value, `"`) {
				value = strings.TrimSpace(value[:at])
			}
			if len(now.values) < mostValues {
				now.values = append(now.values, setting{key: v[1], text: strings.Trim(value, `"`), line: n + 1})
			}
		}
		if len(order) > mostConnections {
			return nil, nil, design.Problems{{
				Line: n + 1, Why: fmt.Sprintf("the text has more than %d connections", mostConnections),
				Want: "paste the part about this tunnel",
			}}
		}
	}
	seen := map[*section]bool{}
	for _, name := range order {
		takeAlso(all, all[name], seen)
	}
	order = slices.DeleteFunc(order, func(name string) bool { return name == "%default" })
	return all, order, nil
}

// mostValues bounds the settings of one section, those that it takes along included.
const mostValues = 200

// takeAlso gives a section what those have that it takes along, and the defaults.
func takeAlso(all map[string]*section, s *section, seen map[*section]bool) {
	if seen[s] {
		return // sections that take each other along have what they have
	}
	seen[s] = true
	add := func(from *section) { // which has by now what it takes along itself
		for _, v := range from.values {
			if v.key != "also" && !s.has(v.key) && len(s.values) < mostValues {
				s.values = append(s.values, v)
			}
		}
	}
	for _, v := range slices.Clone(s.values) {
		if from := all[v.text]; v.key == "also" && from != nil && from != s {
			takeAlso(all, from, seen)
			add(from)
		}
	}
	if base := all["%default"]; base != nil && base != s {
		add(base)
	}
}

// keyed are the parameters by the settings of a side, and those of neither.
var keyedSides = map[string][2]string{
	"": {"address", "peer"}, "id": {"identity", "peer-identity"}, "subnet": {"local", "remote"},
}

var keyedOthers = map[string]string{
	"keyexchange": "version", "ike": "ike", "esp": "esp", "ikelifetime": "ike-life", "lifetime": "child-life",
	"keylife": "child-life", "dpddelay": "dpd",
}

// fromKeyed are the connections of such a file; left is theirs, unless it is our address that stands there.
func fromKeyed(text string, near string) ([]connection, error) {
	all, order, err := readKeyed(text)
	if err != nil {
		return nil, err
	}
	var out []connection
	for _, name := range order {
		s := all[name]
		c := connection{Name: name, line: s.line}
		own, far := "left", "right"
		if near != "" && strings.TrimSpace(s.get("left")) == near {
			own, far = far, own
		}
		if t := s.get("type"); t == "passthrough" || t == "drop" || s.get("auto") == "ignore" {
			continue
		}
		for side, keys := range keyedSides {
			for n, which := range []string{own, far} {
				if v := s.value(which + side); v != nil {
					c.set(keys[n], v.text, v.line)
				}
			}
		}
		for key, ours := range keyedOthers {
			v := s.value(key)
			if v == nil {
				continue
			}
			strict := strings.HasSuffix(v.text, "!")
			c.set(ours, strings.TrimSuffix(v.text, "!"), v.line)
			if (key == "ike" || key == "esp") && !strict {
				c.aside = append(c.aside, design.Problem{
					Line: v.line, Why: key + " does not end in !, so that its daemon offers and takes its own defaults, too",
					Want: "end the list in ! where these are all that may be used",
				})
			}
		}
		for _, key := range []string{"authby", "auth", own + "auth", far + "auth"} {
			c.judged(s.value(key), nil, nil)
		}
		c.judged(nil, s.value("type"), s.value("ah"))
		s.rest("", func(where string, v setting) {
			if v.key != "also" {
				c.notCompared(where, v)
			}
		})
		out = append(out, c)
	}
	return out, nil
}
