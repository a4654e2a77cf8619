package lifecycle

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/negotiate"
)

// Addressless reports whether a gateway is a cloud's that was not given its public addresses yet.
func Addressless(d *design.Design, gateway design.ID) bool {
	o := d.Get(gateway)
	if o == nil || o.Kind != design.KindGateway {
		return false
	}
	g := o.Body.(*design.Gateway)
	p := d.Party(gateway)
	return (p.Kind == design.KindNetwork || p.Kind == design.KindHub) && !slices.ContainsFunc(g.Addresses, negotiate.Known)
}

// Given are the edits of what is there by edits, and of the plan, once a step has brought what only its doing brings:
// the public addresses of a gateway, or the port of an end of a circuit, from 1.
func Given(
	d *design.Design, edits []design.Edit, of design.ID, need string, end int, value string,
) ([]design.Edit, error) {
	take, err := taking(need, end, strings.TrimSpace(value))
	if err != nil {
		return nil, err
	}
	out := slices.Clone(edits)
	there := d.Built().Get(of)
	k := slices.IndexFunc(out, func(e design.Edit) bool { return e.ID == of && e.Object != nil })
	switch {
	case k >= 0:
		out[k].Object = take(out[k].Object)
	case there != nil:
		out = append(out, design.Edit{Side: design.Built, Op: design.Put, ID: of, Object: take(there)})
	}
	if o := d.Get(of); o != nil {
		out = append(out, design.Edit{Side: design.Planned, Op: design.Put, ID: of, Object: take(o)})
	}
	return out, nil
}

func taking(need string, end int, value string) (func(*design.Object) *design.Object, error) {
	switch need {
	case NeedsAddress:
		addresses, err := addressesOf(value)
		return func(o *design.Object) *design.Object {
			return design.Edited(o, func(g *design.Gateway) { g.Addresses = addresses })
		}, err
	case NeedsPort:
		if value == "" {
			return nil, errors.New("say into which port it is plugged, such as enp3s0")
		}
		return func(o *design.Object) *design.Object {
			return design.Edited(o, func(c *design.Circuit) { c.Ends[end-1].Port = value })
		}, nil
	}
	return nil, fmt.Errorf("nothing is given with %q", need)
}

func addressesOf(text string) (out []netip.Addr, err error) {
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' || r == ';' }) {
		a, err := netip.ParseAddr(word)
		if err != nil || !negotiate.Known(a) {
			return nil, fmt.Errorf("%q is no address; give each as 203.0.113.10, with spaces between", word)
		}
		out = append(out, a)
	}
	if len(out) == 0 {
		return nil, errors.New("give the public addresses that the cloud shows, as 203.0.113.10")
	}
	return out, nil
}
