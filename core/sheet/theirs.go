package sheet

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/settings"
)

// Sent is what a far administrator sent of their end: local is theirs.
type Sent struct {
	Given    []string // the keys that were given, in the order of [sentKeys]
	Settings negotiate.Settings
	BGP      negotiate.BGPEnd
	Problems design.Problems // lines that were not understood; the others count
	// Aside are the lines of a file that say what Dravin does not compare.
	Aside design.Problems
	// Decides are the lines of a file for which the tunnel can not come up, whatever the rest says: what no end of ours is
	// ever set to.
	Decides design.Problems
	// Connection is the one that was taken of a file; Choices are those of which one must be chosen first: nothing is
	// given then.
	Connection string
	Choices    []Choice
}

// maxSent bounds what is pasted, bytes.
const maxSent = 1 << 20

// Decided is what two ends come to once what was sent is known whole: where a line decides, it does not come up.
func (s Sent) Decided(out negotiate.Outcome) negotiate.Outcome {
	if len(s.Decides) == 0 || !out.Up && !out.IKEUp {
		return out
	}
	out.Up, out.IKEUp, out.Parameter, out.Why = false, false, s.Decides[0].Field, s.Decides[0].Why
	return out
}

// ReadSent reads what a far end has: a plain list of parameters, one to a line, such as "remote address:
// 198.51.100.10"; the settings of the IPsec daemon in either of their styles; those of a BGP daemon; what ip and nft
// say as JSON. near and far are the addresses of our end and theirs, which tell their connection from others in one
// file; either may be unknown. name chooses among several, where they do not. If nothing is understood the error is
// [design.Problems] with lines.
func ReadSent(text string, near, far netip.Addr, name string) (Sent, error) {
	s := &Sent{}
	switch {
	case len(text) > maxSent:
		return *s, design.Problems{
			{Line: 1, Why: "the text has more than 1 MiB", Want: "paste the part about this tunnel"},
		}
	case !design.IsText(strings.ReplaceAll(text, "\r", "")):
		return *s, design.Problems{
			{Line: 1, Why: "this is not text", Want: "paste a swanctl.conf or a list of parameters"},
		}
	}
	text = strings.ReplaceAll(text, "\r", "")
	all, isFile, err := connectionsOf(text, near)
	if err != nil {
		return *s, err
	}
	if !isFile {
		s.fromList(text)
	} else if c, ok := choose(all, near, far, name); ok {
		s.take(c)
	} else if len(all) > 0 {
		for _, c := range all {
			s.Choices = append(s.Choices, c.choice())
		}
		s.Problems = append(s.Problems, severalWords(all))
		return *s, nil
	}
	if len(s.Given) == 0 && len(s.Aside) > 0 {
		return *s, nil // it is about a tunnel, though not in words that can be compared
	}
	if len(s.Given) == 0 {
		if len(s.Problems) == 0 {
			s.Problems = design.Problems{
				{
					Line: 1, Why: "nothing here is a parameter of a tunnel",
					Want: `write lines such as "remote address: 198.51.100.10", or paste the daemon's settings`,
				},
			}
		}
		return *s, s.Problems
	}
	return *s, nil
}

// connectionsOf are those of a file, by what kind of file it is; isFile is false of a list of parameters.
func connectionsOf(text string, near netip.Addr) (all []connection, isFile bool, err error) {
	ours := ""
	if negotiate.Known(near) {
		ours = near.String()
	}
	switch trimmed := strings.TrimSpace(text); {
	case strings.HasPrefix(trimmed, "[") || strings.HasPrefix(trimmed, `{"`) || strings.HasPrefix(trimmed, `{ "`):
		all, err = fromJSON(text)
	case frrProcess.MatchString(text):
		all = fromFRR(text)
	case isBird(text):
		all = fromBird(text)
	case keyedStyle.MatchString(text):
		all, err = fromKeyed(text, ours)
	case strings.Contains(text, "{"):
		all, err = fromSections(text)
	default:
		return nil, false, nil
	}
	return all, true, err
}

