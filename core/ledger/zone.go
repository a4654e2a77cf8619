package ledger

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/walk"
)

// zoneTTL is how long records are kept, seconds.
const zoneTTL = 3600

// ParseOrigin reads the origin of a zone: labels of letters, digits and hyphens (RFC 1035
// section 2.3.1), the dot at the end or not. It is returned without that dot.
func ParseOrigin(text string) (string, error) {
	origin := strings.TrimSuffix(text, ".")
	wrong := len(origin) > 200 // what stands below it has room
	for _, label := range strings.Split(origin, ".") {
		inner := func(r rune) bool {
			return r == '-' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		}
		wrong = wrong || label == "" || len(label) > 63 || strings.Trim(label, "-") != label ||
			strings.ContainsFunc(label, func(r rune) bool { return !inner(r) })
	}
	if wrong {
		return "", fmt.Errorf(
			"%q is no origin of a zone; write labels of letters, digits and hyphens with dots between, such as gardens.internal",
			text,
		)
	}
	return origin, nil
}

// Zone writes the names of all named hosts as one party sees them: fragments of a
// forward and of reverse zones (RFC 1035 section 5.1, RFC 3596), to be included
// under an origin as [ParseOrigin] gives it.
func Zone(t *route.Tables, viewer design.ID, origin string) string {
	d := t.Design
	var forward, reverse []string
	for _, o := range d.Of(design.KindEndpoint) {
		name := zoneName(d, o)
		for _, a := range seenBy(t, viewer, o) {
			kind := "A"
			if a.Is6() {
				kind = "AAAA"
			}
			forward = append(forward, fmt.Sprintf("%s\t%d\tIN\t%s\t%s", name, zoneTTL, kind, a))
			reverse = append(reverse, fmt.Sprintf("%s\t%d\tIN\tPTR\t%s.%s.", reverseName(a), zoneTTL, name, origin))
		}
	}
	slices.Sort(reverse)
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"; Hosts as %s knows them. Rendered by Dravin from the design.\n; Forward: include it in the zone %s.\n$ORIGIN "+
			"%s.\n%s\n",
		oneLine(d.Title(viewer)),
		origin,
		origin,
		strings.Join(forward, "\n"),
	)
	fmt.Fprintf(
		&b, "\n; Reverse: include each line in the zone that holds it.\n%s\n",
		strings.Join(slices.Compact(reverse), "\n"),
	)
	return b.String()
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// seenBy are the addresses under which a party reaches a host best.
func seenBy(t *route.Tables, viewer design.ID, o *design.Object) []netip.Addr {
	var out []netip.Addr
	for _, a := range o.Body.(*design.Endpoint).Addresses {
		if names := walk.NamesFor(t, viewer, o, a); len(names) > 0 && !slices.Contains(out, names[0].Address) {
			out = append(out, names[0].Address)
		}
	}
	return out
}

// zoneName is a host's name below the origin: host, place and party as labels.
func zoneName(d *design.Design, o *design.Object) string {
	var labels []string
	for at := o; at != nil; at = d.Get(at.Parent) {
		labels = append(labels, label(design.Slug(at.Name)))
	}
	return strings.Join(labels, ".")
}

// label is a text as a label of a zone file: what is no letter, digit or hyphen of
// ASCII is written by its bytes, and what is too long ends with a hash.
func label(s string) string {
	const longest = 63
	if len(s) > longest {
		h := fnv.New32a()
		h.Write([]byte(s))
		s = fmt.Sprintf("%.54s-%08x", strings.ToValidUTF8(s[:54], ""), h.Sum32())
	}
	var b strings.Builder
	for _, c := range []byte(s) {
		if c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' {
			b.WriteByte(c)
			continue
		}
		fmt.Fprintf(&b, `\%03d`, c)
	}
	return cmp.Or(b.String(), "x")
}

// reverseName is the name of an address in the reverse tree.
func reverseName(a netip.Addr) string {
	if a.Is4() {
		b := a.As4()
		return fmt.Sprintf("%d.%d.%d.%d.in-addr.arpa.", b[3], b[2], b[1], b[0])
	}
	var out strings.Builder
	for _, c := range slices.Backward(a.AsSlice()) {
		fmt.Fprintf(&out, "%x.%x.", c&15, c>>4)
	}
	return out.String() + "ip6.arpa."
}
