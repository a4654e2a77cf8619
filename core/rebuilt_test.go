package core_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/demo"
)

// carries is what a design does: every table, how all joints stand, and some walks.
func carries(tb testing.TB, t *route.Tables, flows []walk.Flow) map[string]string {
	out := map[string]string{}
	say := func(key string, v any) {
		text, err := json.Marshal(v)
		require.NoError(tb, err)
		out[key] = string(text)
	}
	for _, p := range t.Points() {
		say(fmt.Sprintf("table %s in %s", p.Title, p.Segment), []any{p.Routes, p.Selectors, p.Translations, p.Self})
	}
	for j := range t.Design.Joints() {
		say("status of "+j.Name, t.Status.Of(j.ID))
	}
	for n, f := range flows {
		p := walk.Prove(t, f)
		say(fmt.Sprintf("walk %d from %s to %s", n, f.From.Address, f.To), []any{p.Works, p.Forward, p.Reply, p.Stop})
	}
	return out
}

// flowsOf are random flows between places of a design.
func flowsOf(r *rand.Rand, d *design.Design, many int) []walk.Flow {
	var places []design.ID
	for _, k := range design.HostPlaces {
		for _, o := range d.Of(k) {
			places = append(places, o.ID)
		}
	}
	var out []walk.Flow
	for range many {
		from, to := places[r.IntN(len(places))], d.Ranges(places[r.IntN(len(places))])
		if len(to) == 0 {
			continue
		}
		dst := prefix.FirstHost(to[0])
		h, err := walk.HostOf(d, from, prefix.FamilyOf(dst))
		if err != nil {
			continue
		}
		for _, a := range []netip.Addr{dst, dst.Next()} {
			out = append(out, walk.Flow{From: h, To: a, Service: design.Service{Proto: "tcp", Port: 443}})
		}
	}
	return out
}

func heldAgainstInstructions(t *testing.T, file []byte, seed uint64, changes, every int) {
	d, err := design.Read(file)
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(seed, 2))
	for n := 1; n <= changes; n++ {
		before := d
		var e design.Edit
		d, e = changed(r, d)
		if n%every != 0 {
			continue
		}
		flows := flowsOf(r, d, 12)
		for _, side := range []design.Side{design.Planned, design.Built} {
			tables := route.Solve(d.On(side), status.Condition{})
			all := box.Told(tables)
			again, err := box.Rebuilt(d.On(side), all)
			require.NoError(t, err)
			flows := flowsIn(d.On(side), flows)
			want, got := carries(t, tables, flows),
				carries(t, route.Solve(again.WithBuilt(again).On(side), status.Condition{}), flows)
			for _, key := range slices.Sorted(maps.Keys(want)) {
				require.Equal(t, want[key], got[key], "seed %d, change %d, %s: %s", seed, n, side, key)
			}
			then := route.Solve(before.On(side), status.Condition{})
			if len(flowsIn(before.On(side), flows)) == len(flows) && !assert.ObjectsAreEqual(carries(t, then, flows), want) {
				require.NotEqual(
					t, box.Told(then), all, "seed %d, change %d, %s: %+v is in nobody's instructions", seed, n, side,
					e.Object,
				)
			}
		}
	}
}

// flowsIn are the flows whose source a design has.
func flowsIn(d *design.Design, flows []walk.Flow) (out []walk.Flow) {
	for _, f := range flows {
		if d.Get(f.From.Place) != nil && (f.From.Endpoint == "" || d.Get(f.From.Endpoint) != nil) {
			out = append(out, f)
		}
	}
	return out
}

// Instructions hold everything: a design that is rebuilt from those of all parties has the same
// tables and proves the same walks, and what changes one of these changes somebody's.
func TestInstructionsHoldEverything(t *testing.T) {
	seeds := uint64(6)
	if many, err := strconv.ParseUint(os.Getenv("DRAVIN_REBUILT"), 10, 64); err == nil {
		seeds = many
	}
	for seed := range seeds {
		heldAgainstInstructions(t, demo.Thistledown, seed, 24, 4)
		heldAgainstInstructions(t, demo.TwoGardens, seed, 30, 3)
	}
}

