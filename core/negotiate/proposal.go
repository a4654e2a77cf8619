// Package negotiate tells what two ends come to: pure values in, the outcome or
// the first cause out. [Agree] is for the two ends of a tunnel (RFC 7296),
// [AgreeSession] for those of a BGP session (RFC 4271). It holds the grammar of
// what the ends are set to: proposals and identities.
package negotiate

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
)

// transformType is what a transform does (RFC 7296 section 3.3.2).
type transformType int

const (
	encryption transformType = iota
	integrity
	prf
	group
)

var typeWords = [...]string{"encryption", "integrity", "pseudo-random function", "key exchange group"}

// transform is one algorithm of a proposal.
type transform struct {
	typ     transformType
	keyword string
	name    string // as the IPsec daemon reports it; the names follow the IANA registry
	weak    string // why not to use it; empty if fit (RFC 8221, RFC 8247)
	aead    bool
	// per packet, for ESP: initialisation vector, block size, check value, in bytes
	iv, block, icv int
}

const outdated = "RFC 8247 says not to use it"

var transforms = []transform{
	{typ: encryption, keyword: "aes128gcm16", name: "AES_GCM_16-128", aead: true, iv: 8, block: 4, icv: 16},
	{typ: encryption, keyword: "aes192gcm16", name: "AES_GCM_16-192", aead: true, iv: 8, block: 4, icv: 16},
	{typ: encryption, keyword: "aes256gcm16", name: "AES_GCM_16-256", aead: true, iv: 8, block: 4, icv: 16},
	{typ: encryption, keyword: "chacha20poly1305", name: "CHACHA20_POLY1305", aead: true, iv: 8, block: 4, icv: 16},
	{typ: encryption, keyword: "aes128", name: "AES_CBC-128", iv: 16, block: 16},
	{typ: encryption, keyword: "aes192", name: "AES_CBC-192", iv: 16, block: 16},
	{typ: encryption, keyword: "aes256", name: "AES_CBC-256", iv: 16, block: 16},
	{typ: encryption, keyword: "3des", name: "3DES_CBC", iv: 8, block: 8, weak: "its blocks are too short"},
	{typ: integrity, keyword: "md5", name: "HMAC_MD5_96", icv: 12, weak: outdated},
	{typ: integrity, keyword: "sha1", name: "HMAC_SHA1_96", icv: 12, weak: outdated},
	{typ: integrity, keyword: "sha256", name: "HMAC_SHA2_256_128", icv: 16},
	{typ: integrity, keyword: "sha384", name: "HMAC_SHA2_384_192", icv: 24},
	{typ: integrity, keyword: "sha512", name: "HMAC_SHA2_512_256", icv: 32},
	{typ: prf, keyword: "prfmd5", name: "PRF_HMAC_MD5", weak: outdated},
	{typ: prf, keyword: "prfsha1", name: "PRF_HMAC_SHA1"},
	{typ: prf, keyword: "prfsha256", name: "PRF_HMAC_SHA2_256"},
	{typ: prf, keyword: "prfsha384", name: "PRF_HMAC_SHA2_384"},
	{typ: prf, keyword: "prfsha512", name: "PRF_HMAC_SHA2_512"},
	{typ: group, keyword: "modp1024", name: "MODP_1024", weak: outdated},
	{typ: group, keyword: "modp1536", name: "MODP_1536", weak: outdated},
	{typ: group, keyword: "modp2048", name: "MODP_2048"},
	{typ: group, keyword: "modp3072", name: "MODP_3072"},
	{typ: group, keyword: "modp4096", name: "MODP_4096"},
	{typ: group, keyword: "ecp256", name: "ECP_256"},
	{typ: group, keyword: "ecp384", name: "ECP_384"},
	{typ: group, keyword: "ecp521", name: "ECP_521"},
	{typ: group, keyword: "curve25519", name: "CURVE_25519"},
}

var byKeyword = func() map[string]transform {
	m := map[string]transform{}
	for _, t := range transforms {
		m[t.keyword] = t
	}
	m["x25519"] = m["curve25519"]
	return m
}()

// Protocol is what a proposal is for.
type Protocol string

// The protocols.
const (
	IKE Protocol = "IKE"
	ESP Protocol = "ESP"
)

// Proposal is a set of algorithms that one end offers together.
type Proposal struct {
	text string
	of   [4][]transform // by type, in the order of preference
}

// ParseProposal reads a proposal such as aes256gcm16-prfsha384-ecp384. For IKE
// a missing pseudo-random function follows from the integrity algorithm.
func ParseProposal(proto Protocol, text string) (Proposal, error) {
	key := readKey{proto, text}
	if p, ok := readBefore.Load(key); ok {
		return p.(Proposal), nil
	}
	p, err := parseProposal(proto, text)
	if err == nil && readCount.Add(1) < mostRead {
		readBefore.Store(key, p)
	}
	return p, err
}

// The proposals that were read before: an estate has few, and asks for each very
// often. What comes beyond mostRead is read again each time.
var (
	readBefore sync.Map // readKey to Proposal
	readCount  atomic.Int64
)

const mostRead = 4096

type readKey struct {
	proto Protocol
	text  string
}

