package draft

import (
	"dravin/core/allocation"
	"dravin/core/design"
)

// Second are the ways to put a second joint beside one that is there: another tunnel, another
// circuit, or a VPN over the internet beside a circuit.
func Second(books *allocation.Books, joint design.ID, gb uint32) []Shape {
	return nil
}
