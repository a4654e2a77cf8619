package design_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dravin/core/design"
	"dravin/demo"
)

// What a box, a published service or a rule must be, told with the field and what would
// be right.
func TestBoxesListenersAndRulesNameWhatWouldBeRight(t *testing.T) {
	d, err := Read(demo.Thistledown)
	require.NoError(t, err)
	id := func(path string, kinds ...Kind) ID {
		found := d.Find(path, kinds...)
		require.Len(t, found, 1, path)
		return found[0].ID
	}
	box, search, hill := id("catalogue/rented-box"), id("catalogue/shelf-b/search"),
		id("marrow-hill/gateway", KindGateway)
	https := Service{Proto: "tcp", Port: 443}
	listener := func(change func(*Listener)) *Object {
		l := &Listener{At: box, Address: netip.MustParseAddr("10.208.9.21"), Service: https, Target: search}
		change(l)
		return &Object{ID: "l", Kind: KindListener, Name: "new one", Body: l}
	}
	ruled := func(r Rule) *Object {
		o := d.Get(hill)
		g := *o.Body.(*Gateway)
		g.Translate = []Rule{r}
		return o.With(&g)
	}
	pool, real := netip.MustParsePrefix("10.223.9.0/28"), netip.MustParsePrefix("10.214.0.0/22")
	for name, c := range map[string]struct {
		o    *Object
		says string // empty: it is fine
	}{
		"a listener":            {listener(func(*Listener) {}), ""},
		"in a range of its own": {listener(func(l *Listener) { l.Address = netip.MustParseAddr("10.223.9.9") }), ""},
		"no address": {listener(func(l *Listener) { l.Address = netip.Addr{} }), "address: is missing; give " +
			"the address that callers dial"},
		"no port": {listener(func(l *Listener) { l.Service = Service{Proto: "icmp"} }), "publish tcp or " +
			"udp, such as tcp/443"},
		"the box's host's": {listener(func(l *Listener) { l.Address = netip.MustParseAddr("10.208.2.20") }),
			"10.208.2.20 is the address of"},
		"another box's": {listener(func(l *Listener) {
			l.At, l.Address = hill,
				netip.MustParseAddr("10.214.0.254")
		}), "is the inner router's of"},
		"another listener's": {listener(func(l *Listener) { l.Address = netip.MustParseAddr("10.208.9.20") }),
			`10.208.9.20 is what "catalogue search" listens on`},
		"of its own, another": {listener(func(l *Listener) {
			l.Address,
				l.Service.Port = netip.MustParseAddr("10.208.9.20"), 444
		}), ""},
		"to itself": {listener(func(l *Listener) { l.Target = "l" }), "target: leads back to itself"},
		"another family": {listener(func(l *Listener) {
			l.Does, l.Address = Rewriting,
				netip.MustParseAddr("2001:db8:ff::1")
		}), "has no address of the family that is dialled"},
		"a cloud that rewrites": {listener(func(l *Listener) { l.At, l.Does = id("catalogue", KindNetwork), Rewriting }),
			"a cloud's own listener ends the connection; write proxying"},
		"a cloud, elsewhere": {listener(func(l *Listener) {
			l.At, l.Address = id("catalogue", KindNetwork),
				netip.MustParseAddr("10.223.9.9")
		}), "is in no subnet of catalogue"},
		"a box nowhere": {&Object{ID: "b", Kind: KindBox, Parent: id("catalogue", KindNetwork), Name: "box",
			Body: &Box{Addresses: []netip.Addr{netip.MustParseAddr("10.223.9.9")}}},
			"is in no LAN or subnet of catalogue; give an address in one of them"},
		"a box on a host": {&Object{ID: "b", Kind: KindBox, Parent: id("catalogue", KindNetwork), Name: "box",
			Body: &Box{Addresses: []netip.Addr{netip.MustParseAddr("10.208.2.20")}}}, "is the address of"},
		"a box that routes off": {&Object{ID: "b", Kind: KindBox, Parent: id("catalogue", KindNetwork), Name: "box",
			Body: &Box{Addresses: []netip.Addr{netip.MustParseAddr("10.208.9.30")}, Routes: []BoxRoute{{Prefix: pool,
				Via: netip.MustParseAddr("10.214.0.1")}}}}, "routes[0].via: 10.214.0.1 is in no LAN or subnet of catalogue"},
		"a source, arriving": {ruled(Rule{Hook: Prerouting, Does: FromPool, Into: pool}), "translate[0].hook: " +
			"sources are translated when a packet leaves; write leaving"},
		"a target, leaving": {ruled(Rule{Hook: Postrouting, Does: ToTarget, Target: pool.Addr()}),
			"destinations are translated when a packet arrives; write arriving"},
		"half a mapping": {ruled(Rule{Hook: Postrouting, Does: OneToOne, Real: real}), "real or into is missing; " +
			"give both ranges, of equal length"},
		"of unequal length": {ruled(Rule{Hook: Postrouting, Does: OneToOne, Real: real, Into: pool}),
			"one-to-one needs a /22"},
		"a pool of nothing": {ruled(Rule{Hook: Postrouting, Does: FromPool}), "into: is missing; give the pool's " +
			"addresses"},
		"toward, arriving": {ruled(Rule{Hook: Prerouting, Does: OneToOne, Real: real,
			Into: netip.MustParsePrefix("10.223.8.0/22"), Toward: id("marrow-hill-to-catalogue", KindLink)}),
			"is not known yet when a packet arrives"},
		"another's link": {ruled(Rule{Hook: Postrouting, Does: OwnAddress,
			Toward: id("saltmarsh-station-to-image-analysis", KindLink)}), "does not end at this gateway"},
		"a port of nothing": {ruled(Rule{Hook: Prerouting, Does: ToTarget, Target: netip.MustParseAddr("10.214.0.20"),
			Port: 80}), "changes the port of nothing that has one; name the services"},
		"too much said": {ruled(Rule{Hook: Postrouting, Does: OwnAddress, Into: pool}), "has a range or target " +
			"that own-address does not use"},
	} {
		t.Run(name, func(t *testing.T) {
			_, _, err := d.Apply([]Edit{PutEdit(c.o)})
			if c.says == "" {
				assert.NoError(t, err)
				return
			}
			assert.ErrorContains(t, err, c.says)
		})
	}
}

// Listeners in a row lead to one host; a ring is refused wherever it is closed.
func TestListenersLeadSomewhere(t *testing.T) {
	d, err := Read(demo.Thistledown)
	require.NoError(t, err)
	first := d.Find("rain-gauge-in-the-data-room", KindListener)[0]
	last := d.Find("rain-gauge-at-the-relay", KindListener)[0]
	to, port := d.DialOf(first.Body.(*Listener))
	assert.Equal(t, "169.254.140.18", to.String())
	assert.Equal(t, uint16(502), port)
	to, _ = d.DialOf(last.Body.(*Listener))
	assert.Equal(t, "192.168.211.40", to.String())
	ring := *last.Body.(*Listener)
	ring.Target = first.ID
	_, _, err = d.Apply([]Edit{PutEdit(last.With(&ring))})
	assert.ErrorContains(t, err, "leads back to itself")
	dialled := *first.Body.(*Listener)
	dialled.Dials = netip.MustParseAddr("10.223.9.9")
	to, _ = d.DialOf(&dialled)
	assert.Equal(t, "10.223.9.9", to.String(), "under the address that is said")
}
