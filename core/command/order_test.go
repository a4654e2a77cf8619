package command_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/command"
	"dravin/core/design"
	"dravin/lab/estates"
)

// sayer makes up lines about what is there, as people say them.
type sayer struct{ r *rand.Rand }

func (s sayer) pick(list ...string) string { return list[s.r.IntN(len(list))] }

func (s sayer) thing(d *design.Design, kinds ...design.Kind) string {
	var all []string
	for _, k := range kinds {
		for _, o := range d.Of(k) {
			all = append(all, s.pick(d.Path(o.ID), strings.ReplaceAll(command.Word(k), " ", "-")+" "+d.Path(o.ID)))
		}
	}
	if len(all) == 0 {
		return "nothing"
	}
	return s.pick(all...)
}

func (s sayer) line(d *design.Design) string {
	n := s.r.IntN(90)
	range24 := fmt.Sprintf("10.215.%d.0/24", n)
	party := []design.Kind{design.KindSite, design.KindNetwork}
	switch s.r.IntN(18) {
	case 0:
		return fmt.Sprintf("site Lodge %d with lan offices %s, gateway 203.0.113.%d asn next", n%7, range24, 100+n)
	case 1:
		return fmt.Sprintf("give %s %s", s.thing(d, design.KindLAN), range24)
	case 2:
		return fmt.Sprintf("set %s note %q", s.thing(d, design.Kinds()...), s.pick("ring first", "old"))
	case 3:
		return fmt.Sprintf("add 203.0.113.%d to %s", 100+n, s.thing(d, design.KindGateway))
	case 4:
		return fmt.Sprintf("take %s from %s", range24, s.thing(d, design.KindLAN))
	case 5:
		return fmt.Sprintf(
			"join %s and %s by %s", s.thing(d, party...), s.thing(d, party...), s.pick("vpn", "circuit", "a hub"),
		)
	case 6:
		return fmt.Sprintf(
			"rename %s to %s %d", s.thing(d, design.KindLAN, design.KindGateway), s.pick("north", "south"), n,
		)
	case 7:
		return fmt.Sprintf("move %s into science", s.thing(d, design.KindLAN))
	case 8:
		return "remove " + s.thing(d, design.KindEndpoint, design.KindTunnel, design.KindLAN)
	case 9:
		return fmt.Sprintf("host meter %d in %s answers tcp/502", n%9, s.thing(d, design.KindLAN, design.KindSubnet))
	case 10:
		return fmt.Sprintf(
			"%s must reach %s on tcp/443", s.thing(
				d, design.KindLAN, design.KindEndpoint,
			), s.thing(d, design.KindSubnet),
		)
	case 11:
		return fmt.Sprintf("set %s learns %s", s.thing(d, design.KindTable), s.pick("yes", "no"))
	case 12:
		return fmt.Sprintf(
			"give %s routes {%s via %s}", s.thing(d, design.KindTable), range24, s.thing(d, design.KindGateway),
		)
	case 13:
		return fmt.Sprintf("set %s asn %d", s.thing(d, design.KindGateway), 4200000700+n)
	case 14:
		return fmt.Sprintf("copy %s as %s %d", s.thing(d, party...), s.pick("Ash", "Elm"), n%9)
	case 15:
		return fmt.Sprintf("set %s no %s", s.thing(d, design.KindEndpoint), s.pick("answers", "note"))
	case 16:
		return fmt.Sprintf("%s %s because it is ours", s.pick("accept", "refuse"), s.thing(d, design.KindRequest))
	}
	return fmt.Sprintf("publish %s on tcp/443 at %s", s.thing(d, design.KindEndpoint), s.thing(d, design.KindGateway))
}

// Lines said one by one and in one batch come to the same design: each sees what those before it have
// made.
// numbers are those of interfaces in a file: they are given in the order in which things are applied.
var numbers = regexp.MustCompile(`(?m)^ +number(: \d+|s:\n +- \d+\n +- \d+)\n`)

func TestLinesAtOnceAreAsOneByOne(t *testing.T) {
	said := 0
	for seed := range uint64(40) {
		d := thistledown(t)
		if seed%2 == 1 {
			d = estates.Make(seed, estates.Options{Joined: true, Segments: true, Intents: true})
		}
		s := sayer{rand.New(rand.NewPCG(seed, 1))}
		one, lines := d, []string(nil)
		for range 12 {
			line := s.line(one)
			u, err := command.Understand(context.Background(), one, line, "")
			require.NoError(t, err)
			if u.Wrong || u.Leads != nil {
				continue
			}
			next, _, err := one.Apply(u.Edits)
			require.NoError(t, err, line)
			one, lines, said = next, append(lines, line), said+1
		}
		u := understood(t, d, strings.Join(lines, "\n"))
		require.False(t, u.Wrong, "%s\n%+v", strings.Join(lines, "\n"), problemsOf(u))
		all, _, err := d.Apply(u.Edits)
		require.NoError(t, err)
		want, err := one.Write()
		require.NoError(t, err)
		got, err := all.Write()
		require.NoError(t, err)
		assert.Equal(
			t, numbers.ReplaceAllString(string(want), ""), numbers.ReplaceAllString(string(got), ""), "seed %d\n%s", seed,
			strings.Join(lines, "\n"),
		)
	}
	assert.Greater(t, said, 200)
}

func problemsOf(u command.Understood) (out []string) {
	for _, l := range u.Lines {
		for _, p := range l.Problems {
			out = append(out, l.Text+": "+p.Why)
		}
	}
	return out
}
