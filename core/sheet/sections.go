package sheet

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dravin/core/design"
)

// section is a braced part of a swanctl.conf.
type section struct {
	name   string
	line   int
	from   []string // the sections that it inherits from, by their paths
	values []setting
	subs   []*section
}

type setting struct {
	key, text string
	line      int
	read      bool // somebody has asked for it
}

func (s *section) sub(name string) *section {
	for _, c := range s.subs {
		if c.name == name || strings.HasPrefix(c.name, name+"-") && (name == "local" || name == "remote") {
			return c
		}
	}
	return nil
}

func (s *section) value(key string) *setting {
	for n := range s.values {
		if s.values[n].key == key {
			s.values[n].read = true
			return &s.values[n]
		}
	}
	return nil
}

// has reports whether a setting is there, without asking for it.
func (s *section) has(key string) bool {
	return slices.ContainsFunc(s.values, func(v setting) bool { return v.key == key })
}

// rest are the settings of a section, and of those inside it, that nobody has asked for.
func (s *section) rest(within string, tell func(where string, v setting)) {
	for _, v := range s.values {
		if !v.read {
			tell(within, v)
		}
	}
	for _, c := range s.subs {
		c.rest(strings.TrimPrefix(within+"."+c.name, "."), tell)
	}
}

func (s *section) get(key string) string {
	if v := s.value(key); v != nil {
		return v.text
	}
	return ""
}

var (
	// Neither looks further than what it takes, so that long lines cost no more than their length.
	opening = regexp.MustCompile(`^([^\s{}=#:]+)\s*(?::\s*([^{}=#]+?))?\s*\{`)
	assign  = regexp.MustCompile(`^([^\s{}=#:]+)\s*=[ \t]*("(?:[^"\\]|\\.)*"|[^#}\n]*)`)
	// headed is a section of which the brace is on a later line.
	headed = regexp.MustCompile(`^([^\s{}=#:]+)\s*(?::\s*([^{}=#\n]+?))?\s*(?:#[^\n]*)?\n\s*\{`)
)

// maxSections bounds the nesting, and how deep sections inherit.
const maxSections = 16

// readSections reads nested braces of key = value lines, with what each section inherits. Files that are included are
// not there, and passed over.
func readSections(text string) (*section, error) {
	r := sectionReader{rest: text, line: 1}
	root := &section{line: 1}
	if err := r.read(root, 0); err != nil {
		return nil, err
	}
	if err := (&heirs{root, mostInherited}).settle(root, 0); err != nil {
		return nil, err
	}
	return root, nil
}

type sectionReader struct {
	rest string
	line int
}

// take moves on by n bytes.
func (r *sectionReader) take(n int) {
	r.line += strings.Count(r.rest[:n], "\n")
	r.rest = r.rest[n:]
}

func (r *sectionReader) bad(line int, why, want string) error {
	return design.Problems{{Line: line, Why: why, Want: want}}
}

// read reads the inside of a section up to its closing brace; that of the whole up to the end.
func (r *sectionReader) read(top *section, depth int) error {
	for {
		r.take(len(r.rest) - len(strings.TrimLeft(r.rest, " \t\n")))
		switch {
		case r.rest == "" && depth == 0:
			return nil
		case r.rest == "":
			return r.bad(
				top.line, fmt.Sprintf("the section %s is not closed", top.name), "paste it up to its closing brace",
			)
		case r.rest[0] == '#' || strings.HasPrefix(r.rest, "include "):
			end := strings.IndexByte(r.rest+"\n", '\n')
			r.take(min(end, len(r.rest)))
			continue
		case r.rest[0] == '}' && depth == 0:
			return r.bad(r.line, "a brace closes that none opened", "remove it, or paste the part before")
		case r.rest[0] == '}':
			r.take(1)
			return nil
		}
		if err := r.entry(top, depth); err != nil {
			return err
		}
	}
}

