package translate

import (
	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/walk"
)

// LedgerEntry is one line of the ledger: a mapping, and the declared hosts in it
// with all their names.
type LedgerEntry struct {
	Mapping design.ID       `json:"mapping"`
	Title   string          `json:"title"` // whose range it is
	Real    string          `json:"real"`
	Mapped  string          `json:"mapped"`
	Gateway string          `json:"gateway"`
	Link    string          `json:"link"`
	Hosts   []walk.Identity `json:"hosts"`
}

// Ledger lists who is seen as what, in canonical order of the mappings.
func Ledger(t *route.Tables) []LedgerEntry {
	d := t.Design
	out := []LedgerEntry{}
	for _, o := range d.Of(design.KindMapping) {
		m := o.Body.(*design.Mapping)
		party := d.Party(m.Gateway)
		e := LedgerEntry{Mapping: o.ID, Title: party.Name, Real: m.Real.String(), Mapped: m.Mapped.String(),
			Gateway: d.Title(m.Gateway), Link: d.Title(m.Link), Hosts: []walk.Identity{}}
		for _, lan := range d.Inside(party.ID, design.KindLAN) {
			for _, host := range d.Inside(lan.ID, design.KindEndpoint) {
				for _, a := range host.Body.(*design.Endpoint).Addresses {
					if m.Real.Contains(a) {
						e.Hosts = append(e.Hosts, walk.IdentityOf(t, host, a))
					}
				}
			}
		}
		out = append(out, e)
	}
	return out
}
