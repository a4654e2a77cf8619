package handover

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"dravin/core/design"
)

func TestNamesInFilesAreReadable(t *testing.T) {
	for _, c := range []struct {
		t    target
		path []string
		want string
	}{
		{sections, []string{"Marrow Hill to catalogue", "tunnel 1"}, "marrow-hill-to-catalogue__tunnel-1"},
		{sections, []string{"a-b", "c"}, "a-b__c"},
		{sections, []string{"a", "b-c"}, "a__b-c"},
		{protocols, []string{"3 huts", "tunnel 1", "session"}, "N3_huts__tunnel_1__session"},
		{protocols, []string{"Süd", "session"}, "sXFC_d__session"},
		{folders, []string{"Old Orangery"}, "old-orangery"},
	} {
		assert.Equal(t, c.want, c.t.name(c.path...))
	}
}

var taken = map[string]*regexp.Regexp{
	"sections":  regexp.MustCompile(`^[A-Za-z0-9_-]{1,120}$`),
	"protocols": regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,59}$`),
	"folders":   regexp.MustCompile(`^[A-Za-z0-9_-]{1,200}$`),
}

// Different paths have different names, valid for their target; equal slugs are
// the only names that siblings can not have.
func TestNamesInFilesAreInjective(t *testing.T) {
	part := rapid.OneOf(
		rapid.SampledFrom(
			[]string{
				"a", "b", "a-b", "b-c", "c", "a b c", "1", "1-2", "xe9", "é", "XE9", "-", "ß", "ss", "__", "a__b", "H1",
			},
		),
		rapid.StringN(1, 80, -1),
	)
	rapid.Check(t, func(t *rapid.T) {
		draw := func(label string) []string {
			return rapid.SliceOfN(part.Filter(func(s string) bool { return design.Slug(s) != "" }), 1, 3).Draw(t, label)
		}
		slugs := func(path []string) (out []string) {
			for _, p := range path {
				out = append(out, design.Slug(p))
			}
			return out
		}
		a, b := draw("a"), draw("b")
		for name, target := range map[string]target{"sections": sections, "protocols": protocols, "folders": folders} {
			assert.Regexp(t, taken[name], target.name(a...))
			if assert.ObjectsAreEqual(slugs(a), slugs(b)) {
				assert.Equal(t, target.name(a...), target.name(b...))
			} else {
				assert.NotEqual(t, target.name(a...), target.name(b...), "%q and %q", a, b)
			}
		}
	})
}
