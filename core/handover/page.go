package handover

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
	"unicode"
)

// page builds a text line by line.
type page struct {
	bytes.Buffer
	indent string
}

// line writes one line, whatever the values hold: nothing that comes from
// outside begins another.
func (p *page) line(format string, args ...any) {
	if format == "" {
		p.WriteByte('\n')
		return
	}
	p.WriteString(p.indent + oneLine(fmt.Sprintf(format, args...)) + "\n")
}

func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' || unicode.Is(unicode.Bidi_Control, r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, "?"))
}

// comment writes a line that the target passes over.
func (p *page) comment(format string, args ...any) {
	// A backslash at the end would draw the next line in.
	p.line("%s", "# "+strings.TrimRight(fmt.Sprintf(format, args...), "\\ \t\r\n"))
}

// block writes a braced block.
func (p *page) block(open string, inside func()) { p.part(open+" {", "}", inside) }

// part writes lines between two others, set in.
func (p *page) part(open, end string, inside func()) {
	p.line("%s", open)
	old := p.indent
	p.indent += "    "
	inside()
	p.indent = old
	p.line("%s", end)
}

func (p *page) head(title string) {
	p.comment("%s", title)
	p.comment("Rendered by Dravin from the design; edit the design, not this file.")
	p.line("")
}

func words[T fmt.Stringer](list []T) string {
	out := make([]string, len(list))
	for n, v := range list {
		out[n] = v.String()
	}
	return strings.Join(out, ", ")
}

// bare is what the IPsec daemon takes without quotes.
var bare = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:@/+-]*(, [A-Za-z0-9][A-Za-z0-9._:@/+-]*)*$`)

var inQuotes = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", `\r`, "\t", `\t`)

// quoted is a string of the IPsec daemon's files that holds just the text.
func quoted(text string) string { return `"` + inQuotes.Replace(text) + `"` }

// value is a value of the IPsec daemon's files: quoted where it has to be.
func value(text string) string {
	if bare.MatchString(text) {
		return text
	}
	return quoted(text)
}