// sentKey is a parameter that may be sent: the words for it, how it is read, and
// how it is set at an end of a tunnel; nil for what stands elsewhere.
type sentKey struct {
	key   string
	words []string
	read  func(s *Sent, value string) error
	put   func(e *design.TunnelEnd, from negotiate.Settings)
}

var sentKeys = []sentKey{
	{
		"address",
		[]string{"local address", "our address", "local gateway", "local", "local peer", "gateway address"},
		func(s *Sent, v string) (err error) { s.Settings.Address, err = oneAddress(v); return },
		nil,
	},
	{
		"peer",
		[]string{"remote address", "peer address", "your address", "remote gateway", "remote", "peer"},
		func(s *Sent, v string) (err error) { s.Settings.Peer, err = oneAddress(v); return },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.Peer = s.Peer },
	},
	{
		"identity",
		[]string{"local identity", "local id", "our identity", "our id", "identity"},
		func(s *Sent, v string) (err error) { s.Settings.Identity, err = identity(v); return },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.Identity = s.Identity },
	},
	{
		"peer-identity",
		[]string{"remote identity", "remote id", "peer identity", "peer id", "your identity", "your id"},
		func(s *Sent, v string) (err error) { s.Settings.PeerIdentity, err = identity(v); return },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.PeerIdentity = s.PeerIdentity },
	},
	{
		"key",
		[]string{"pre shared key", "preshared key", "psk", "shared secret", "secret", "key"},
		func(s *Sent, v string) (err error) { s.Settings.Key, err = key(v); return },
		nil,
	},
	{
		"version", []string{"ike version", "version"}, func(s *Sent, v string) error { return s.version(v) },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.Version = s.Version },
	},
	{
		"ike",
		[]string{"ike proposals", "ike proposal", "ike", "phase 1", "phase 1 proposals", "phase 1 proposal"},
		func(s *Sent, v string) (err error) { s.Settings.IKE, err = proposalList(negotiate.IKE, v); return },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.IKE = s.IKE },
	},
	{
		"esp",
		[]string{
			"esp proposals",
			"esp proposal",
			"esp",
			"phase 2",
			"phase 2 proposals",
			"phase 2 proposal",
			"ipsec proposals",
			"ipsec proposal",
		},
		func(s *Sent, v string) (err error) { s.Settings.ESP, err = proposalList(negotiate.ESP, v); return },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.ESP = s.ESP },
	},
	{
		"ike-life",
		[]string{"ike lifetime", "phase 1 lifetime", "ike life"},
		func(s *Sent, v string) (err error) { s.Settings.IKELife, err = duration(v); return },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.IKELife = s.IKELife },
	},
	{
		"child-life",
		[]string{"key lifetime", "esp lifetime", "phase 2 lifetime", "child lifetime", "lifetime"},
		func(s *Sent, v string) (err error) { s.Settings.ChildLife, err = duration(v); return },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.ChildLife = s.ChildLife },
	},
	{
		"dpd",
		[]string{"dead peer detection", "dpd", "dpd delay", "dpd interval"},
		func(s *Sent, v string) (err error) { s.Settings.DPD, err = duration(v); return },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.DPD = s.DPD },
	},
	{
		"local",
		[]string{
			"local ranges",
			"local networks",
			"local subnets",
			"local subnet",
			"local network",
			"local selectors",
			"our networks",
			"our ranges",
		},
		func(s *Sent, v string) (err error) { s.Settings.Local, err = prefixList(v); return },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.Local = s.Local },
	},
	{
		"remote",
		[]string{
			"remote ranges",
			"remote networks",
			"remote subnets",
			"remote subnet",
			"remote network",
			"remote selectors",
			"your networks",
			"your ranges",
		},
		func(s *Sent, v string) (err error) { s.Settings.Remote, err = prefixList(v); return },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.Remote = s.Remote },
	},
	{
		"inside",
		[]string{"inside address", "local inside address", "tunnel address", "our inside address"},
		func(s *Sent, v string) (err error) { s.Settings.Inside, err = insideAddress(v); return },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.Inside = s.Inside },
	},
	{
		"mtu",
		[]string{"mtu", "tunnel mtu"},
		func(s *Sent, v string) error { n, err := number(v, 9216); s.Settings.MTU = n; return err },
		func(e *design.TunnelEnd, s negotiate.Settings) { e.MTU = s.MTU },
	},
	{
		"asn",
		[]string{"asn", "local asn", "our asn", "bgp asn", "local as", "our as"},
		func(s *Sent, v string) (err error) { s.BGP.ASN, err = number(v, 1<<32-1); return },
		nil,
	},
	{
		"bgp-address",
		[]string{"bgp address", "local bgp address"},
		func(s *Sent, v string) (err error) { s.BGP.Address, err = oneAddress(v); return },
		nil,
	},
	{
		"bgp-peer",
		[]string{"bgp neighbour", "bgp neighbor", "bgp peer"},
		func(s *Sent, v string) (err error) { s.BGP.Peer, err = oneAddress(v); return },
		nil,
	},
	{
		"peer-asn",
		[]string{"remote asn", "peer asn", "your asn", "remote as", "peer as"},
		func(s *Sent, v string) (err error) { s.BGP.PeerASN, err = number(v, 1<<32-1); return },
		nil,
	},
	{
		"hold",
		[]string{"hold time", "bgp hold time"},
		func(s *Sent, v string) (err error) { s.BGP.Hold, err = duration(v); return },
		nil,
	},
	{
		"max-prefixes",
		[]string{"max prefixes", "maximum prefixes", "prefix limit"},
		func(s *Sent, v string) (err error) { s.BGP.MaxPrefixes, err = number(v, 1<<32-1); return },
		nil,
	},
}

