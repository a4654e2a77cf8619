package core_test

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"runtime/debug"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/allocation"
	"dravin/core/command"
	"dravin/core/cost"
	"dravin/core/defaults"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/finding"
	"dravin/core/handover"
	"dravin/core/ingest"
	"dravin/core/ledger"
	"dravin/core/lifecycle"
	"dravin/core/prefix"
	"dravin/core/sheet"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/demo"
)

// changedAnywhere sets a random field of a random object to something that the type
// may hold: nothing, what another object has there, another object's ID, less or more
// of a list. Most of that is refused; what is not must be endured.
func changedAnywhere(r *rand.Rand, d *design.Design) (design.Edit, bool) {
	all := d.All()
	o := all[r.IntN(len(all))]
	if r.IntN(15) == 0 {
		return design.Edit{Op: design.Remove, ID: o.ID}, true
	}
	body := reflect.New(reflect.TypeOf(o.Body).Elem())
	body.Elem().Set(reflect.ValueOf(o.Body).Elem())
	others := d.Of(o.Kind)
	other := reflect.ValueOf(others[r.IntN(len(others))].Body).Elem()
	if !changeValue(r, d, body.Elem(), other) {
		return design.Edit{}, false
	}
	next := o.With(body.Interface().(design.Body))
	if r.IntN(6) == 0 { // another one beside it
		next.ID, next.Name = design.IDFor(o.Kind, string(o.ID)+"again"), o.Name+" again"
	}
	next, err := next.Remap(nil) // through the door that every body comes by
	if err != nil {
		return design.Edit{}, false
	}
	return design.PutEdit(next), true
}

// changed is a design after the next random edit that it takes.
func changed(r *rand.Rand, d *design.Design) (*design.Design, design.Edit) {
	for {
		e, ok := changedAnywhere(r, d)
		if !ok {
			continue
		}
		if next, _, err := d.Apply([]design.Edit{e}); err == nil {
			return next, e
		}
	}
}

func changeValue(r *rand.Rand, d *design.Design, v, other reflect.Value) bool {
	if v.NumField() == 0 {
		return false
	}
	n := r.IntN(v.NumField())
	f := v.Field(n)
	if !f.CanSet() {
		return false
	}
	tag := v.Type().Field(n).Tag
	switch {
	case f.Kind() == reflect.Slice && f.Len() > 0 && r.IntN(3) > 0:
		list := reflect.MakeSlice(f.Type(), f.Len(), f.Len()+1)
		reflect.Copy(list, f)
		f.Set(list)
		at := r.IntN(f.Len())
		switch {
		case r.IntN(4) == 0:
			f.Set(reflect.AppendSlice(f.Slice(0, at), f.Slice(at+1, f.Len())))
		case f.Index(at).Kind() == reflect.Struct && f.Type().Elem().PkgPath() == v.Type().PkgPath():
			from := f.Index(r.IntN(f.Len()))
			return changeValue(r, d, f.Index(at), from)
		case r.IntN(3) == 0 && f.Len() < 6:
			f.Set(reflect.Append(f, f.Index(at)))
		default:
			f.Index(at).Set(f.Index(r.IntN(f.Len())))
		}
	case f.Kind() == reflect.Slice && f.Len() == 0 && r.IntN(2) == 0:
		one := reflect.New(f.Type().Elem()).Elem()
		anyValue(r, d, one, tag)
		f.Set(reflect.Append(f, one))
	case tag.Get("ref") != "" && f.Kind() == reflect.String && r.IntN(3) > 0:
		all := d.All()
		f.SetString(string(all[r.IntN(len(all))].ID))
	case f.Type() == reflect.TypeFor[netip.Prefix]() && r.IntN(2) == 0:
		f.Set(
			reflect.ValueOf(
				netip.MustParsePrefix(
					[]string{
						"0.0.0.0/0", "::/0", "10.214.0.0/22", "192.168.216.0/24", "10.208.0.0/12", "2001:db8:20::/64",
						"10.214.1.7/32",
					}[r.IntN(7)],
				),
			),
		)
	case f.Kind() == reflect.Bool:
		f.SetBool(!f.Bool())
	case f.CanUint() && r.IntN(2) == 0:
		f.SetUint(uint64(r.IntN(3)))
	case r.IntN(3) == 0:
		f.SetZero()
	default:
		f.Set(other.Field(n))
	}
	return true
}

// anyValue makes up a value that a field with such a tag may hold.
func anyValue(r *rand.Rand, d *design.Design, f reflect.Value, tag reflect.StructTag) {
	all := d.All()
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	switch enum := strings.Split(tag.Get("enum"), ","); {
	case f.Type() == reflect.TypeFor[netip.Prefix]():
		f.Set(
			reflect.ValueOf(
				netip.MustParsePrefix(
					pick(
						"0.0.0.0/0", "10.214.0.0/22", "192.168.216.0/24", "10.208.0.0/12", "2001:db8:20::/64",
						"10.214.1.7/32", "10.223.8.0/24",
					),
				),
			),
		)
	case f.Type() == reflect.TypeFor[netip.Addr]():
		f.Set(
			reflect.ValueOf(
				netip.MustParseAddr(
					pick(
						"10.214.1.7", "192.168.216.17", "198.51.100.10", "2001:db8:20::7", "169.254.140.1",
						"10.208.1.1",
					),
				),
			),
		)
	case f.Type() == reflect.TypeFor[design.Service]():
		f.Set(reflect.ValueOf(design.Service{Proto: pick("tcp", "udp"), Port: 502}))
	case f.Kind() == reflect.String && tag.Get("ref") != "":
		f.SetString(string(all[r.IntN(len(all))].ID))
	case f.Kind() == reflect.String && enum[0] != "":
		f.SetString(pick(enum...))
	case f.Kind() == reflect.String:
		f.SetString(pick("aes256-sha256-modp2048", "no-export", "64501:7"))
	case f.CanUint():
		f.SetUint(uint64(r.IntN(64)))
	case f.Kind() == reflect.Struct:
		for n := range f.NumField() {
			if f.Field(n).CanSet() && f.Field(n).Kind() != reflect.Slice && r.IntN(2) == 0 {
				anyValue(r, d, f.Field(n), f.Type().Field(n).Tag)
			}
		}
	}
}

