package status_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/demo"
)

func trust(t *testing.T) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}

// change is an edit of one object of the demo.
type change struct {
	path string
	kind design.Kind
	do   func(design.Body) design.Body
}

func link(do func(*design.Link)) func(design.Body) design.Body {
	return func(b design.Body) design.Body { c := *b.(*design.Link); do(&c); return &c }
}

func tunnel(do func(*design.Tunnel)) func(design.Body) design.Body {
	return func(b design.Body) design.Body { c := *b.(*design.Tunnel); do(&c); return &c }
}

func circuit(do func(*design.Circuit)) func(design.Body) design.Body {
	return func(b design.Body) design.Body {
		c := *b.(*design.Circuit)
		c.Ends = append([]design.CircuitEnd{}, c.Ends...)
		do(&c)
		return &c
	}
}

func peering(do func(*design.Peering)) func(design.Body) design.Body {
	return func(b design.Body) design.Body {
		c := *b.(*design.Peering)
		c.Halves = append([]design.Half{}, c.Halves...)
		do(&c)
		return &c
	}
}

func attachment(do func(*design.Attachment)) func(design.Body) design.Body {
	return func(b design.Body) design.Body { c := *b.(*design.Attachment); do(&c); return &c }
}

func gateway(do func(*design.Gateway)) func(design.Body) design.Body {
	return func(b design.Body) design.Body { c := *b.(*design.Gateway); do(&c); return &c }
}

// Each thing is broken in one way: it is down with that first cause, at who is to
// blame, on the line of its sheet.
func TestTheFirstCause(t *testing.T) {
	const (
		hill, relay = "marrow-hill-to-catalogue", "marrow-hill-to-the-relay-at-rowan-hut"
		peered      = "field-exchange-with-specimen-loans"
		wire        = "saltmarsh-station-circuit"
	)
	for name, c := range map[string]struct {
		change
		asked     string // what is asked of; its kind
		of        design.Kind
		code      status.Cause
		line, why string
	}{
		"nothing": {change{hill, design.KindLink, link(func(*design.Link) {})}, hill, design.KindLink, "",
			"", ""},
		"a link that is gone": {change{hill, design.KindLink, link(func(l *design.Link) { l.State = design.Gone })},
			hill, design.KindLink, status.LinkDown, "", "Marrow Hill to catalogue is gone"},
		"a link that was refused": {change{hill, design.KindLink, link(func(l *design.Link) { l.State = design.Refused })},
			hill, design.KindLink, status.NotAccepted, "", "was refused"},
		"another far address": {change{relay + "/tunnel-1", design.KindTunnel, tunnel(func(x *design.Tunnel) {
			x.Ends = []design.TunnelEnd{{Peer: netip.MustParseAddr("203.0.113.99")}, {NAT: true}}
		})}, relay, design.KindLink, status.LinkDown, "address-2", "203.0.113.99"},
		"another version": {change{relay + "/tunnel-1", design.KindTunnel,
			tunnel(func(x *design.Tunnel) { x.Ends = []design.TunnelEnd{{Version: 1}, {NAT: true}} })}, relay, design.KindLink,
			status.LinkDown, "version", ""},
		"no common proposal": {change{relay + "/tunnel-1", design.KindTunnel, tunnel(func(x *design.Tunnel) {
			x.Ends = []design.TunnelEnd{
				{IKE: []string{"aes128-sha256-modp3072"}}, {NAT: true, IKE: []string{"aes256-sha256-modp2048"}},
			}
		})}, relay, design.KindLink, status.LinkDown, "ike", ""},
		"one tunnel of two": {change{hill + "/tunnel-1", design.KindTunnel,
			tunnel(func(x *design.Tunnel) { x.Ends = []design.TunnelEnd{{Version: 1}, {}} })}, hill, design.KindLink, "", "",
			""},
		"a box that does not forward": {change{"marrow-hill/gateway", design.KindGateway,
			gateway(func(g *design.Gateway) { g.Faults = []string{design.ForwardingOff} })}, "marrow-hill/gateway",
			design.KindGateway, status.DoesNotForward, "faults", ""},
		"half a peering": {change{peered, design.KindPeering,
			peering(func(p *design.Peering) { p.Halves[1].Made = false })}, peered, design.KindPeering, status.HalfMade, "half",
			"has not made its half"},
		"no half of a peering": {change{peered, design.KindPeering,
			peering(func(p *design.Peering) { p.Halves[0].Made, p.Halves[1].Made = false, false })}, peered, design.KindPeering,
			status.NotThereYet, "half", "neither half"},
		"a peering that overlaps": {change{"specimen-loans", design.KindNetwork, func(b design.Body) design.Body {
			c := *b.(*design.Network)
			c.Blocks = append([]netip.Prefix{netip.MustParsePrefix("10.210.0.0/15")}, c.Blocks...)
			return &c
		}}, peered, design.KindPeering, status.RefusedForOverlap, "", "a peering is refused where blocks overlap"},
		"another speed": {change{wire, design.KindCircuit, circuit(func(c *design.Circuit) { c.Ends[0].Mbps++ })},
			wire, design.KindCircuit, status.LinkDown, "speed", "Mbit/s at one end"},
		"another tag": {change{wire, design.KindCircuit, circuit(func(c *design.Circuit) { c.Ends[0].VLAN++ })},
			wire, design.KindCircuit, status.LinkDown, "vlan", "VLAN tag"},
		"another zone": {change{"herbarium-scans-circuit-1", design.KindCircuit,
			circuit(func(c *design.Circuit) { c.Ends[0].Zone = "tarn-north-b" })}, "herbarium-scans-circuit-1",
			design.KindCircuit, status.LinkDown, "zone", "in tarn-north-b at one end"},
		"a code of another zone": {change{"herbarium-scans-circuit-1", design.KindCircuit,
			circuit(func(c *design.Circuit) { c.CodeZone = "tarn-north-c" })}, "herbarium-scans-circuit-1", design.KindCircuit,
			status.LinkDown, "code", "the order code"},
		"a hub that is gone": {change{"tarn-hub", design.KindHub,
			func(b design.Body) design.Body { c := *b.(*design.Hub); c.State = design.Gone; return &c }},
			"tarn-hub/herbarium-scans", design.KindAttachment, status.DoesNotForward, "", "gone"},
		"an attachment that waits": {change{"tarn-hub/herbarium-scans", design.KindAttachment,
			attachment(func(a *design.Attachment) { a.State = design.Waiting })}, "tarn-hub/herbarium-scans",
			design.KindAttachment, status.NotAccepted, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			d := trust(t)
			o := d.Find(c.path, c.kind)[0]
			d, _, err := d.Apply([]design.Edit{design.PutEdit(o.With(c.do(o.Body)))})
			require.NoError(t, err)
			v := topology.Status(d, status.Condition{}).Of(d.Find(c.asked, c.of)[0].ID)
			assert.Equal(t, c.code == "", v.Up, v.Why)
			assert.Equal(t, c.code, v.Cause, v.Why)
			assert.Contains(t, v.Why, c.why)
			if c.line != "" {
				assert.Equal(t, c.line, v.Line)
			}
			if !v.Up {
				assert.NotEmpty(t, v.Fix(d))
				assert.NotNil(t, d.Get(v.Subject))
			}
		})
	}
}

