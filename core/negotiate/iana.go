package negotiate

import (
	"strconv"
	"strings"
)

// Cipher is an encryption algorithm by its number (the IANA registry of IKEv2 transform types, type 1).
type Cipher struct {
	Number uint16
	Bits   uint16 // of its key
}

// Numbers are the algorithms of a proposal by their numbers in the IANA registry of IKEv2 transform types (RFC 7296
// section 3.3.2): encryption is type 1, integrity type 3, key exchange groups type 4.
type Numbers struct {
	Encryption []Cipher
	Integrity  []uint16
	Groups     []uint16
}

// numbers are those of the keywords.
var numbers = map[string]uint16{
	"3des": 3, "aes128": 12, "aes192": 12, "aes256": 12, "aes128gcm16": 20, "aes192gcm16": 20, "aes256gcm16": 20,
	"chacha20poly1305": 28,
	"md5":              1, "sha1": 2, "sha256": 12, "sha384": 13, "sha512": 14,
	"modp1024": 2, "modp1536": 5, "modp2048": 14, "modp3072": 15, "modp4096": 16, "ecp256": 19, "ecp384": 20, "ecp521": 21,
	"curve25519": 31,
}

// Numbers are the proposal's algorithms by their numbers.
func (p Proposal) Numbers() (out Numbers) {
	for _, t := range p.of[encryption] {
		c := Cipher{Number: numbers[t.keyword]}
		for _, digits := range strings.FieldsFunc(t.keyword, func(r rune) bool { return r < '0' || r > '9' }) {
			if n, err := strconv.ParseUint(digits, 10, 16); err == nil && n >= 128 && n <= 256 {
				c.Bits = uint16(n)
			}
		}
		switch t.keyword {
		case "3des":
			c.Bits = 192
		case "chacha20poly1305":
			c.Bits = 256
		}
		out.Encryption = append(out.Encryption, c)
	}
	for _, t := range p.of[integrity] {
		out.Integrity = append(out.Integrity, numbers[t.keyword])
	}
	for _, t := range p.of[group] {
		out.Groups = append(out.Groups, numbers[t.keyword])
	}
	return out
}
