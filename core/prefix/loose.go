package prefix

import (
	"fmt"
	"math/bits"
	"net/netip"
	"strconv"
	"strings"
)

// Loose is a range as people write it, read as what it means.
type Loose struct {
	Prefixes []netip.Prefix // what it comes to: one, or those that make a span up
	// Said tells what was understood where that is not as it is written; empty where it is.
	Said string
	// Host tells that an address with a length was written, and the range that holds it is taken.
	Host netip.Addr
}

// ReadLoose reads one range as people write it in spreadsheets: 10.212.4.0/22, with a mask (RFC 950) or a
// wildcard mask behind a slash, a space, or in a cell of its own (mask may be empty), short (10.212.24/22),
// as a span (10.212.2.0-10.212.3.255), or as a host's address with a length. Errors are of type [*Error].
func ReadLoose(text, mask string) (Loose, error) {
	text = strings.Trim(strings.Join(strings.Fields(text), " "), "'\"`")
	if from, to, ok := strings.Cut(strings.ReplaceAll(text, "–", "-"), "-"); ok {
		return readSpan(text, strings.TrimSpace(from), strings.TrimSpace(to))
	}
	address, length := text, strings.TrimSpace(mask)
	for _, between := range []string{"/", " "} {
		if before, after, ok := strings.Cut(text, between); ok {
			address, length = strings.TrimSpace(before), strings.Trim(after, " /")
			break
		}
	}
	a, padded, err := looseAddress(address)
	if err != nil {
		return Loose{}, &Error{Text: text, Why: "is not a range", Want: "write one such as 10.212.4.0/22"}
	}
	if length == "" {
		return Loose{}, &Error{
			Text: text, Why: "has no length", Want: "write " + a.String() + "/24, or give the mask in a column of its own",
		}
	}
	n, how, err := looseLength(a, length)
	if err != nil {
		return Loose{}, &Error{Text: text + " " + mask, Why: err.Error(), Want: "write a length such as /24, or a mask such as 255.255.255.0"}
	}
	p := netip.PrefixFrom(a, n)
	out := Loose{Prefixes: []netip.Prefix{p.Masked()}}
	switch {
	case p.Masked().Addr() != a:
		out.Host = a
		out.Said = fmt.Sprintf("%s/%d is a host's address; the range that holds it is %s", a, n, p.Masked())
	case padded || how != "":
		out.Said = fmt.Sprintf("%s is read as %s", strings.TrimSpace(text+" "+mask), p)
	}
	return out, nil
}

// looseAddress reads an address, or the beginning of an IPv4 one whose other bytes are 0.
func looseAddress(text string) (a netip.Addr, padded bool, err error) {
	if a, err = netip.ParseAddr(text); err == nil {
		return a.Unmap(), false, nil
	}
	for _, star := range []string{".*", ".x", ".X"} {
		text = strings.ReplaceAll(text, star, "")
	}
	text = strings.TrimSuffix(text, ".")
	if strings.Contains(text, ":") || strings.Count(text, ".") == 0 || strings.Count(text, ".") > 3 {
		return a, false, err
	}
	var bytes [4]byte
	for n, part := range strings.Split(text, ".") {
		v, bad := strconv.ParseUint(part, 10, 8)
		if bad != nil {
			return a, false, bad
		}
		bytes[n] = byte(v)
	}
	return netip.AddrFrom4(bytes), true, nil
}

// looseLength reads a prefix length, a mask, or a wildcard mask, of the family of an address.
func looseLength(a netip.Addr, text string) (n int, how string, err error) {
	text = strings.TrimSuffix(strings.TrimPrefix(text, "/"), ".0") // a spreadsheet's number may come as 24.0
	if v, bad := strconv.Atoi(text); bad == nil {
		if v < 0 || v > a.BitLen() {
			return 0, "", fmt.Errorf("has a length that no %s range has", FamilyOf(a))
		}
		return v, "", nil
	}
	m, bad := netip.ParseAddr(text)
	if bad != nil {
		if m, bad = netip.ParseAddr(text + ".0"); bad != nil || !m.Is4() {
			return 0, "", fmt.Errorf("has neither a length nor a mask")
		}
	}
	if !m.Is4() || !a.Is4() {
		return 0, "", fmt.Errorf("has neither a length nor a mask")
	}
	b := m.As4()
	v := uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
	ones := bits.LeadingZeros32(^v)
	if v == ^uint32(0)<<(32-ones) && ones > 0 || v == 0 && ones == 0 && text == "0.0.0.0" && a.IsUnspecified() {
		return ones, "mask", nil
	}
	if zeros := bits.LeadingZeros32(v); v == ^uint32(0)>>zeros { // 0.0.3.255
		return zeros, "wildcard mask", nil
	}
	return 0, "", fmt.Errorf("has a mask with holes")
}

// mostOfSpan bounds the ranges that one span is read as.
const mostOfSpan = 64

// readSpan reads the addresses from one to another, whose beginning may be left out where it is the same.
func readSpan(text, from, to string) (Loose, error) {
	wrong := func(why, want string) (Loose, error) { return Loose{}, &Error{Text: text, Why: why, Want: want} }
	a, err := netip.ParseAddr(from)
	if err != nil {
		return wrong("is not a range", "write one such as 10.212.2.0-10.212.3.255")
	}
	if n := strings.Count(to, "."); a.Is4() && n < 3 && to != "" {
		parts := strings.Split(from, ".")
		to = strings.Join(append(parts[:3-n:3-n], to), ".")
	}
	b, err := netip.ParseAddr(to)
	if err != nil || b.Is4() != a.Is4() {
		return wrong("is not a range", "write one such as 10.212.2.0-10.212.3.255")
	}
	if b.Less(a) {
		return wrong("ends before it begins", "write the lower address first")
	}
	var list []netip.Prefix
	for at := a; ; {
		n := at.BitLen()
		for n > 0 {
			wider := netip.PrefixFrom(at, n-1)
			if wider.Masked().Addr() != at || b.Less(Last(wider)) {
				break
			}
			n--
		}
		p := netip.PrefixFrom(at, n)
		list = append(list, p)
		if len(list) > mostOfSpan {
			return wrong(fmt.Sprintf("takes more than %d ranges to make up", mostOfSpan), "write it as ranges with lengths")
		}
		if last := Last(p); last == b || !last.Next().IsValid() {
			break
		} else {
			at = last.Next()
		}
	}
	words := make([]string, len(list))
	for n, p := range list {
		words[n] = p.String()
	}
	return Loose{Prefixes: list, Said: text + " is made up of " + strings.Join(words, ", ")}, nil
}

// SplitRanges parts a cell that holds several ranges: at commas, semicolons, bars, ends of lines, and
// spaces between what are ranges by themselves.
func SplitRanges(cell string) []string {
	var out []string
	for _, part := range strings.FieldsFunc(cell, func(r rune) bool { return strings.ContainsRune(",;|\n\r", r) }) {
		part = strings.TrimSpace(strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(part), "and "), " and"))
		words := strings.Fields(part)
		whole := 0
		for _, w := range words {
			if strings.Contains(w, "/") && w != "/" && !strings.HasPrefix(w, "/") {
				whole++
			}
		}
		if whole == len(words) && whole > 1 {
			out = append(out, words...)
		} else if part != "" {
			out = append(out, part)
		}
	}
	return out
}