// What is being built counts when built, and not today; what is taken away is down with
// all that is inside it and hangs on it, on either side.
func TestSidesAndWhatIsTakenAway(t *testing.T) {
	d := trust(t)
	id := func(path string, k design.Kind) design.ID { return d.Find(path, k)[0].ID }
	hill := id("marrow-hill-to-catalogue", design.KindLink)
	making := d.Get(hill).InState(design.Making)
	d, _, err := d.Apply([]design.Edit{{Side: design.Built, Op: design.Put, ID: hill, Object: making}})
	require.NoError(t, err)
	assert.True(t, topology.Status(d, status.Condition{}).Of(hill).Up)
	today := topology.Status(d.Built(), status.Condition{}).Of(hill)
	assert.Equal(t, status.NotThereYet, today.Cause)
	assert.Equal(t, hill, today.Subject)

	thing := func(text string) status.Thing {
		x, err := status.ParseThing(d, text)
		require.NoError(t, err)
		return x
	}
	for text, falls := range map[string][]design.ID{
		"marrow-hill-to-catalogue": {hill, id("marrow-hill-to-catalogue/tunnel-1", design.KindTunnel)},
		"198.51.100.10":            {hill, id("marrow-hill-to-the-relay-at-rowan-hut", design.KindLink)},
		"millrace": {id("saltmarsh-station-circuit", design.KindCircuit), id("herbarium-scans-circuit-1",
			design.KindCircuit)},
		"tarn-hub":             {id("tarn-hub/herbarium-scans", design.KindAttachment)},
		"catalogue/rented-box": {id("catalogue/rented-box", design.KindBox), id("catalogue-search", design.KindListener)},
	} {
		st := topology.Status(d, status.Condition{Without: []status.Thing{thing(text)}})
		for _, x := range falls {
			v := st.Of(x)
			assert.False(t, v.Up, "without %s: %s", text, d.Title(x))
			assert.NotEmpty(t, v.Why)
		}
		assert.True(
			t, st.Of(id("field-exchange-with-specimen-loans", design.KindPeering)).Up,
			"what has nothing to do with it stays",
		)
	}
	_, err = status.ParseThing(d, "nobody's")
	assert.Error(t, err)
}
