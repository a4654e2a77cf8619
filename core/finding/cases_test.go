package finding_test

import (
	"context"
	"fmt"
	"path"
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

// wrongs are what goes wrong with networks that are joined, a small design for each, with the code in which its proof
// ends: that of a stopped flow, or of a finding where nothing is stopped yet.
var wrongs = map[string]string{
	// overlap
	"local-range-takes-it":          "on-link-elsewhere",
	"host-asks-its-own-lan":         "on-link-elsewhere",
	"reply-goes-astray":             "reply-on-link-elsewhere",
	"longer-route-beats-the-tunnel": "no-neighbour",
	"alike-at-one-hub":              "on-link-elsewhere",
	"hub-refuses-for-one-subnet":    "refused-for-overlap",
	"nobody-can-renumber":           "on-link-elsewhere",
	// translation
	"one-side-mapped":                 "reply-on-link-elsewhere",
	"nobody-told-of-the-mapped-range": "reply-no-route",
	"selectors-name-the-real-range":   "selector-miss",
	"pool-too-small":                  "pool-too-small",
	"hidden-callers-are-alike":        "callers-alike",
	"hidden-toward-everything":        "selector-miss",
	"one-rule-was-removed":            "no-route",
	"filter-names-old-range":          "selector-miss",
	// routes
	"peering-is-not-transitive": "not-transitive",
	"one-of-six-tables":         "reply-no-route",
	"same-asn-in-two-places":    "no-route",
	"ranges-fixed-at-creation":  "reply-no-route",
	"route-before-its-target":   "intent-not-today",
	"default-swallows":          "no-route",
	"more-routes-than-taken":    "session-down",
	// links
	"one-character-differs":     "link-down",
	"one-of-two-tunnels":        "single-tunnel",
	"half-a-peering":            "half-made",
	"circuit-of-another-zone":   "link-down",
	"attachment-skipped-a-zone": "zone-cut-off",
	"gateway-does-not-forward":  "does-not-forward",
	"strict-reverse-path":       "reverse-path",
	"encapsulation-ate-the-mtu": "mtu-too-large",
	// filters and people
	"ping-passes-and-the-port-does-not": "filter",
	"partner-reaches-more":              "leaking",
	"two-metered-things":                "metered-twice",
}

// TestWhatGoesWrong holds every case to its code, and one of the fixes that are offered to what it says: with it what
// was wrong is right, and what held holds.
func TestWhatGoesWrong(t *testing.T) {
	files, err := demo.Cases.ReadDir("cases")
	require.NoError(t, err)
	require.Len(t, files, len(wrongs), "a case has no code, or a code no case")
	for _, f := range files {
		name := f.Name()[:len(f.Name())-len(path.Ext(f.Name()))]
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			text, err := demo.Cases.ReadFile("cases/" + f.Name())
			require.NoError(t, err)
			d, err := design.Read(text)
			require.NoError(t, err)
			s := snapshot.Of(d, status.Condition{})
			found := ofCode(s, wrongs[name])
			require.NotEmpty(t, found, "no finding ends in %s", wrongs[name])
			var tried []string
			if edits, ok := byHand[name]; ok {
				require.Empty(t, mended(s, found[0], finding.Fix{Edits: edits(d)}))
				return
			}
			for _, x := range found {
				for _, fix := range fixesAround(t, s, x) {
					why := mended(s, x, fix)
					if why == "" {
						return
					}
					tried = append(tried, fix.Title+": "+why)
				}
			}
			assert.Fail(t, "no fix that is offered works", "%v", tried)
		})
	}
}

// byHand are the fixes of what somebody has to weigh: nobody is told to pay for another way.
var byHand = map[string]func(d *design.Design) []design.Edit{
	"two-metered-things": func(d *design.Design) []design.Edit {
		peering := &design.Object{ID: "direct", Kind: design.KindPeering, Name: "direct", Body: &design.Peering{
			Halves: []design.Half{
				{Network: d.Find("catalogue", design.KindNetwork)[0].ID, Made: true},
				{Network: d.Find("field notes", design.KindNetwork)[0].ID, Made: true},
			},
		}}
		edits := []design.Edit{design.PutEdit(peering)}
		for _, o := range d.Of(design.KindTable) {
			edits = append(
				edits, design.PutEdit(design.Edited(o, func(b *design.Table) { b.Routes[0].Via = peering.ID })),
			)
		}
		return edits
	},
}

// fixesAround are the fixes of a finding, and those of all that say what is wrong with the same things.
func fixesAround(t *testing.T, s *snapshot.Solved, x finding.Finding) (out []finding.Fix) {
	for _, f := range s.Findings.All() {
		if f.Key != x.Key &&
			!slices.ContainsFunc(f.Subjects, func(id design.ID) bool { return slices.Contains(x.Subjects, id) }) {
			continue
		}
		fixes, err := s.Findings.Fixes(context.Background(), f.Key)
		require.NoError(t, err)
		out = append(out, fixes...)
	}
	return out
}

// ofCode are the findings that end in a code: of a flow that is stopped so, of one that leaks, or of that name.
func ofCode(s *snapshot.Solved, code string) (out []finding.Finding) {
	for _, f := range s.Findings.All() {
		leaks := code == "leaking" && f.Code == "intent" && f.Stop == "" && s.Design.Get(
			f.Subjects[0],
		).Body.(*design.Intent).Never
		if string(f.Stop) == code || f.Code == code || leaks {
			out = append(out, f)
		}
	}
	return out
}

// mended says why a fix does not do what it should; empty if it does.
func mended(s *snapshot.Solved, x finding.Finding, fix finding.Fix) string {
	next, err := s.Try(fix.Edits)
	if err != nil {
		return err.Error()
	}
	for _, f := range next.Findings.All() {
		if f.Code == x.Code && slices.Equal(f.Subjects[:1], x.Subjects[:1]) && f.Sentence == x.Sentence {
			return "it is found again"
		}
	}
	for _, r := range s.Proofs.All() {
		if now := next.Proofs.Intent(r.Intent); !now.Holds && (r.Holds || r.Intent == x.Subjects[0]) {
			return fmt.Sprintf("%s does not hold: %v", r.Name, now.Stop())
		}
	}
	return ""
}
