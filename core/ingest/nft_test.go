package ingest_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/ingest"
	"dravin/core/passes"
)

// A ruleset is read however it is laid out, and what can not be said as one list of rules is told, never bent.
func TestRulesetsAreReadAsTheKernelHasThem(t *testing.T) {
	for name, c := range map[string]struct {
		text      string
		rules     []string
		hook, def string
		stateful  bool
		problems  []string
	}{
		"in one line": {
			"table inet filter { chain input { type filter hook input priority 0; policy drop; ct state vmap " +
				"{ established : accept, related : accept, invalid : drop }; tcp dport { 22, 80 } accept; } }",
			[]string{"allows tcp/22, tcp/80 from anywhere to anywhere"}, "input", design.Refuse, true, nil,
		},
		"as commands": {
			"nft add table inet f\nnft add chain inet f in '{ type filter hook input priority 0; policy drop; }'\n" +
				"nft add rule inet f in tcp dport 22 accept",
			[]string{"allows tcp/22 from anywhere to anywhere"}, "input", design.Refuse, false, nil,
		},
		"ports of both ends": {
			"table inet f { chain in { type filter hook input priority 0; policy drop; " +
				"tcp sport 1024-65535 tcp dport 5432 accept; } }",
			nil, "input", design.Refuse, false, []string{"not for both"},
		},
		"families that differ": {
			"table ip f { chain fw { type filter hook forward priority 0; policy accept; ip saddr 10.214.0.0/24 drop; } }\n" +
				"table ip6 f { chain fw { type filter hook forward priority 0; policy drop; tcp dport 22 accept; } }\n" +
				"table bridge f { chain fw { type filter hook forward priority 0; policy drop; tcp dport 9999 accept; } }",
			[]string{
				"refuses IPv4, everything from 10.214.0.0/24 to anywhere", "allows IPv6, tcp/22 from anywhere to anywhere",
				"allows IPv4, everything from anywhere to anywhere",
			}, "forward", design.Refuse, false, []string{"filters frames"},
		},
		"two chains at one hook": {
			"table ip f { chain a { type filter hook forward priority 0; policy accept; tcp dport 22 drop; } }\n" +
				"table ip g { chain b { type filter hook forward priority 10; policy drop; tcp dport 443 accept; } }",
			[]string{"refuses IPv4, tcp/22 from anywhere to anywhere"}, "forward", design.Allow, false,
			[]string{"must pass both"},
		},
		"a state that is new": {
			"table inet f { chain in { type filter hook input priority 0; policy drop; ct state vmap { new : accept }; } }",
			nil, "input", design.Refuse, false, []string{"no verdict on a state"},
		},
	} {
		got := ingest.ReadRules(c.text)
		var rules []string
		for _, r := range got.Rules {
			rules = append(rules, passes.RuleWords(design.New("", nil), r.Rule))
		}
		assert.Equal(t, c.rules, rules, name)
		assert.Equal(t, c.hook, got.Hook, name)
		assert.Equal(t, c.def, got.Default, name)
		assert.Equal(t, c.stateful, got.Stateful, name)
		require.Len(t, got.Problems, len(c.problems), "%s: %v", name, got.Problems)
		for n, why := range c.problems {
			assert.Contains(t, got.Problems[n].Why, why, name)
		}
	}
}
