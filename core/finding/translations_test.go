package finding_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/demo"
)

// What goes wrong with translations is found by itself, once, and where a fix is
// offered it ends the finding.
func TestWhatGoesWrongWithTranslations(t *testing.T) {
	pool := netip.MustParsePrefix
	gateway := func(rules ...design.Rule) func(design.Body) design.Body {
		return func(b design.Body) design.Body {
			g := *b.(*design.Gateway)
			g.Translate = rules
			return &g
		}
	}
	for _, c := range []struct {
		code, path string
		kind       design.Kind
		change     func(design.Body) design.Body
		says       string
	}{
		{
			"translation-not-offered", "catalogue/cloud-gateway", design.KindGateway,
			gateway(design.Rule{Hook: design.Postrouting, Does: design.OwnAddress}), "translate nothing",
		},
		{
			"hides-link-traffic", "peatside-nursery/gateway", design.KindGateway,
			gateway(design.Rule{Hook: design.Postrouting, Does: design.OwnAddress}),
			"works only when the far side starts",
		},
		{
			"pool-too-small", "marrow-hill/gateway", design.KindGateway,
			gateway(
				design.Rule{
					Hook: design.Postrouting, Does: design.FromPool, Into: pool("10.223.9.1/32"),
					Source: []netip.Prefix{pool("10.214.0.0/22"), pool("10.214.8.0/22")},
				},
			),
			"1008 hosts at 64 ports each fill it",
		},
		{
			"pool-collides", "marrow-hill/gateway", design.KindGateway,
			gateway(
				design.Rule{
					Hook: design.Postrouting, Does: design.FromPool, Into: pool("10.208.7.1/32"),
					Source: []netip.Prefix{pool("192.168.216.0/24")},
				},
			),
			"which catalogue holds",
		},
		{
			"translation-unneeded", "marrow-hill/gateway", design.KindGateway,
			gateway(
				design.Rule{Hook: design.Postrouting, Does: design.Nothing},
				design.Rule{
					Hook: design.Postrouting, Does: design.OwnAddress,
					Destination: []netip.Prefix{pool("10.208.0.0/16")},
				},
			),
			"rule 2 gets nothing",
		},
		{"published-service-unanswered", "catalogue-search", design.KindListener, func(b design.Body) design.Body {
			l := *b.(*design.Listener)
			l.Port = 22
			return &l
		}, "does not answer that"},
	} {
		t.Run(c.code, func(t *testing.T) {
			d, err := design.Read(demo.Thistledown)
			require.NoError(t, err)
			find := func(d *design.Design) []finding.Finding {
				return slices.DeleteFunc(
					snapshot.Of(d, status.Condition{}).Findings.All(),
					func(f finding.Finding) bool { return f.Code != c.code },
				)
			}
			assert.Empty(t, find(d))
			o := d.Find(c.path, c.kind)[0]
			d, _, err = d.Apply([]design.Edit{design.PutEdit(o.With(c.change(o.Body)))})
			require.NoError(t, err)
			found := find(d)
			require.Len(t, found, 1)
			assert.Contains(t, found[0].Sentence, c.says)
			for _, m := range found[0].Fixes {
				after, _, err := d.Apply(m.Edits)
				require.NoError(t, err)
				assert.Empty(t, find(after), m.Title)
			}
		})
	}
}

// A mapping whose far end was never told works from one side only.
func TestAMappingThatNobodyWasToldOf(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	m := &design.Mapping{
		Gateway: d.Find("marrow-hill/gateway", design.KindGateway)[0].ID,
		Link:    d.Find("marrow-hill-to-catalogue", design.KindLink)[0].ID,
		Real:    netip.MustParsePrefix("192.168.216.0/24"),
		Mapped:  netip.MustParsePrefix("10.223.7.0/24"),
	}
	d, _, err = d.Apply(
		[]design.Edit{design.PutEdit(&design.Object{ID: "m", Kind: design.KindMapping, Name: "store", Body: m})},
	)
	require.NoError(t, err)
	assert.True(
		t,
		slices.ContainsFunc(
			snapshot.Of(d, status.Condition{}).Findings.All(),
			func(f finding.Finding) bool { return f.Code == "mapped-range-unknown" },
		),
	)
}