// fieldAt is the field that a key leads to.
func fieldAt(fields []design.Field, key []string) design.Field {
	f := fields[slices.IndexFunc(fields, func(f design.Field) bool { return f.Key == key[0] })]
	switch {
	case f.Type != design.TypeParts:
		return f
	case f.Many:
		return fieldAt(f.Parts, key[2:])
	}
	return fieldAt(f.Parts, key[1:])
}

// Whoever reads the sheet reads every value of the instructions: as it is, or what is called so.
func TestSheetsPrintEveryValue(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	for _, i := range box.Told(route.Solve(d, status.Condition{})) {
		text := i.Does + "\n" + strings.Join(i.Lines, "\n")
		for _, s := range i.Set {
			f := fieldAt(design.Outline(i.Kind), strings.Split(s.Key, "/"))
			if f.Type == design.TypeYesNo || len(f.Enum) > 0 || strings.HasSuffix(s.Key, "/gateway") ||
				strings.HasSuffix(s.Key, "/at") {
				continue // told in words
			}
			for _, v := range s.Values {
				if o := d.Find(v, f.Kinds...); f.Type == design.TypeReference && len(o) > 0 {
					if v = o[0].Name; o[0].Kind == design.KindAttachment {
						v = d.Get(o[0].Parent).Name
					}
				}
				if f.Type == design.TypeInside {
					v = netip.MustParsePrefix(v).Addr().String()
				}
				if v == i.Name || s.Key == "gateway" || s.Key == "at" || strings.HasSuffix(s.Key, "/network") {
					continue // where it is told
				}
				assert.Contains(t, text, v, "%s %s: %s", i.Kind, i.Object, s.Key)
			}
		}
	}
}

// holes are what a sentence has where something is missing that it should name.
var holes = []string{
	"()",
	"( ",
	" )",
	" ,",
	" ;",
	"  ",
	" .",
	"invalid",
	"unknown",
	"<nil>",
	"%!",
	": ,",
	"tag 0",
	"at ,",
	"port 0",
	" 0 Mbit",
	"\"\"",
}

// No sentence of any party's instructions, sheets or findings has a hole.
func TestNoSentenceHasAHole(t *testing.T) {
	for seed := range uint64(6) {
		d, err := design.Read(demo.Thistledown)
		require.NoError(t, err)
		r := rand.New(rand.NewPCG(seed, 3))
		for range 20 {
			d, _ = changed(r, d)
		}
		for _, text := range sentencesOf(d) {
			for _, hole := range holes {
				assert.NotContains(t, text, hole, "seed %d", seed)
			}
		}
	}
}

// sentencesOf are all texts about a design that people read.
func sentencesOf(d *design.Design) []string {
	var out []string
	s := snapshot.Of(d, status.Condition{})
	for _, f := range s.Findings.All() {
		out = append(append(out, f.Sentence), f.Evidence...)
		for _, m := range f.Fixes {
			out = append(out, m.Title)
		}
	}
	for _, o := range d.All() {
		out = append(out, s.Tables.Status.Of(o.ID).Why)
	}
	for _, f := range flowsOf(rand.New(rand.NewPCG(1, 4)), d, 20) {
		p := walk.Prove(s.Tables, f)
		for _, stage := range slices.Concat(p.Forward, p.Reply) {
			out = append(out, stage.Text)
		}
		if p.Stop != nil {
			out = append(out, p.Stop.Why, p.Stop.Fix)
		}
	}
	for _, i := range box.Told(s.Tables) {
		out = append(append(out, i.Does, i.Why, i.Check.Text), i.Lines...)
	}
	return out
}

// Every instruction has a check of a kind that is told of, under an ID of its own.
func TestEveryInstructionIsChecked(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	kind, _ := reflect.TypeFor[box.Check]().FieldByName("Kind")
	var codes []string
	met := map[box.CheckKind]bool{}
	for _, c := range box.Checks {
		codes = append(codes, string(c.Code))
	}
	assert.Equal(t, strings.Join(codes, ","), kind.Tag.Get("enum"))
	ids := map[string]bool{}
	for _, i := range box.Told(route.Solve(d, status.Condition{})) {
		assert.NotEmpty(t, i.Check.Text, i.Object)
		assert.False(t, ids[i.Check.ID], i.Object)
		ids[i.Check.ID], met[i.Check.Kind] = true, true
	}
	assert.Len(t, met, len(box.Checks))
}