// set reads one parameter. A key is taken as it stands, blanks and all.
func (s *Sent) set(key, value string, line int) {
	if key != keyLine {
		value = strings.TrimSpace(value)
		if strings.HasPrefix(value, "%any") { // anything goes: nothing to compare
			return
		}
	}
	for _, k := range sentKeys {
		if k.key != key {
			continue
		}
		if err := k.read(s, value); err != nil {
			s.Problems = append(s.Problems, design.Problem{Field: key, Line: line, Why: err.Error()})
			return
		}
		if !slices.Contains(s.Given, key) {
			s.Given = append(s.Given, key)
		}
		return
	}
}

func (s *Sent) has(key string) bool { return slices.Contains(s.Given, key) }

var listLine = regexp.MustCompile(`^\s*[-*|]?\s*([^:=\t|]+?)\s*[:=\t|]\s*(.*?)\s*\|?\s*$`)

func (s *Sent) fromList(text string) {
	for n, line := range strings.Split(text, "\n") {
		trimmed := strings.TrimSpace(line)
		if trimmed == "" || strings.HasPrefix(trimmed, "#") {
			continue
		}
		m := listLine.FindStringSubmatch(line)
		if m == nil {
			s.Problems = append(
				s.Problems,
				design.Problem{
					Line: n + 1, Why: "this line has no colon", Want: `write the parameter, a colon and its value`,
				},
			)
			continue
		}
		label := strings.Join(
			strings.FieldsFunc(
				strings.ToLower(strings.Trim(m[1], "|*` ")),
				func(r rune) bool { return r == ' ' || r == '-' || r == '_' },
			),
			" ",
		)
		found := false
		for _, k := range sentKeys {
			if slices.Contains(k.words, label) {
				s.set(k.key, m[2], n+1)
				found = true
			}
		}
		if !found {
			s.Problems = append(
				s.Problems,
				design.Problem{
					Line: n + 1,
					Why:  "this line is about no parameter that Dravin compares",
					Want: "known are such as remote address, IKE proposals, local ranges, key lifetime, ASN",
				},
			)
		}
	}
}

func (s *Sent) version(v string) error {
	switch strings.ToLower(strings.ReplaceAll(v, " ", "")) {
	case "1", "ikev1", "v1":
		s.Settings.Version = 1
	case "2", "ikev2", "v2", "0":
		s.Settings.Version = 2
	default:
		return fmt.Errorf("%q is no IKE version; write 1 or 2", v)
	}
	return nil
}

func identity(v string) (string, error) {
	i, err := negotiate.ParseIdentity(v)
	return i.String(), err
}

// maxKey bounds a pre-shared key, bytes.
const maxKey = 512

