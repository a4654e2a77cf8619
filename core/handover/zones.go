package handover

import (
	"slices"
	"strings"

	"dravin/core/box"
)

// zoneLife is how long an answer may be remembered, seconds: an address that a plan changes is asked for again soon.
const zoneLife = 300

// zones are the master files (RFC 1035 section 5) of the zones in which a party's hosts ask.
//
// A serial only grows: who serves the zone to others takes a smaller one for old (RFC 1982), and hands nothing on.
func zones(party *box.Party, serial uint32) (out []File) {
	for _, z := range party.Zones {
		p := &page{}
		p.line("; The zone %s, as the hosts of %s ask for names in it.", z.Name, party.Name)
		p.line("; Rendered by Dravin from the design; edit the design, not this file.")
		for _, a := range z.Forward {
			p.line("; For what is not written here %s is asked: set that where the zone is served.", a)
		}
		p.line("$ORIGIN %s.", strings.ToLower(strings.TrimSuffix(z.Name, ".")))
		p.line("$TTL %d", zoneLife)
		list := slices.Clone(z.Records)
		slices.SortStableFunc(list, func(a, b box.Record) int { return strings.Compare(a.Name, b.Name) })
		body := &page{}
		body.line("@ IN NS ns")
		served := false
		for _, r := range list {
			kind := "A"
			if r.Address.Is6() {
				kind = "AAAA"
			}
			served = served || r.Name == "ns"
			meant := ""
			if r.Meant != "" {
				meant = " ; " + r.Meant
			}
			body.line("%s IN %s %s%s", strings.ToLower(r.Name), kind, r.Address, meant)
		}
		if !served {
			body.line("ns IN A 127.0.0.1 ; whoever serves it puts his own address here")
		}
		p.line("@ IN SOA ns hostmaster ( %d 3600 600 604800 %d )", serial, zoneLife)
		p.WriteString(body.String())
		out = append(out, File{
			Path: "zones/" + folders.name(z.Name) + ".zone", About: "the zone " + z.Name + " as a master file (RFC 1035)",
			Content: p.String(),
		})
	}
	return out
}
