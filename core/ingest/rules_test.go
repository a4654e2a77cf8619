package ingest_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravin/core/design"
	"dravin/core/ingest"
	"dravin/core/passes"
)

func TestRulesAreReadAsPeopleHaveThem(t *testing.T) {
	d := design.New("none", nil)
	for name, x := range map[string]struct {
		text     string
		rules    []string
		problems []int
		byItself string
	}{
		"a ruleset": {text: `table inet garden {
	chain input {
		type filter hook input priority filter; policy drop;
		ct state established,related accept
		iifname "lo" accept
		ip saddr { 10.208.1.10, 10.214.0.0/22 } tcp dport { 22, 502 } counter packets 4 bytes 240 accept comment "controls"
		ip6 saddr 2001:db8:20::/64 tcp dport 8000-8100 accept
		icmp type echo-request accept
		tcp dport https drop
		iifname "eth1" accept
	}
	chain postrouting {
		type nat hook postrouting priority srcnat; policy accept;
		masquerade
	}
	chain output {
		type filter hook output priority filter; policy accept;
		meta l4proto udp udp dport 514 accept
	}
}`, rules: []string{
			"allows tcp/22, tcp/502 from 10.208.1.10, 10.214.0.0/22 to anywhere",
			"allows tcp/8000-8100 from 2001:db8:20::/64 to anywhere", "allows icmp/echo from anywhere to anywhere",
			"refuses tcp/443 from anywhere to anywhere", "out: allows udp/514 from anywhere to anywhere",
		}, problems: []int{10}, byItself: design.Refuse},
		"a table": {
			text: "Action;Protocol;Port;Source;Destination;Comment\n" +
				"allow;tcp;502;10.214.0.0 255.255.252.0;192.168.216.17;reads\n" +
				"deny;any;any;any;any;\nallow;tcp;502;the garden;any;\n",
			rules: []string{
				"allows tcp/502 from 10.214.0.0/22 to 192.168.216.17", "refuses everything from anywhere to anywhere",
			}, problems: []int{4},
		},
		"nothing": {text: "hello", problems: []int{1}},
	} {
		t.Run(name, func(t *testing.T) {
			got := ingest.ReadRules(x.text)
			var rules []string
			for _, r := range got.Rules {
				rules = append(rules, passes.RuleWords(d, r.Rule))
			}
			var at []int
			for _, p := range got.Problems {
				at = append(at, p.Line)
			}
			assert.Equal(t, x.rules, rules)
			assert.Equal(t, x.problems, at, "%v", got.Problems)
			assert.Equal(t, x.byItself, got.Default)
		})
	}
}

func FuzzReadRules(f *testing.F) {
	f.Add("chain a {\ntype filter hook input priority 0; policy drop;\nip saddr 10.208.0.0/16 tcp dport { 22, 80 " +
		"} accept")
	f.Add("protocol,port,source,destination\ntcp,502,10.208.0.0/16,any")
	f.Fuzz(func(t *testing.T, text string) {
		for _, r := range ingest.ReadRules(text).Rules {
			for _, s := range r.Rule.Services {
				if again, err := design.ParseTraffic(s.String()); err != nil || again != s {
					t.Fatalf("%v is written as %s", s, s)
				}
			}
		}
	})
}