// key takes a pre-shared key; no error tells what it was.
func key(v string) (string, error) {
	switch {
	case v == "":
		return "", errors.New("the key is empty")
	case len(v) > maxKey:
		return "", fmt.Errorf("the key has more than %d bytes", maxKey)
	case !design.IsLine(v):
		return "", errors.New("the key holds a control character; write it on one line")
	}
	return v, nil
}

func firstAddress(v string) netip.Addr {
	a, _ := oneAddress(v)
	return a
}

func oneAddress(v string) (netip.Addr, error) {
	word := strings.TrimSpace(strings.Split(v, ",")[0])
	a, err := netip.ParseAddr(word)
	if err != nil || a.Zone() != "" {
		return netip.Addr{}, fmt.Errorf("%q is not an address; write one such as 198.51.100.10", word)
	}
	return a, nil
}

func insideAddress(v string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(v)
	if err != nil {
		return p, fmt.Errorf("%q is not an address with its prefix length; write one such as 169.254.140.1/30", v)
	}
	return p, nil
}

func prefixList(v string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, word := range strings.FieldsFunc(v, func(r rune) bool { return r == ',' || r == ' ' || r == ';' }) {
		p, err := prefix.Parse(word)
		if err != nil {
			return nil, fmt.Errorf("%q %w", word, err)
		}
		out = append(out, p)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("there is no range; write one such as 10.214.0.0/22")
	}
	return prefix.Minimal(out), nil
}

func number(v string, most uint64) (uint32, error) {
	n, err := strconv.ParseUint(strings.TrimSpace(strings.TrimSuffix(strings.ToLower(v), "bytes")), 10, 32)
	if err != nil || n > most {
		return 0, fmt.Errorf("%q is no number up to %d", v, most)
	}
	return uint32(n), nil
}

var durations = regexp.MustCompile(`^(\d{1,9})\s*(s|sec|seconds|m|min|minutes|h|hours|d|days)?$`)

// duration reads seconds, or a number with s, m, h or d.
func duration(v string) (uint32, error) {
	m := durations.FindStringSubmatch(strings.ToLower(v))
	if m == nil {
		return 0, fmt.Errorf("%q is no length of time; write one such as 3600 s or 1h", v)
	}
	n, _ := strconv.ParseUint(m[1], 10, 32) // nine digits fit
	if m[2] != "" {
		n *= map[byte]uint64{'s': 1, 'm': 60, 'h': 3600, 'd': 86400}[m[2][0]]
	}
	if n > 1<<31 {
		return 0, fmt.Errorf("%q is longer than any lifetime", v)
	}
	return uint32(n), nil
}

// otherNames are how proposals are written elsewhere: groups by their number
// (RFC 3526, RFC 5903, RFC 8031), algorithms with hyphens.
var otherNames = strings.NewReplacer(
	"gcm128",
	"gcm16",
	"aes-128-gcm",
	"aes128gcm16",
	"aes-192-gcm",
	"aes192gcm16",
	"aes-256-gcm",
	"aes256gcm16",
	"aes-gcm-128",
	"aes128gcm16",
	"aes-gcm-256",
	"aes256gcm16",
	"aes-128",
	"aes128",
	"aes-192",
	"aes192",
	"aes-256",
	"aes256",
	"sha-1",
	"sha1",
	"sha2-",
	"sha",
	"sha-256",
	"sha256",
	"sha-384",
	"sha384",
	"sha-512",
	"sha512",
	"dh-group",
	"group",
	"dh group ",
	"group",
	"group ",
	"group",
	"dh",
	"group",
)

var groupNumbers = map[string]string{
	"group2":  "modp1024",
	"group5":  "modp1536",
	"group14": "modp2048",
	"group15": "modp3072",
	"group16": "modp4096",
	"group19": "ecp256",
	"group20": "ecp384",
	"group21": "ecp521",
	"group31": "curve25519",
}

