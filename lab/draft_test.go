package lab_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/negotiate"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/demo"
)

// drafted is the demo estate with one shape of link drafted between two sites
// that are not joined.
func drafted(t *testing.T, key string) (d *design.Design, a, b *design.Object) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	a, b = d.Find("saltmarsh-station", design.KindSite)[0], d.Find("dunmoss-arboretum", design.KindSite)[0]
	shapes, err := draft.Shapes(allocation.NewBooks(d), draft.Options{A: a.ID, B: b.ID})
	require.NoError(t, err)
	i := slices.IndexFunc(shapes, func(s draft.Shape) bool { return s.Key == key && len(s.Out) == 0 })
	require.GreaterOrEqual(t, i, 0, key)
	return answered(t, d, shapes[i].Edits), a, b
}

// What is drafted between two sites, rendered and loaded as it is, comes up
// between two real daemons as the sheet says.
func TestDraftedTunnelComesUp(t *testing.T) {
	for _, shape := range []string{"vpn-selectors-", "vpn-static-", "vpn-bgp-"} {
		t.Run(shape, func(t *testing.T) { draftedComesUp(t, shape) })
	}
}

func draftedComesUp(t *testing.T, shape string) {
	l := needs(t, "swanctl", "/usr/lib/ipsec/charon")
	d, _, _ := drafted(t, shape)
	if shape == "vpn-bgp-" { // no routes are typed: what is learned decides
		o := d.Find("saltmarsh-station-to-dunmoss-arboretum", design.KindLink)[0]
		body := *o.Body.(*design.Link)
		body.Ends = []design.End{{Gateway: body.Ends[0].Gateway}, {Gateway: body.Ends[1].Gateway}}
		var err error
		d, _, err = d.Apply([]design.Edit{design.PutEdit(o.With(&body))})
		require.NoError(t, err)
	}
	tunnel := d.Find("saltmarsh-station-to-dunmoss-arboretum/tunnel-1", design.KindTunnel)[0]
	ends := settings.SettingsOf(d, tunnel, "")
	want := negotiate.Agree(ends[0], ends[1])
	require.True(t, want.Up, want.Why)

	near, far := node(t, l, "saltmarsh"), node(t, l, "dunmoss")
	require.NoError(t, l.Join(near, "wan", ends[0].Address.String()+"/32", far, "wan", ends[1].Address.String()+"/32"))
	require.NoError(
		t,
		near.Script(
			"ip route add default dev wan", "ip address add 10.215.0.1 dev lo", "ip address add 10.215.2.1 dev lo",
		),
	)
	require.NoError(t, far.Script("ip route add default dev wan", "ip address add 192.168.211.1 dev lo"))
	daemon(t, far, rendered(t, route.Solve(d, status.Condition{}), "dunmoss-arboretum"))
	swanctl := daemon(t, near, rendered(t, route.Solve(d, status.Condition{}), "saltmarsh-station"))
	children := len(want.Local) * len(want.Remote)
	var listed string
	require.Eventually(t, func() bool {
		var err error
		listed, err = swanctl("--list-sas --raw")
		return err == nil && strings.Count(listed, "state=INSTALLED") == children
	}, 2*time.Minute, 100*time.Millisecond, "all %d children come up by themselves", children)
	for _, sa := range strings.Split(listed, "list-sa event") {
		if strings.Contains(sa, "to-dunmoss-arboretum") { // the station has other links, which nobody answers here
			assert.Equal(t, want.IKE.String(), observe(sa).ike)
		}
	}
	for _, p := range append(want.Local, want.Remote...) {
		assert.Contains(t, listed, p.String())
	}
}
