package handover

import (
	"strings"

	"dravin/core/box"
	"dravin/core/design"
)

// sheet is the print of a party's instructions: what its administrator must find set, in the
// words of the design, the whole of it and not only what changed.
func sheet(party *box.Party) File {
	p := &page{}
	p.line("%s: what must be set", party.Name)
	p.line("%s", strings.Repeat("=", len([]rune(party.Name))+18))
	group := ""
	for _, i := range party.Instructions {
		if !i.Due {
			continue
		}
		if g := groupOf(i); g != group {
			group = g
			p.line("")
			p.line("%s", g)
		}
		p.line("  [ ] %s", i.Does)
		for _, l := range i.Lines {
			p.line("      %s", l)
		}
		if b := boxAt(party, i); b != nil {
			boxLines(p, b)
		}
		p.line("      done when %s", i.Check.Text)
	}
	p.line("")
	p.line("Then prove it")
	for _, x := range party.Proofs {
		must := "must answer"
		if x.Never {
			must = "must not answer"
		}
		p.line("  [ ] from %s: %s %s %s (%s)", x.From, x.Dial, x.Service, must, x.To)
	}
	return File{
		Path: folders.name(party.Name) + "-sheet.txt", About: "what the administrator must find set, to tick off",
		Content: p.String(),
	}
}

// groups head the instructions of kinds that are done in one go.
var groups = map[design.Kind]string{
	design.KindNetwork: "What is there", design.KindHub: "What is there", design.KindEdgeRouter: "What is there",
	design.KindLAN: "What is there", design.KindInnerRoute: "What is there", design.KindRequest: "What is asked for",
	design.KindPeering: "Peerings", design.KindAttachment: "Attachments to hubs", design.KindTable: "Route tables",
	design.KindHubTable: "Tables of the hub", design.KindSubnet: "Subnets", design.KindEndpoint: "Hosts that are called",
}

func groupOf(i box.Instruction) string {
	if g := groups[i.Kind]; g != "" {
		return g
	}
	return "At " + i.At
}

// boxAt is the box that an instruction sets up, or nil.
func boxAt(party *box.Party, i box.Instruction) *box.Box {
	for _, b := range party.Boxes {
		if b.ID == i.ID {
			return b
		}
	}
	return nil
}

// boxLines tell what a table has by itself beside its entries, and what runs at a box of one's
// own: its kernel settings, its watcher, what comes back at boot.
func boxLines(p *page, b *box.Box) {
	for _, r := range b.Fed() {
		p.line("      by itself it has %s by %s (%s)", r.Prefix, r.Via, r.Source)
	}
	if !b.Linux {
		return
	}
	if len(b.Circuits) > 0 {
		p.line("      the port of each circuit is named in /etc/%s", portsFile)
	}
	p.line("      at boot %s sets everything up: systemctl is-enabled %s", start, start)
	watchSheet(p, b)
}
