package design

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
)

// Names is a private zone of the domain name system (RFC 1034), called as its domain.
type Names struct {
	// Who asks here: the hosts of these parties.
	For []Ref `yaml:"for" json:"for" min:"1" ref:"site,network"`
	// What is written there.
	Records []NameRecord `yaml:"records,omitempty" json:"records,omitempty"`
	// The servers that are asked for names that are not written there (conditional forwarding).
	Forward []netip.Addr `yaml:"forward,omitempty" json:"forward,omitempty"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// NameRecord is a name with its address: A of RFC 1035, AAAA of RFC 3596.
type NameRecord struct {
	// Within the domain, such as controller.
	Name string `yaml:"name" json:"name"`
	// What it leads to.
	Address netip.Addr `yaml:"address" json:"address"`
	// Who is meant.
	Host Ref `yaml:"host,omitempty" json:"host,omitempty" ref:"endpoint,published-service"`
}

func (*Names) kind() Kind { return KindNames }

var label = regexp.MustCompile(`^[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9])?$`)

func isDomain(text string) bool {
	return !slices.ContainsFunc(
		strings.Split(strings.ToLower(text), "."), func(l string) bool { return !label.MatchString(l) },
	)
}

func (v *validator) names(o *Object, z *Names) {
	if !isDomain(o.Name) {
		v.add(o, "name", fmt.Sprintf("%q is no domain", o.Name), "write one such as gardens.example")
	}
	for n, r := range z.Records {
		if !isDomain(r.Name) {
			v.add(
				o, fmt.Sprintf("records[%d].name", n), fmt.Sprintf("%q is no name", r.Name),
				"write one such as controller",
			)
		}
		if !r.Address.IsValid() {
			v.add(o, fmt.Sprintf("records[%d].address", n), "is missing", "give the address to which it leads")
		}
	}
}
