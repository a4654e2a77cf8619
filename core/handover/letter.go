package handover

import (
	"fmt"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
)

// asked are the kinds of which a far owner is told: what joins us, and what it needs. What else there is at the far end
// is its owner's own affair.
var asked = []design.Kind{
	design.KindLink, design.KindTunnel, design.KindSession, design.KindCircuit, design.KindPeering, design.KindAttachment,
	design.KindRequest, design.KindMapping,
}

// letter is what the owner of a party that is none of ours must be told to make his half, and no more; empty where
// there is nothing to tell, or the party is ours.
func letter(party *box.Party) (File, bool) {
	var told []box.Instruction
	for _, i := range party.Instructions {
		if i.Due && slices.Contains(asked, i.Kind) {
			told = append(told, i)
		}
	}
	if party.Owner == "" || len(told) == 0 {
		return File{}, false
	}
	p := &page{}
	p.line("To %s", party.Owner)
	p.line("")
	p.line("%s and we are to be joined. This is all that must be set at your end; ours is set to match.", party.Name)
	for n, i := range told {
		p.line("")
		p.line("%d. At %s: %s", n+1, i.At, i.Does)
		for _, l := range i.Lines {
			p.line("   %s", l)
		}
		p.line("   It is done when %s.", i.Check.Text)
	}
	for _, b := range party.Boxes {
		for _, l := range b.Links {
			for _, t := range l.Tunnels {
				parameters(p, l, t)
			}
		}
	}
	p.line("")
	if strings.Contains(p.String(), "IKE proposals:") {
		p.line("The pre-shared keys come by another way; send us none in an answer to this.")
	}
	p.line("Where your end can not be set so, send back what it is set to: a list as above, or the settings themselves.")
	return File{
		Path:    folders.name(party.Name) + "-letter.txt",
		About:   "all that its owner must be told to make the other half, and no more",
		Content: p.String(),
	}, true
}

// parameters are a tunnel as the far end is to have it, in a list that can be sent back as it is.
func parameters(p *page, l *box.Link, t box.Tunnel) {
	p.line("")
	p.line("%s, %s, as your end is to have it:", l.Name, t.Name)
	p.line("")
	for _, x := range [][2]string{
		{"local address", addressOr(t.Set.Address.String())},
		{"remote address", addressOr(t.Set.Peer.String())},
		{"local identity", t.Set.Identity},
		{"remote identity", orFill(t.Set.PeerIdentity)},
		{"IKE version", fmt.Sprint(t.Set.Version)},
		{"IKE proposals", strings.Join(t.Set.IKE, ", ")},
		{"IKE lifetime", fmt.Sprintf("%d s", t.Set.IKELife)},
		{"ESP proposals", strings.Join(t.Set.ESP, ", ")},
		{"key lifetime", fmt.Sprintf("%d s", t.Set.ChildLife)},
		{"dead peer detection", fmt.Sprintf("%d s", t.Set.DPD)},
		{"local ranges", words(t.Set.Local)},
		{"remote ranges", words(t.Set.Remote)},
	} {
		p.line("   %s: %s", x[0], x[1])
	}
	if t.Inside.IsValid() {
		p.line("   inside address: %s", t.Inside)
	}
	if t.Inside6.IsValid() {
		p.line("   inside address of IPv6: %s", t.Inside6)
	}
}

func addressOr(text string) string {
	if text == "invalid IP" || text == "0.0.0.0" || text == "::" {
		return fillIn
	}
	return text
}
