package handover

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"

	"dravin/core/design"
)

// target is what a kind of file takes as a name.
type target struct {
	hyphen string // what a hyphen becomes
	first  string // goes before a digit at the start; empty: a name may begin with one
	most   int    // bytes
}

var (
	sections  = target{hyphen: "-", most: 120}            // of the IPsec daemon
	protocols = target{hyphen: "_", first: "N", most: 60} // of the BGP daemon, which takes 64
	folders   = target{hyphen: "-", most: 200}            // a file system takes 255
)

// name is a name in a file for something with that path of names: readable, valid
// for the target, and different wherever the paths differ. Slugs hold no capital
// letter and no underscore, and one hyphen at a time: so two underscores stand
// between the parts, and a letter that the target does not take is written as its
// number between X and an underscore. What is too long ends in a hash.
func (t target) name(path ...string) string {
	var b strings.Builder
	for n, part := range path {
		if n > 0 {
			b.WriteString("__")
		}
		for _, r := range design.Slug(part) {
			switch {
			case r == '-':
				b.WriteString(t.hyphen)
			case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
				b.WriteRune(r)
			default:
				fmt.Fprintf(&b, "X%X_", r)
			}
		}
	}
	out := b.String()
	if t.first != "" && (out == "" || out[0] >= '0' && out[0] <= '9') {
		out = t.first + out
	}
	if len(out) > t.most {
		const hashed = 16
		sum := sha256.Sum256([]byte(out))
		out = out[:t.most-hashed-1] + "H" + hex.EncodeToString(sum[:])[:hashed]
	}
	return out
}

// Folder is the name of the folder for a party's files.
func Folder(party string) string { return folders.name(party) }
