package negotiate

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Community is a mark on a route: of two numbers of 16 bits (RFC 1997), or a
// large one of three numbers of 32 bits (RFC 8092).
type Community struct {
	Large  bool
	Values [3]uint32 // the first two, if it is not large
}

// wellKnown are the communities that have names (RFC 1997, RFC 3765).
var wellKnown = map[string][2]uint32{
	"no-export":           {65535, 65281},
	"no-advertise":        {65535, 65282},
	"no-export-subconfed": {65535, 65283},
	"no-peer":             {65535, 65284},
}

// String writes a community as [ParseCommunity] reads it.
func (c Community) String() string {
	if c.Large {
		return fmt.Sprintf("%d:%d:%d", c.Values[0], c.Values[1], c.Values[2])
	}
	for name, v := range wellKnown {
		if c.Values[0] == v[0] && c.Values[1] == v[1] {
			return name
		}
	}
	return fmt.Sprintf("%d:%d", c.Values[0], c.Values[1])
}

// Compare orders communities: those of two numbers first, then by value.
func (c Community) Compare(d Community) int {
	if c.Large != d.Large {
		return map[bool]int{true: 1, false: -1}[c.Large]
	}
	return slices.Compare(c.Values[:], d.Values[:])
}

// ParseCommunity reads a community such as 64501:20, 4200000001:1:2 or
// no-export.
func ParseCommunity(text string) (Community, error) {
	if v, ok := wellKnown[text]; ok {
		return Community{Values: [3]uint32{v[0], v[1]}}, nil
	}
	bad := fmt.Errorf(
		"is no community; write two numbers up to 65535 such as 64501:20, three up to 4294967295 such as 64501:1:20, or " +
			"no-export",
	)
	parts := strings.Split(text, ":")
	if len(parts) != 2 && len(parts) != 3 {
		return Community{}, bad
	}
	c := Community{Large: len(parts) == 3}
	bits := 16
	if c.Large {
		bits = 32
	}
	for n, part := range parts {
		v, err := strconv.ParseUint(part, 10, bits)
		if err != nil || part[0] == '+' {
			return Community{}, bad
		}
		c.Values[n] = uint32(v)
	}
	return c, nil
}
