package negotiate

import (
	"fmt"
	"net/netip"
	"regexp"
	"strings"
)

// Identity is what an end of a tunnel calls itself (RFC 7296 section 3.5).
type Identity struct {
	Type IdentityType
	text string
}

// IdentityType is the kind of an identity.
type IdentityType string

// The types, by the names of RFC 7296.
const (
	IDAddress IdentityType = "ID_IPV4_ADDR or ID_IPV6_ADDR"
	IDName    IdentityType = "ID_FQDN"
	IDMail    IdentityType = "ID_RFC822_ADDR"
	IDKey     IdentityType = "ID_KEY_ID"
)

const maxIdentity = 253 // as long as a host name may be

var (
	hostName = regexp.MustCompile(
		`^[A-Za-z0-9_]([A-Za-z0-9_-]*[A-Za-z0-9_])?(\.[A-Za-z0-9_]([A-Za-z0-9_-]*[A-Za-z0-9_])?)*$`,
	)
	mailName = regexp.MustCompile(`^[A-Za-z0-9._+-]+$`)
	keyName  = regexp.MustCompile(`^[A-Za-z0-9._:+/-]+$`)
)

// ParseIdentity reads an address, a host name, a name@host, or a key ID written
// keyid:name. A host name may be written with an @ in front, as some daemons do.
func ParseIdentity(text string) (Identity, error) {
	const want = "write an address, a host name such as gateway.example, a name@host, or keyid:name"
	if len(text) > maxIdentity {
		return Identity{}, fmt.Errorf("has %d characters, and an identity at most %d; %s", len(text), maxIdentity, want)
	}
	if a, err := netip.ParseAddr(text); err == nil && a.Zone() == "" {
		return Identity{IDAddress, a.String()}, nil
	}
	if key, ok := strings.CutPrefix(text, "keyid:"); ok && keyName.MatchString(key) {
		return Identity{IDKey, text}, nil
	}
	if name := strings.TrimPrefix(text, "@"); hostName.MatchString(name) {
		return Identity{IDName, name}, nil
	}
	if name, host, ok := strings.Cut(text, "@"); ok && mailName.MatchString(name) && hostName.MatchString(host) {
		return Identity{IDMail, text}, nil
	}
	return Identity{}, fmt.Errorf("is no identity; %s", want)
}

// String is the identity as it is written, without what only marks its type.
func (i Identity) String() string { return i.text }

// SameIdentity reports whether a daemon takes two writings for one identity, such
// as a host name with and without an @ in front.
func SameIdentity(a, b string) bool {
	x, errX := ParseIdentity(a)
	y, errY := ParseIdentity(b)
	if errX != nil || errY != nil {
		return a == b
	}
	return x == y
}
