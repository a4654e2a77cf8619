package command

import (
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"unicode"

	"dravin/core/design"
	"dravin/core/prefix"
)

// token is a word, a quoted text, or one of , { }.
type token struct {
	text   string
	from   int // characters of the line
	to     int
	quoted bool
}

func (t token) shown() string { return strconv.Quote(t.text) }

// is reports whether the token is that word, unquoted, in any case.
func (t token) is(word string) bool { return !t.quoted && strings.EqualFold(t.text, word) }

func (t token) mark() bool {
	return !t.quoted && (t.text == "," || t.text == "{" || t.text == "}")
}

// tokens splits a line. What follows # at the beginning of a line is a remark.
func tokens(line string) ([]token, *Trouble) {
	runes := []rune(line)
	var out []token
	for n := 0; n < len(runes); {
		c := runes[n]
		switch {
		case unicode.IsSpace(c):
			n++
		case c == '#' && len(out) == 0:
			return nil, nil
		case c == ',' || c == ';':
			out = append(out, token{",", n, n + 1, false})
			n++
		case c == '{' || c == '}':
			out = append(out, token{string(c), n, n + 1, false})
			n++
		case c == '"':
			text, end, ok := quoted(runes, n)
			if !ok {
				return nil, &Trouble{n, len(runes), "the quotation has no end", `close it with "`}
			}
			out = append(out, token{text, n, end, true})
			n = end
		default:
			end := n
			for end < len(runes) && !unicode.IsSpace(runes[end]) && !strings.ContainsRune(",;{}\"", runes[end]) {
				end++
			}
			text := string(runes[n:end])
			if cut, ok := strings.CutSuffix(text, ":"); ok && cut != "" && !isLiteral(text) {
				text = cut // a colon after a name reads well and means nothing
			}
			out = append(out, token{text, n, end, false})
			n = end
		}
	}
	return out, nil
}

// quoted reads a text in quotation marks; \" \\ \n and \t stand for what they
// usually do.
func quoted(runes []rune, n int) (text string, end int, ok bool) {
	var b strings.Builder
	for k := n + 1; k < len(runes); k++ {
		switch c := runes[k]; {
		case c == '"':
			return b.String(), k + 1, true
		case c == '\\' && k+1 < len(runes):
			k++
			switch runes[k] {
			case 'n':
				b.WriteByte('\n')
			case 't':
				b.WriteByte('\t')
			default:
				b.WriteRune(runes[k])
			}
		default:
			b.WriteRune(c)
		}
	}
	return "", 0, false
}

var escapes = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`)

func quote(text string) string { return `"` + escapes.Replace(text) + `"` }

// What has the shape of a range or an address is one, and no name: what is wrong in it
// is told.
var (
	prefixShape  = regexp.MustCompile(`^[0-9]+(\.[0-9]+)+/[0-9]*$`)
	addressShape = regexp.MustCompile(`^[0-9]+(\.[0-9]+){3}$`)
)

func isPrefix(text string) bool {
	_, err := netip.ParsePrefix(text)
	return err == nil || prefixShape.MatchString(text)
}

func isAddress(text string) bool {
	_, err := netip.ParseAddr(text)
	return err == nil || addressShape.MatchString(text)
}

func isService(text string) bool {
	_, err := design.ParseService(text)
	return err == nil
}

// sizeOf reads a prefix length such as /24.
func sizeOf(text string) (int, bool) {
	rest, ok := strings.CutPrefix(text, "/")
	if !ok {
		return 0, false
	}
	n, err := strconv.Atoi(rest)
	return n, err == nil && n >= 0 && n <= 128
}

func isLiteral(text string) bool {
	_, size := sizeOf(text)
	return size || isPrefix(text) || isAddress(text) || isService(text)
}

func parsePrefix(text string) (netip.Prefix, *prefix.Error) {
	p, err := prefix.Parse(text)
	if err == nil {
		return p, nil
	}
	return p, err.(*prefix.Error)
}
