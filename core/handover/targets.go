package handover

import (
	"fmt"
	"slices"
	"strings"

	"dravin/core/box"
	coded "dravin/core/words"
)

// Target is a format beside those that a party gets anyway: the same, for who runs something else.
type Target string

// The targets.
const (
	FRR      Target = "frr"      // the other BGP daemon
	Keyed    Target = "keyed"    // the IPsec daemon's older style
	Networkd Target = "networkd" // systemd-networkd in the place of the script
	Zones    Target = "zones"    // zone files
	Models   Target = "models"   // the open models
	Device   Target = "device"   // a sheet for a device that reads no file
)

// Targets are all, with what they mean.
var Targets = []coded.Coded[Target]{
	{Code: FRR, Title: "FRR", Doc: "the BGP sessions and filters for FRR, in the place of BIRD's"},
	{Code: Keyed, Title: "ipsec.conf", Doc: "the tunnels in the IPsec daemon's older style"},
	{Code: Networkd, Title: "systemd-networkd", Doc: "interfaces, addresses and routes for systemd-networkd"},
	{Code: Zones, Title: "zone files", Doc: "the zones that hosts ask for names in (RFC 1035)"},
	{Code: Models, Title: "open models", Doc: "translation and IPsec as JSON of RFC 8512 and RFC 9061"},
	{Code: Device, Title: "device sheet", Doc: "what a device that reads no open format must be set to, by role"},
}

// ParseTarget reads one.
func ParseTarget(text string) (Target, error) {
	var all []string
	for _, t := range Targets {
		if string(t.Code) == text {
			return t.Code, nil
		}
		all = append(all, string(t.Code))
	}
	return "", fmt.Errorf("%q is no target; give %s", text, strings.Join(all, ", "))
}

// As prints a party for other targets, with keys where a target has them. serial is that of zones: the second, since
// 1970, at which the design last changed, or any later one.
func As(p *box.Party, targets []Target, keys Keys, serial uint32) (out []File) {
	older := func(b *box.Box) []File { return keyed(b, keys) }
	for _, b := range p.Boxes {
		if !b.Linux {
			continue
		}
		for _, x := range []struct {
			target Target
			files  func(*box.Box) []File
		}{{FRR, frr}, {Keyed, older}, {Networkd, networkd}, {Models, models}, {Device, device}} {
			if slices.Contains(targets, x.target) {
				out = append(out, x.files(b)...)
			}
		}
	}
	if slices.Contains(targets, Zones) {
		out = append(out, zones(p, serial)...)
	}
	return out
}