// entry reads one section or setting.
func (r *sectionReader) entry(top *section, depth int) error {
	for _, head := range []*regexp.Regexp{opening, headed} {
		m := head.FindStringSubmatch(r.rest)
		if m == nil {
			continue
		}
		if depth >= maxSections {
			return r.bad(r.line, "the braces are nested too deeply", "paste a swanctl.conf")
		}
		c := &section{name: m[1], line: r.line}
		for _, from := range strings.Split(m[2], ",") {
			if from = strings.TrimSpace(from); from != "" {
				c.from = append(c.from, from)
			}
		}
		top.subs = append(top.subs, c)
		r.take(len(m[0]))
		return r.read(c, depth+1)
	}
	m := assign.FindStringSubmatch(r.rest)
	if m == nil {
		return r.bad(r.line, "what stands here is neither a section nor a setting", "a setting is written key = value")
	}
	value := strings.TrimSpace(m[2])
	if strings.HasPrefix(value, `"`) {
		if len(value) < 2 || !strings.HasSuffix(value, `"`) {
			return r.bad(
				r.line, "a quoted value does not end", "write the closing quote, and nothing but a comment after it",
			)
		}
		value = unquote(value[1 : len(value)-1])
	}
	top.values = append(top.values, setting{key: m[1], text: value, line: r.line})
	r.take(len(m[0]))
	return nil
}

// heirs gives each section what those have that it names and it has not itself, and what these inherit.
type heirs struct {
	root *section
	left int // sections and values that may be copied
}

// mostInherited bounds what is copied: sections that inherit from each other twice over grow as nothing else does.
const mostInherited = 20_000

func (h *heirs) settle(s *section, depth int) error {
	bad := func(why string) error {
		return design.Problems{{
			Line: s.line, Why: fmt.Sprintf("what %s inherits %s", s.name, why), Want: "take one of the references out",
		}}
	}
	from := s.from
	s.from = nil
	for _, path := range from {
		parent := h.root.at(path)
		switch {
		case parent == nil:
			continue // it is in another file
		case parent.holds(s) || s.holds(parent) || depth > maxSections:
			return bad("inherits from itself")
		}
		if err := h.settle(parent, depth+1); err != nil {
			return err
		}
		if h.merge(s, parent); h.left < 0 {
			return bad("is more than any daemon would take")
		}
	}
	for _, c := range s.subs {
		if err := h.settle(c, depth); err != nil {
			return err
		}
	}
	return nil
}

// at is the section at a path of names; nil if there is none.
func (s *section) at(path string) *section {
	for _, name := range strings.Split(path, ".") {
		n := slices.IndexFunc(s.subs, func(c *section) bool { return c.name == name })
		if n < 0 {
			return nil
		}
		s = s.subs[n]
	}
	return s
}

// holds reports whether a section is another, or that is inside it.
func (s *section) holds(other *section) bool {
	return s == other || slices.ContainsFunc(s.subs, func(c *section) bool { return c.holds(other) })
}

// merge gives a section what another has beside it.
func (h *heirs) merge(s, from *section) {
	if h.left--; h.left < 0 {
		return
	}
	for _, v := range from.values {
		if !s.has(v.key) {
			s.values = append(s.values, v)
			h.left--
		}
	}
	for _, c := range from.subs {
		n := slices.IndexFunc(s.subs, func(x *section) bool { return x.name == c.name })
		if n < 0 {
			own := &section{name: c.name, line: c.line}
			s.subs, n = append(s.subs, own), len(s.subs)
		}
		h.merge(s.subs[n], c)
	}
}

// unquote is what the daemon makes of what stands in quotes.
func unquote(text string) string {
	var b strings.Builder
	for n := 0; n < len(text); n++ {
		c := text[n]
		if c == '\\' && n+1 < len(text) {
			n++
			c = text[n]
			if at := strings.IndexByte("nrtbf", c); at >= 0 {
				c = "\n\r\t\b\f"[at]
			}
		}
		b.WriteByte(c)
	}
	return b.String()
}
