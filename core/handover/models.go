package handover

import (
	"encoding/json"
	"fmt"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
)

// The open models, as JSON (RFC 7951): translation (RFC 8512) and IPsec with IKE (RFC 9061). What a model can not say
// is told in the file's About.

// tree is a container of a model.
type tree map[string]any

func modelFile(path, about string, t tree) File {
	text, _ := json.MarshalIndent(t, "", "  ") // of strings, numbers and lists: it does not fail
	return File{Path: path, About: about, Content: string(text) + "\n"}
}

// natModel is what a box translates, as one instance; false where it translates nothing.
func natModel(b *box.Box) (tree, []string, bool) {
	var entries, policies []tree
	var left []string
	for n, r := range b.Rules {
		switch {
		case r.Does == design.OneToOne && r.Hook == design.Postrouting && r.Neutral:
			policies = append(policies, tree{"id": n + 1, "nptv6-prefixes": []tree{{
				"internal-ipv6-prefix": r.Real.Masked().String(), "external-ipv6-prefix": r.Into.Masked().String(),
			}}})
		case r.Does == design.OneToOne && r.Hook == design.Postrouting:
			entries = append(entries, tree{
				"index": len(entries) + 1, "type": "static",
				"internal-src-address": r.Real.Masked().String(), "external-src-address": r.Into.Masked().String(),
			})
		case r.Does == design.OneToOne:
			// The same entry, the other way.
		case r.Does == design.ToTarget && r.Target.IsValid() && len(r.Services) > 0 && r.Dialled.IsValid():
			for _, s := range r.Services {
				entries = append(entries, targetEntry(len(entries)+1, r, s))
			}
		case (r.Does == design.FromPool || r.Does == design.OwnAddress) && allIPv4(r):
			policies = append(policies, hidingPolicy(n+1, r))
		default:
			left = append(left, fmt.Sprintf("rule %d (%s)", n+1, r.Does))
		}
	}
	if len(entries)+len(policies) == 0 {
		return nil, left, false
	}
	instance := tree{"id": 1, "name": b.Title, "enable": true}
	if len(policies) > 0 {
		instance["policy"] = policies
	}
	if len(entries) > 0 {
		instance["mapping-table"] = tree{"mapping-entry": entries}
	}
	return tree{"ietf-nat:nat": tree{"instances": tree{"instance": []tree{instance}}}}, left, true
}

func allIPv4(r box.Rule) bool {
	for _, p := range r.Source {
		if !p.Addr().Is4() {
			return false
		}
	}
	return !r.Into.IsValid() || r.Into.Addr().Is4()
}

// protocols by their numbers (IANA, assigned internet protocol numbers).
var protocolNumbers = map[string]int{"icmp": 1, "tcp": 6, "udp": 17}

func targetEntry(index int, r box.Rule, s design.Service) tree {
	port := r.Port
	if port == 0 {
		port = s.Port
	}
	return tree{
		"index": index, "type": "static", "transport-protocol": protocolNumbers[s.Proto],
		"external-dst-address": prefix.Alone(r.Dialled).String(), "internal-dst-address": prefix.Alone(r.Target).String(),
		"external-dst-port": tree{"start-port-number": s.Port}, "internal-dst-port": tree{"start-port-number": port},
	}
}

// hidingPolicy hides sources behind a pool, or behind the box's own address, which no model gives.
func hidingPolicy(id int, r box.Rule) tree {
	out := tree{"id": id}
	var matches []tree
	for _, p := range r.Source {
		matches = append(matches, tree{"match-id": len(matches) + 1, "subnet": p.Masked().String()})
	}
	if len(matches) > 0 {
		out["subscriber-match"] = matches
	}
	if r.Does == design.FromPool {
		out["external-ip-address-pool"] = []tree{{"pool-id": 1, "external-ip-pool": r.Into.Masked().String()}}
	}
	return out
}

// ipsecModel is what a gateway's tunnels are set to. Keys are not in it.
func ipsecModel(b *box.Box) (tree, bool) {
	var pads, conns []tree
	for _, l := range b.Links {
		for _, t := range l.Tunnels {
			name := connectionName(l, t)
			own, far := padEntry(name+"__local", t.Set.Identity), padEntry(name+"__remote", t.Set.PeerIdentity)
			if own == nil || far == nil || t.Set.Version == 1 || !negotiate.Known(t.Set.Peer) {
				continue // the model is of IKEv2, between two that know each other
			}
			pads = append(pads, own, far)
			conns = append(conns, connEntry(name, l, t))
		}
	}
	if len(conns) == 0 {
		return nil, false
	}
	return tree{"ietf-i2nsf-ike:ipsec-ike": tree{"pad": tree{"pad-entry": pads}, "conn-entry": conns}}, true
}

