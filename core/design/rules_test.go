package design_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	. "dravin/core/design"
	"dravin/demo"
)

// Each case breaks one rule of the two gardens, by the API's way: an edit.
func TestRulesNameTheFieldAndWhatWouldBeRight(t *testing.T) {
	for name, c := range map[string]struct {
		path   string
		kind   Kind
		change func(Body) Body
		says   string
	}{
		"a LAN by another site's gateway": {"marrow-hill/data-room", KindLAN, func(b Body) Body {
			c := *b.(*LAN)
			c.Gateways = []Ref{thistledown(t).Find("peatside-nursery/gateway")[0].ID}
			return &c
		}, "gateways[0]: is another site's gateway; name a gateway of Marrow Hill"},
		"a table via another's gateway": {"catalogue/table-a", KindTable, func(b Body) Body {
			c := *b.(*Table)
			c.Routes = []Entry{{Prefix: c.Routes[0].Prefix, Via: thistledown(t).Find("marrow-hill/gateway")[0].ID}}
			return &c
		}, "routes[0].via: does not belong to this network"},
		"a link to itself": {"peatside-to-marrow-hill", KindLink, func(b Body) Body {
			c := *b.(*Link)
			c.Ends = []End{c.Ends[0], c.Ends[0]}
			return &c
		}, "ends[1].gateway: both ends are the same gateway"},
		"a link with one end": {"peatside-to-marrow-hill", KindLink, func(b Body) Body {
			c := *b.(*Link)
			c.Ends = c.Ends[:1]
			return &c
		}, "a link has two ends"},
		"selectors on a route-based link": {"peatside-to-marrow-hill", KindLink, func(b Body) Body {
			c := *b.(*Link)
			c.Routing = RoutingStatic
			return &c
		}, "a route-based link has no selectors of its own"},
		"routes on a policy-based link": {"marrow-hill-to-catalogue", KindLink, func(b Body) Body {
			c := *b.(*Link)
			c.Routing = RoutingSelectors
			return &c
		}, "a policy-based link has no routes"},
		"a tunnel at a stranger's address": {"peatside-to-marrow-hill/tunnel-1", KindTunnel, func(b Body) Body {
			c := *b.(*Tunnel)
			c.Outside = []netip.Addr{c.Outside[1], c.Outside[1]}
			return &c
		}, "outside[0]: 198.51.100.10 is not an address of peatside-nursery/gateway; it has 203.0.113.20"},
		"an intent to a link": {"logger-polls-the-controller", KindIntent, func(b Body) Body {
			c := *b.(*Intent)
			c.To = thistledown(t).Find("peatside-to-marrow-hill")[0].ID
			return &c
		}, "to: refers to a VPN link; a host or group or LAN"},
		"a note that is no text": {"marrow-hill", KindSite, func(Body) Body { return &Site{Note: "a\x00b"} },
			`note: "a\x00b" holds a control character`},
		"an intent to nobody": {"logger-polls-the-controller", KindIntent, func(b Body) Body {
			c := *b.(*Intent)
			c.To = "gone"
			return &c
		}, "to: refers to nothing"},
	} {
		t.Run(name, func(t *testing.T) {
			d := thistledown(t)
			o := d.Find(c.path, c.kind)[0]
			_, _, err := d.Apply([]Edit{PutEdit(o.With(c.change(o.Body)))})
			assert.ErrorContains(t, err, c.says)
		})
	}
}

func TestEditsThatMakeNoSense(t *testing.T) {
	d := thistledown(t)
	site := d.Find("marrow-hill", KindSite)[0]
	asNetwork := *site
	asNetwork.Kind, asNetwork.Body = KindNetwork, &Network{}
	misplaced := Object{ID: "x", Kind: KindLAN, Name: "x", Body: &LAN{}}
	for says, e := range map[string]Edit{
		"an object can not change its kind":      PutEdit(&asNetwork),
		"there is no such object":                {Op: Remove, ID: "gone"},
		"is neither a put of an object nor":      {Op: "graft", ID: site.ID, Object: site},
		"a lan can not stand here; it belongs":   PutEdit(&misplaced),
		"with the same id in both places":        {Op: Put, ID: "other", Object: site},
		"still uses gateway marrow-hill/gateway": {Op: Remove, ID: d.Find("marrow-hill/gateway")[0].ID},
	} {
		_, _, err := d.Apply([]Edit{e})
		assert.ErrorContains(t, err, says)
	}
	same, inverse, err := d.Apply([]Edit{PutEdit(site)})
	require.NoError(t, err)
	assert.Empty(t, inverse, "putting what is there changes nothing")
	assert.Equal(t, d.Len(), same.Len())
}