func parseProposal(proto Protocol, text string) (Proposal, error) {
	p := Proposal{text: strings.ToLower(strings.TrimSpace(text))}
	bad := func(format string, args ...any) (Proposal, error) {
		return Proposal{}, fmt.Errorf("%s proposal %q: %s", proto, text, fmt.Sprintf(format, args...))
	}
	for _, word := range strings.Split(p.text, "-") {
		t, ok := byKeyword[word]
		if !ok {
			return bad("%q is no algorithm that Dravin knows; write such as aes256-sha256-ecp256", word)
		}
		if proto == ESP && t.typ == prf {
			return bad("%s is for IKE only; leave it out", word)
		}
		p.of[t.typ] = append(p.of[t.typ], t)
	}
	if len(p.of[encryption]) == 0 {
		return bad("it has no encryption; begin with one such as aes256gcm16")
	}
	for _, e := range p.of[encryption] {
		if e.aead != p.of[encryption][0].aead {
			return bad(
				"%s and %s can not stand in one proposal: one brings its own integrity; make two proposals of it",
				p.of[encryption][0].keyword, e.keyword,
			)
		}
	}
	switch aead := p.of[encryption][0].aead; {
	case aead:
		p.of[integrity] = nil // the daemon drops it
	case len(p.of[integrity]) == 0:
		return bad("%s needs an integrity algorithm such as sha256", p.of[encryption][0].keyword)
	}
	if proto == IKE {
		if len(p.of[prf]) == 0 {
			for _, i := range p.of[integrity] {
				p.of[prf] = append(p.of[prf], byKeyword["prf"+i.keyword])
			}
		}
		if len(p.of[prf]) == 0 {
			return bad("%s needs a pseudo-random function such as prfsha384", p.of[encryption][0].keyword)
		}
		if len(p.of[group]) == 0 {
			return bad("it has no key exchange group; add one such as ecp384")
		}
	}
	return p, nil
}

// ParseProposals reads a list; the error names the first bad one.
func ParseProposals(proto Protocol, list []string) ([]Proposal, error) {
	out := make([]Proposal, 0, len(list))
	for _, text := range list {
		p, err := ParseProposal(proto, text)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

func (p Proposal) String() string { return p.text }

// Weak says why the proposal should not be used, empty if it is fit.
func (p Proposal) Weak() string {
	for _, list := range p.of {
		for _, t := range list {
			if t.weak != "" {
				return t.keyword + ": " + t.weak
			}
		}
	}
	return ""
}

// Chosen is the one algorithm of each kind that two ends settle on, by the
// names that the daemon reports. What does not apply is empty.
type Chosen struct {
	Encryption string `json:"encryption"`
	Integrity  string `json:"integrity,omitempty"`
	PRF        string `json:"prf,omitempty"`
	Group      string `json:"group,omitempty"`

	overhead transform
	check    int
}

func (c Chosen) String() string {
	return strings.Join(
		slices.DeleteFunc([]string{c.Encryption, c.Integrity, c.PRF, c.Group}, func(s string) bool { return s == "" }),
		", ",
	)
}

// meet settles on the first algorithm of each type that a prefers and b has
// too. Where only one has a group, the proposals do not meet. misfit is the
// type on which they fail.
func meet(a, b Proposal, groups bool) (c Chosen, misfit transformType, ok bool) {
	for typ := range a.of {
		t := transformType(typ)
		if t == group && !groups || len(a.of[typ]) == 0 && len(b.of[typ]) == 0 {
			continue
		}
		n := slices.IndexFunc(a.of[typ], func(x transform) bool { return slices.Contains(b.of[typ], x) })
		if n < 0 {
			return Chosen{}, t, false
		}
		got := a.of[typ][n]
		switch t {
		case encryption:
			c.Encryption, c.overhead, c.check = got.name, got, got.icv
		case integrity:
			c.Integrity, c.check = got.name, got.icv
		case prf:
			c.PRF = got.name
		case group:
			c.Group = got.name
		}
	}
	return c, 0, true
}

// Choose picks as a daemon that answers does: its own order decides. groups is
// false for the child that comes up with the IKE SA, whose key exchange serves
// both (RFC 7296 section 1.2).
func Choose(answers, asks []Proposal, groups bool) (Chosen, bool) {
	for _, a := range answers {
		for _, b := range asks {
			if c, _, ok := meet(a, b, groups); ok {
				return c, true
			}
		}
	}
	return Chosen{}, false
}

// Disagreement says on what two lists of proposals fail: on the type that the
// closest pair lacks.
func Disagreement(a, b []Proposal, groups bool) string {
	worst := transformType(-1)
	for _, x := range a {
		for _, y := range b {
			if _, misfit, ok := meet(x, y, groups); !ok && misfit > worst {
				worst = misfit
			}
		}
	}
	if worst < 0 {
		return "one end offers none"
	}
	return "no " + typeWords[worst] + " in common"
}

// Strong are the proposals of a gateway of which nothing else is known,
// strongest first (RFC 8221, RFC 8247).
var Strong = struct{ IKE, ESP []string }{
	IKE: []string{"aes256gcm16-prfsha384-ecp384", "aes256-sha256-ecp256", "aes256-sha256-modp2048"},
	ESP: []string{"aes256gcm16-ecp384", "aes256-sha256-ecp256", "aes256-sha256-modp2048"},
}

// Common are the proposals of a that b has too, by what they mean and not by how
// they are written; those that can not be read are compared as they are.
func Common(proto Protocol, a, b []string) []string {
	var out []string
	for _, p := range a {
		if slices.ContainsFunc(b, func(q string) bool { return sameProposal(proto, p, q) }) {
			out = append(out, p)
		}
	}
	return out
}

func sameProposal(proto Protocol, a, b string) bool {
	x, errX := ParseProposal(proto, a)
	y, errY := ParseProposal(proto, b)
	if errX != nil || errY != nil {
		return strings.EqualFold(a, b)
	}
	for typ := range x.of {
		if !slices.Equal(x.of[typ], y.of[typ]) {
			return false
		}
	}
	return true
}
