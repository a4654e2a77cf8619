package design

import (
	"fmt"
	"net/netip"
	"slices"
)

// Rule is one translation of a box. Within a hook the first rule that fits the
// first packet of a conversation decides; replies are reversed from memory.
type Rule struct {
	// arriving: destinations, before the route is chosen; leaving: sources, after it.
	Hook string `yaml:"hook" json:"hook" enum:"arriving,leaving"`
	// Only what comes in by it; left out: by anything.
	From Ref `yaml:"from,omitempty" json:"from,omitempty" ref:"link,circuit"`
	// Only what goes out by it; left out: by anything. With leaving only.
	Toward Ref `yaml:"toward,omitempty" json:"toward,omitempty" ref:"link,circuit"`
	// Only what comes from there; left out: from anywhere.
	Source []netip.Prefix `yaml:"source,omitempty" json:"source,omitempty"`
	// Only what goes there; left out: anywhere.
	Destination []netip.Prefix `yaml:"destination,omitempty" json:"destination,omitempty"`
	// Only these, such as tcp/502; left out: all.
	Services []Service `yaml:"services,omitempty" json:"services,omitempty"`
	// one-to-one: host parts stay; pool: another source, with ports; own-address: the box's own as source; target:
	// another destination; nothing: the packet stays as it is.
	Does string `yaml:"does" json:"does" enum:"one-to-one,pool,own-address,target,nothing"`
	// one-to-one: the range behind the box.
	Real netip.Prefix `yaml:"real,omitempty" json:"real,omitzero"`
	// one-to-one: what it is known as, as long; pool: the addresses.
	Into netip.Prefix `yaml:"into,omitempty" json:"into,omitzero"`
	// target: the new destination.
	Target netip.Addr `yaml:"target,omitempty" json:"target,omitzero"`
	// target: the new port; the same if left out.
	Port uint16 `yaml:"port,omitempty" json:"port,omitempty"`
}

// The hooks and deeds of rules.
const (
	Prerouting  = "arriving"
	Postrouting = "leaving"

	OneToOne   = "one-to-one"
	FromPool   = "pool"
	OwnAddress = "own-address"
	ToTarget   = "target"
	Nothing    = "nothing"
)

// rule says what is wrong with one translation of a gateway.
func (v *validator) rule(o *Object, n int, r Rule) {
	add := func(field, why, want string) { v.add(o, fmt.Sprintf("translate[%d].%s", n, field), why, want) }
	for _, by := range []struct {
		field string
		to    Ref
	}{{"from", r.From}, {"toward", r.Toward}} {
		if j, ok := JointOf(v.design.Get(by.to)); by.to != "" && ok {
			if _, _, at := j.Far(o.ID); !at {
				add(by.field, "does not end at this gateway", "name a link or circuit of "+v.design.Path(o.ID))
			}
		}
	}
	if r.Toward != "" && r.Hook == Prerouting {
		add("toward", "is not known yet when a packet arrives", "use it with hook: leaving")
	}
	source := r.Does == FromPool || r.Does == OwnAddress
	switch {
	case source && r.Hook != Postrouting:
		add("hook", "sources are translated when a packet leaves", "write leaving")
	case r.Does == ToTarget && r.Hook != Prerouting:
		add("hook", "destinations are translated when a packet arrives", "write arriving")
	case r.Does == OneToOne && (!r.Real.IsValid() || !r.Into.IsValid()):
		add("real", "real or into is missing", "give both ranges, of equal length")
	case r.Does == OneToOne && (r.Real.Bits() != r.Into.Bits() || r.Real.Addr().BitLen() != r.Into.Addr().BitLen()):
		add(
			"into", fmt.Sprintf("%s is not as long as %s", r.Into, r.Real),
			fmt.Sprintf("one-to-one needs a /%d", r.Real.Bits()),
		)
	case r.Does == FromPool && !r.Into.IsValid():
		add("into", "is missing", "give the pool's addresses")
	case r.Does == ToTarget && !r.Target.IsValid():
		add("target", "is missing", "give the new destination")
	case r.Port != 0 && !slices.ContainsFunc(r.Services, func(s Service) bool { return s.Port != 0 }):
		add("port", "changes the port of nothing that has one", "name the services, such as tcp/443")
	}
	if r.Real.IsValid() && r.Does != OneToOne || r.Target.IsValid() && r.Does != ToTarget ||
		r.Into.IsValid() && r.Does != OneToOne && r.Does != FromPool {
		add("does", "has a range or target that "+r.Does+" does not use", "take it away")
	}
}

// Hides reports whether a rule hides what it fits toward whatever it leaves by: what hides toward the
// internet is meant by it, and hides toward every joint, too.
func (r Rule) Hides() bool {
	return r.Hook == Postrouting && r.Toward == "" && len(r.Destination) == 0 &&
		(r.Does == OwnAddress || r.Does == FromPool)
}

// Exempted is a gateway that hides nothing toward a link or circuit of what it hides toward everything;
// nil if it hides nothing so, or is exempt already.
func Exempted(gateway *Object, joint ID) *Object {
	rules := RulesOf(gateway)
	n := slices.IndexFunc(rules, Rule.Hides)
	if n < 0 || slices.ContainsFunc(rules[:n], func(r Rule) bool {
		return r.Hook == Postrouting && r.Toward == joint && r.Does == Nothing && len(r.Source)+len(r.Destination) == 0
	}) {
		return nil
	}
	return Edited(gateway, func(g *Gateway) {
		g.Translate = slices.Insert(g.Translate, n, Rule{Hook: Postrouting, Toward: joint, Does: Nothing})
	})
}
