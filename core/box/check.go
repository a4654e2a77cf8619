package box

import (
	"fmt"

	"dravin/core/design"
	"dravin/core/words"
)

// CheckKind is a way of seeing on the spot that something is done.
type CheckKind string

// The kinds of checks.
const (
	Listed      CheckKind = "listed"
	Entries     CheckKind = "entries"
	Forwards    CheckKind = "forwards"
	Reached     CheckKind = "reached"
	TunnelUp    CheckKind = "tunnel-up"
	Established CheckKind = "session-established"
	Answered    CheckKind = "answered"
)

// Checks are the kinds with what they mean.
var Checks = []words.Coded[CheckKind]{
	{
		Code: Listed, Title: "listed", Doc: "the place at which it was entered lists it with these values",
		Fix: "enter what is missing, and take out what is too many",
	},
	{
		Code: Entries, Title: "entries", Doc: "a table has exactly these entries beside those that come by themselves",
		Fix: "enter what is missing, and take out what is too many",
	},
	{
		Code: Forwards, Title: "forwards", Doc: "a box of one's own forwards, and has its rules loaded",
		Fix: "load its files again",
	},
	{
		Code: Reached, Title: "reached", Doc: "a host or box beside it reaches its address",
		Fix: "see to its address, and to the LAN or line between the two",
	},
	{
		Code: TunnelUp, Title: "tunnel up", Doc: "the IKE SA is established and the child SAs are installed (RFC 7296)",
		Fix: "hold both ends against the two-ended sheet",
	},
	{
		Code: Established, Title: "session established",
		Doc: "the BGP session is in the state Established (RFC 4271 section 8)",
		Fix: "hold both ends against the two-ended sheet",
	},
	{
		Code: Answered, Title: "answered", Doc: "somebody who asks for it, or dials it, is answered",
		Fix: "prove the flow, which names what stops it",
	},
}

// Check is how to see on the spot that an instruction is done.
type Check struct {
	// ID stays the same as long as there is the object, its party and end, and this kind of check.
	ID   string    `json:"id"`
	Kind CheckKind `json:"kind" enum:"listed,entries,forwards,reached,tunnel-up,session-established,answered"`
	Text string    `json:"text"` // as a sentence
}

func checkOf(o *design.Object, party design.ID, end int, by seen) Check {
	return Check{ID: fmt.Sprintf("%s/%s/%d/%s", o.ID, party, end, by.kind), Kind: by.kind, Text: by.text}
}