func TestNames(t *testing.T) {
	for name, ok := range map[string]bool{
		"Köhler's Wood": true, strings.Repeat("x", 80): true, strings.Repeat("x", 81): false, "": false, "...": false,
		"a\x07b": false, "苗圃": true,
	} {
		d := thistledown(t)
		site := *d.Find("marrow-hill", KindSite)[0]
		site.Name = name
		next, _, err := d.Apply([]Edit{PutEdit(&site)})
		assert.Equal(t, ok, err == nil, "%q: %v", name, err)
		if err == nil {
			again, err := Read([]byte(write(t, next)))
			require.NoError(t, err, name)
			assert.Equal(t, write(t, next), write(t, again))
		}
	}
	assert.Equal(t, "kohler-s-wood-2", Slug("  Kohler's -- Wood (2)!"))
	rapid.Check(t, func(rt *rapid.T) {
		text := rapid.OneOf(rapid.StringMatching(`[aB 1\-é!]{0,6}`), rapid.String())
		a, b := text.Draw(rt, "a"), text.Draw(rt, "b")
		require.Equal(rt, Slug(a) == Slug(b), Named(a, Slug(b)), "%q %q", a, b)
	})
}

func TestSiblingsComeInNaturalOrder(t *testing.T) {
	file := "dravin: 1\nsites:\n"
	for _, n := range []string{"hut 10", "Hut 9", "hut 1", "hut 09b", "annex"} {
		file += "  - name: " + n + "\n"
	}
	d, err := Read([]byte(file))
	require.NoError(t, err)
	var names []string
	for _, o := range d.Inside("") {
		names = append(names, o.Name)
	}
	assert.Equal(t, []string{"annex", "hut 1", "Hut 9", "hut 09b", "hut 10"}, names)
}

func TestRemapAndDifferences(t *testing.T) {
	d := thistledown(t)
	o := d.Find("logger-polls-the-controller", KindIntent)[0]
	in := o.Body.(*Intent)
	mapped, err := o.Remap(map[ID]ID{o.ID: "new", in.From: "source"})
	require.NoError(t, err)
	assert.Equal(t, ID("new"), mapped.ID)
	assert.Equal(t, Ref("source"), mapped.Body.(*Intent).From)
	assert.Equal(t, in.To, mapped.Body.(*Intent).To)
	assert.Equal(t, []string{"from"}, Differences(o, mapped))
	assert.False(t, Same(o, mapped))
	whole, err := Read(demo.Thistledown)
	require.NoError(t, err)
	for _, o := range whole.All() {
		copied, err := o.Remap(nil)
		require.NoError(t, err)
		assert.True(t, Same(o, copied), o.Name)
	}
}

// What was sent is not sent back, however long it is.
func TestProblemsAreShort(t *testing.T) {
	long := strings.Repeat("x", 300_000)
	for _, file := range []string{
		"dravin: " + long, "dravin: 1\n" + long + ": 1\n", "dravin: 1\nsites:\n  - name: a\n    " + long + ": b\n",
		"dravin: 1\nsites:\n  - name: a\n    lans:\n      - name: b\n        prefixes: " + long + "\n",
		"dravin: 1\nintents:\n  - {name: i, from: " + long + ", to: " + long + ", service: " + long + "}\n",
	} {
		_, err := Read([]byte(file))
		require.Error(t, err)
		assert.Less(t, len(err.Error()), 5000)
	}
	_, err := Read([]byte("dravin: 1\nname: Caf\xe9\n"))
	assert.ErrorContains(t, err, "line 2, column 10: the file is not in UTF-8")
}

// What a LAN gives out may be said from one address to another; it is kept as the prefixes of just these.
func TestSpansAreRanges(t *testing.T) {
	file := func(span string) []byte {
		return []byte(
			"dravin: 1\nname: x\nsites: [{name: Fern Lodge, lans: [{name: shed, prefixes: 10.214.0.0/22, gives_out: " + span +
				"}]}]\n",
		)
	}
	d, err := Read(file("[10.214.0.100 - 10.214.0.103, 10.214.1.0/24]"))
	require.NoError(t, err)
	lan := d.Of(KindLAN)[0].Body.(*LAN)
	assert.Equal(t, "[10.214.0.100/30 10.214.1.0/24]", fmt.Sprint(lan.GivesOut))
	for span, says := range map[string]string{
		"10.214.0.9-10.214.0.1": "not from one address to a later one", "10.215.0.1-10.215.0.2": "is not all in its ranges",
	} {
		_, err := Read(file(span))
		assert.ErrorContains(t, err, says)
	}
}