// brokenIsDown holds findings against status: a joint that is called broken is down,
// and one that is up is not called so.
func brokenIsDown(s *snapshot.Solved, found []finding.Finding) {
	joints := []design.Kind{
		design.KindLink, design.KindTunnel, design.KindSession, design.KindCircuit, design.KindPeering,
		design.KindAttachment,
	}
	for _, f := range found {
		if f.Severity != finding.Broken || len(f.Subjects) == 0 {
			continue
		}
		if o := s.Design.Get(f.Subjects[0]); o != nil && slices.Contains(joints, o.Kind) &&
			s.Tables.Status.Of(o.ID).Up {
			panic("called broken, and up: " + f.Sentence)
		}
	}
}

// askEverything asks all that can be asked of a design, at both horizons.
func askEverything(r *rand.Rand, d *design.Design) {
	pick := func() *design.Object { all := d.All(); return all[r.IntN(len(all))] }
	for _, side := range []design.Side{design.Planned, design.Built} {
		s := snapshot.Of(d.On(side), status.Condition{})
		found := s.Findings.All()
		brokenIsDown(s, found)
		if len(found) > 0 {
			_, _ = s.Findings.Fixes(context.Background(), found[r.IntN(len(found))].Key)
		}
		t := s.Tables
		for _, p := range t.Points() {
			for _, x := range p.Routes {
				if r.IntN(40) == 0 {
					t.Spread(x.Prefix)
				}
			}
		}
		t.Known("10", 20)
		for _, party := range d.Inside("", handover.Parties...) {
			handover.Render(t, party.ID, nil)
		}
		for _, k := range []design.Kind{design.KindLAN, design.KindSubnet} {
			for _, o := range d.Of(k) {
				if ranges := d.Ranges(o.ID); r.IntN(4) == 0 && len(ranges) > 0 {
					walk.Identities(t, prefix.FirstHost(ranges[0]))
				}
			}
		}
		ledger.EntriesOf(t, "")
		ledger.Pools(t)
		ledger.UnneededOf(t)
		if viewers := d.Inside("", ledger.Viewers...); len(viewers) > 0 {
			v := viewers[r.IntN(len(viewers))]
			ledger.Zone(t, v.ID, "garden.example")
			ledger.ViewOf(t, v.ID)
		}
	}
	for o := range d.Joints() {
		draft.FactsOf(d, o.Object)
		sheet.JoinLines(d, o.Object)
		lifecycle.Steps(d, o.Object)
		lifecycle.Track(d, o.Object)
	}
	for _, o := range d.Of(design.KindTunnel) {
		sheet.Lines(d, o, [2]string{})
	}
	for _, o := range d.Of(design.KindSession) {
		sheet.SessionLines(d, o)
	}
	for range 3 {
		o := pick()
		defaults.New(d).Suggestions(o)
		d.Removal(o.ID)
		_, _ = draft.Like(context.Background(), allocation.NewBooks(d), o.ID, []string{"another"})
		_, _ = command.Understand(context.Background(), d, "remove "+o.Name, "")
		_, _ = draft.Shapes(allocation.NewBooks(d), draft.Options{A: o.ID, B: pick().ID})
	}
	command.Sayings(d)
	ingest.Export(d)
	for _, p := range d.Of(design.KindProfile) {
		cost.Compare(d.Profile(p.Name), cost.Assumptions{})
	}
}

// acceptedIsEndured changes a design at random and asks everything of what is accepted.
func acceptedIsEndured(t *testing.T, file []byte, seed uint64, changes int) {
	d, err := design.Read(file)
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(seed, 1))
	var done []design.Edit
	defer func() {
		if x := recover(); x != nil {
			for _, e := range done[max(0, len(done)-3):] {
				t.Logf("%s %s %+v", e.Op, e.ID, e.Object)
				if e.Object != nil {
					t.Logf("%+v", e.Object.Body)
				}
			}
			t.Logf("%s", debug.Stack())
			panic(x)
		}
	}()
	for n := 1; n <= changes; n++ {
		next, e := changed(r, d)
		d, done = next, append(done, e)
		if n%4 == 0 || n == changes {
			askEverything(r, d)
		}
	}
	written, err := d.Write()
	require.NoError(t, err)
	again, err := design.Read(written)
	require.NoError(t, err, "what is accepted can be written and read")
	twice, err := again.Write()
	require.NoError(t, err)
	assert.Equal(t, string(written), string(twice))
}

// A design that is accepted can be solved, found, rendered, drafted from, said, copied
// and shown.
func TestWhatIsAcceptedIsEndured(t *testing.T) {
	for seed := range uint64(3) {
		acceptedIsEndured(t, demo.TwoGardens, seed, 40)
	}
	for seed := range uint64(3) { // more of them are make fuzz's
		acceptedIsEndured(t, demo.Thistledown, seed, 8)
	}
}

func FuzzWhatIsAcceptedIsEndured(f *testing.F) {
	f.Add(uint64(1), true)
	f.Fuzz(func(t *testing.T, seed uint64, whole bool) {
		file := demo.TwoGardens
		if whole {
			file = demo.Thistledown
		}
		acceptedIsEndured(t, slices.Clone(file), seed, 24)
	})
}