func proposalList(proto negotiate.Protocol, v string) ([]string, error) {
	var out []string
	for _, part := range strings.FieldsFunc(v, func(r rune) bool { return r == ',' || r == ';' }) {
		words := strings.FieldsFunc(
			otherNames.Replace(strings.ToLower(strings.TrimSpace(part))),
			func(r rune) bool { return r == '-' || r == ' ' || r == '/' || r == '+' },
		)
		for n, w := range words {
			if name, ok := groupNumbers[w]; ok {
				words[n] = name
			}
		}
		text := strings.Join(words, "-")
		if _, err := negotiate.ParseProposal(proto, text); err != nil {
			return nil, err
		}
		out = append(out, text)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("there is no proposal; write one such as aes256-sha256-ecp256")
	}
	return out, nil
}

// Record is the edits that set an end of a tunnel to what was sent, so that
// the sheet shows where the other end differs. The other end stays what it is
// set to, even where it would follow.
func Record(d *design.Design, tunnel *design.Object, end int, s Sent) ([]design.Edit, error) {
	l := d.Get(tunnel.Parent).Body.(*design.Link)
	now := settings.SettingsOf(d, tunnel, "")
	ours, sent := now[1-end], s.Settings
	var edits []design.Edit
	edited := design.Edited(tunnel, func(body *design.Tunnel) {
		if s.has("address") && sent.Address != d.OutsideOf(tunnel)[end] {
			gateway := d.Get(l.Ends[end].Gateway)
			if g := *gateway.Body.(*design.Gateway); !g.Owns(sent.Address) {
				g.Addresses = append(slices.Clone(g.Addresses), sent.Address)
				edits = append(edits, design.PutEdit(gateway.With(&g)))
			}
			body.Outside = slices.Clone(body.Outside)
			body.Outside[end] = sent.Address
		}
	})
	o := edited
	o = settings.With(o, 1-end, func(e *design.TunnelEnd) {
		if negotiate.Known(ours.Peer) && s.has("address") && sent.Address != ours.Peer {
			e.Peer = ours.Peer
		}
		if ours.PeerIdentity != "" && (s.has("identity") || s.has("address")) {
			e.PeerIdentity = ours.PeerIdentity
		}
	})
	o = settings.With(o, end, func(e *design.TunnelEnd) { s.into(e, l.Routing != design.RoutingSelectors) })
	edits = append(edits, design.PutEdit(o))
	if l.Routing == design.RoutingSelectors && (s.has("local") || s.has("remote")) {
		edited := design.Edited(d.Get(tunnel.Parent), func(link *design.Link) {
			if s.has("local") {
				link.Ends[end].Local = sent.Local
			}
			if s.has("remote") {
				link.Ends[end].Remote = sent.Remote
			}
		})
		edits = append(edits, design.PutEdit(edited))
	}
	for session, body := range design.Each[design.Session](d.Inside(tunnel.ID, design.KindSession)) {
		edits = append(edits, design.PutEdit(session.With(s.session(body, end))))
	}
	if _, _, err := d.Apply(edits); err != nil {
		return nil, err
	}
	return edits, nil
}

// into sets an end of a tunnel to what was sent. Selectors of a policy-based
// link stand at the link's own ends.
func (s Sent) into(e *design.TunnelEnd, routed bool) {
	for _, k := range sentKeys {
		if k.put != nil && s.has(k.key) && (routed || k.key != "local" && k.key != "remote") {
			k.put(e, s.Settings)
		}
	}
}

// session is a session with one end as sent and the other as it is set.
func (s Sent) session(old *design.Session, end int) *design.Session {
	out := &design.Session{Ends: slices.Clone(old.Ends)}
	theirs, ours := &out.Ends[end], &out.Ends[1-end]
	if s.has("asn") && s.BGP.ASN != theirs.ASN {
		if ours.PeerASN == 0 {
			ours.PeerASN = theirs.ASN
		}
		theirs.ASN = s.BGP.ASN
	}
	if s.has("peer-asn") {
		theirs.PeerASN = s.BGP.PeerASN
	}
	if s.has("bgp-address") {
		theirs.Address = s.BGP.Address
	}
	if s.has("bgp-peer") {
		theirs.Peer = s.BGP.Peer
	}
	if s.has("hold") {
		theirs.Hold = s.BGP.Hold
	}
	if s.has("max-prefixes") {
		theirs.MaxPrefixes = s.BGP.MaxPrefixes
	}
	return out
}