func padEntry(name, identity string) tree {
	id, err := negotiate.ParseIdentity(identity)
	if err != nil || identity == "" {
		return nil
	}
	out := tree{"name": name, "auth-protocol": "ikev2", "peer-authentication": tree{"auth-method": "pre-shared"}}
	switch text := id.String(); {
	case id.Type == negotiate.IDMail:
		out["rfc822-address-string"] = text
	case id.Type == negotiate.IDName:
		out["fqdn-string"] = text
	case id.Type == negotiate.IDAddress && strings.Contains(text, ":"):
		out["ipv6-address"] = text
	case id.Type == negotiate.IDAddress:
		out["ipv4-address"] = text
	default:
		return nil
	}
	return out
}

func connEntry(name string, l *box.Link, t box.Tunnel) tree {
	ike, ikeGroup := algorithms(negotiate.IKE, t.Set.IKE)
	esp, espGroup := algorithms(negotiate.ESP, t.Set.ESP)
	start := "add"
	if t.Starts {
		start = "start"
	}
	out := tree{
		"name": name, "autostartup": start, "version": "ikev2",
		"ike-sa-lifetime-soft": tree{"rekey-time": t.Set.IKELife},
		"ike-sa-encr-alg":      ike.encryption,
		"local":                tree{"local-pad-entry-name": name + "__local"},
		"remote":               tree{"remote-pad-entry-name": name + "__remote"},
		"child-sa-info":        tree{"child-sa-lifetime-soft": tree{"time": t.Set.ChildLife, "action": "replace"}},
	}
	if len(ike.integrity) > 0 {
		out["ike-sa-intr-alg"] = ike.integrity
	}
	if ikeGroup != 0 {
		out["dh-group"] = ikeGroup
	}
	if espGroup != 0 {
		out["child-sa-info"].(tree)["fs-groups"] = []uint16{espGroup}
	}
	if t.Set.Encapsulate || t.Set.NAT {
		out["encapsulation-type"] = tree{"espencap": "espinudp"}
	}
	var spd []tree
	for n, pair := range t.Pairs() {
		algorithms := tree{"encryption": esp.encryption}
		if len(esp.integrity) > 0 {
			algorithms["integrity"] = esp.integrity
		}
		spd = append(spd, tree{"name": childName(l, t, n), "ipsec-policy-config": tree{
			"traffic-selector": tree{"local-prefix": pair.Local.String(), "remote-prefix": pair.Remote.String()},
			"processing-info": tree{"action": "protect", "ipsec-sa-cfg": tree{
				"mode": "tunnel", "protocol-parameters": "esp", "esp-algorithms": algorithms,
				"tunnel": tree{"local": t.Set.Address.String(), "remote": t.Set.Peer.String()},
			}},
		}})
	}
	out["spd"] = tree{"spd-entry": spd}
	return out
}

// chosen are the algorithms of proposals, the preferred first, each once.
type chosen struct {
	encryption []tree
	integrity  []uint16
}

func algorithms(proto negotiate.Protocol, list []string) (out chosen, first uint16) {
	met, known := map[negotiate.Cipher]bool{}, map[uint16]bool{}
	all, _ := negotiate.ParseProposals(proto, list)
	for _, p := range all {
		n := p.Numbers()
		for _, c := range n.Encryption {
			if !met[c] {
				met[c] = true
				out.encryption = append(out.encryption, tree{
					"id": len(out.encryption) + 1, "algorithm-type": c.Number, "key-length": c.Bits,
				})
			}
		}
		for _, i := range n.Integrity {
			if !known[i] {
				known[i] = true
				out.integrity = append(out.integrity, i)
			}
		}
		if first == 0 && len(n.Groups) > 0 {
			first = n.Groups[0]
		}
	}
	return out, first
}

// models are the open models of a box.
func models(b *box.Box) (out []File) {
	at := folders.name(b.Name) + "/models/"
	if t, left, ok := natModel(b); ok {
		about := "what it translates, as the model of RFC 8512"
		if len(left) > 0 {
			about += "; which has no words for " + strings.Join(left, ", ")
		}
		out = append(out, modelFile(at+"nat.json", about, t))
	}
	if t, ok := ipsecModel(b); ok {
		out = append(out, modelFile(at+"ipsec.json", "its tunnels, as the model of RFC 9061: of several proposals it "+
			"takes all algorithms together and the first group", t))
	}
	return out
}
