package translate_test

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/overlap"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/translate"
	"dravin/demo"
)

func remedies(t testing.TB, name string) *design.Design {
	file, err := demo.Remedies.ReadFile("remedies/" + name + ".yaml")
	require.NoError(t, err)
	d, err := design.Read(file)
	require.NoError(t, err)
	return d
}

func planned(t require.TestingT, p *proof.Proofs, q translate.Question) translate.Plan {
	plan, err := translate.For(context.Background(), p, q)
	require.NoError(t, err)
	return plan
}

func planFor(t testing.TB, d *design.Design) translate.Plan {
	p := proof.Of(route.Solve(d, status.Condition{}))
	for _, g := range overlap.Find(d) {
		if q := translate.OfGroup(g); len(q.Places) > 1 {
			return planned(t, p, q)
		}
	}
	t.Fatal("nothing collides")
	return translate.Plan{}
}

// Each story ends with the remedy that a practitioner would take, and it holds when
// it is applied; nothing that is shown as an answer breaks anything.
func TestTheFirstPlaceOfEachStory(t *testing.T) {
	for _, c := range []struct {
		story  string
		first  translate.Remedy
		mapped int
		also   []translate.Remedy // answers, too
	}{
		{"two-gardens-alike", translate.Map, 2, []translate.Remedy{translate.Publish, translate.Relay}},
		{"partner", translate.Publish, 0, nil},
		{"huts", translate.Map, 8, nil},
		{"hub-refusal", translate.KeepOut, 0, []translate.Remedy{translate.Endpoint}},
		{"tenants", translate.KeepOut, 0, []translate.Remedy{translate.Endpoint}},
		{"two-stages", translate.TwoStages, 1, nil},
		{"relay", translate.Relay, 0, nil},
		{"hub-alike", translate.Map, 2, []translate.Remedy{translate.Hide}},
		{"peers", translate.TwoStages, 0, nil},
		{"through-a-network", translate.Map, 2, []translate.Remedy{translate.TwoStages, translate.Hide}},
		{"kept-local", translate.KeepOut, 0, []translate.Remedy{translate.Map}},
	} {
		t.Run(c.story, func(t *testing.T) {
			d := remedies(t, c.story)
			plan := planFor(t, d)
			o := plan.Options[0]
			assert.Equal(t, c.first, o.Remedy, o.Title)
			assert.Empty(t, o.Refused)
			assert.NotEmpty(t, o.First)
			assert.Len(t, o.Maps, c.mapped)
			for _, o := range plan.Options {
				next, _, err := d.Apply(o.Edits)
				require.NoError(t, err, o.Title)
				results := proof.Intents(route.Solve(next, status.Condition{}))
				assert.Equal(t, o.Refused == "", proof.Holding(results) == len(results), o.Title)
				assert.Equal(t, o.Holding, proof.Holding(results), o.Title)
			}
			for _, r := range c.also {
				k := slices.IndexFunc(plan.Options, func(o translate.Option) bool { return o.Remedy == r })
				require.GreaterOrEqual(t, k, 0, r)
				assert.Empty(t, plan.Options[k].Refused, r)
			}
		})
	}
}

func TestWhyOneSideIsNotEnough(t *testing.T) {
	o := planFor(t, remedies(t, "two-gardens-alike")).Options[0]
	assert.Equal(t, []string{
		"Peatside Nursery must know Old Orangery glasshouse and holds Peatside Nursery glasshouse itself",
		"Old Orangery must know Peatside Nursery glasshouse and holds Old Orangery glasshouse itself"}, o.WhyMore)
}

// alike makes sites with few ranges, joined at random, and flows among them.
func alike(r *rand.Rand) *design.Design {
	var objects []*design.Object
	add := func(k design.Kind, parent design.ID, name string, b design.Body) design.ID {
		o := &design.Object{ID: design.IDFor(k, string(parent)+name), Kind: k, Parent: parent, Name: name, Body: b}
		objects = append(objects, o)
		return o.ID
	}
	ranges := []string{"192.168.216.0/24", "192.168.216.0/24", "192.168.211.0/24", "10.214.0.0/24"}
	var gateways, hosts []design.ID
	n := 3 + r.IntN(3)
	for k := range n {
		site := add(design.KindSite, "", fmt.Sprintf("site %d", k), &design.Site{})
		gateways = append(
			gateways,
			add(
				design.KindGateway, site, "gateway",
				&design.Gateway{Addresses: []netip.Addr{netip.AddrFrom4([4]byte{203, 0, 113, byte(k + 1)})}},
			),
		)
		p := netip.MustParsePrefix(ranges[r.IntN(len(ranges))])
		lan := add(design.KindLAN, site, "lan", &design.LAN{Prefixes: []netip.Prefix{p}, Fixed: true})
		hosts = append(
			hosts,
			add(
				design.KindEndpoint, lan, fmt.Sprintf("host %d", k),
				&design.Endpoint{Addresses: []netip.Addr{p.Addr().Next().Next()}},
			),
		)
	}
	for k := 1; k < n; k++ { // a tree
		a, b := r.IntN(k), k
		in := netip.PrefixFrom(netip.AddrFrom4([4]byte{169, 254, 140, byte(4 * k)}), 30)
		l := add(
			design.KindLink, "", fmt.Sprintf("link %d", k),
			&design.Link{
				Routing: design.RoutingStatic, Ends: []design.End{{Gateway: gateways[a]}, {Gateway: gateways[b]}},
			},
		)
		add(
			design.KindTunnel,
			l,
			"tunnel 1",
			&design.Tunnel{
				Outside: []netip.Addr{
					netip.AddrFrom4([4]byte{203, 0, 113, byte(a + 1)}),
					netip.AddrFrom4([4]byte{203, 0, 113, byte(b + 1)}),
				},
				Inside: []netip.Prefix{
					netip.PrefixFrom(in.Addr().Next(), 30),
					netip.PrefixFrom(in.Addr().Next().Next(), 30),
				},
			},
		)
	}
	for k := range 1 + r.IntN(4) {
		a, b := r.IntN(n), r.IntN(n)
		if a != b {
			add(
				design.KindIntent, "", fmt.Sprintf("intent %d", k),
				&design.Intent{From: hosts[a], To: hosts[b], Service: design.Service{Proto: "tcp", Port: 443}},
			)
		}
	}
	var edits []design.Edit
	for _, o := range objects {
		edits = append(edits, design.PutEdit(o))
	}
	d, _, err := design.New("alike", nil).Apply(edits)
	if err != nil {
		panic(err)
	}
	return d.WithBuilt(d) // its collisions are there today
}

// The plan never maps more parties than the smallest choice that a search of all
// choices finds.
func TestNoSmallerChoiceServes(t *testing.T) {
	searched := 0
	for seed := uint64(0); searched < 200; seed++ {
		d := alike(rand.New(rand.NewPCG(seed, 7)))
		p := proof.Of(route.Solve(d, status.Condition{}))
		for _, g := range overlap.Find(d) {
			q := translate.OfGroup(g)
			if len(q.Places) < 2 || g.Weight != overlap.Breaks {
				continue
			}
			plan := planned(t, p, q)
			if plan.Intents == 0 {
				continue
			}
			searched++
			least, _, err := translate.Search(t.Context(), p, q)
			require.NoError(t, err)
			found := 0
			for _, o := range plan.Options {
				if o.Remedy == translate.Map && o.Refused == "" {
					found = plan.Least.Mapped
				}
			}
			assert.Equal(t, least, found, "seed %d, %s: %+v", seed, g.Sentence, plan.Least)
			if least > 0 {
				assert.LessOrEqual(t, plan.Least.Bound, least, "seed %d: %v", seed, plan.Least.Why)
			}
		}
	}
}

// branches are n identical branches at one garden, toward shared services and each
// other.
func branches(tb testing.TB, n int) *design.Design {
	var objects []*design.Object
	add := func(k design.Kind, parent design.ID, name string, b design.Body) design.ID {
		o := &design.Object{ID: design.IDFor(k, string(parent)+name), Kind: k, Parent: parent, Name: name, Body: b}
		objects = append(objects, o)
		return o.ID
	}
	head := add(design.KindSite, "", "Marrow Hill", &design.Site{})
	main := add(
		design.KindGateway, head, "gateway",
		&design.Gateway{Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.10")}},
	)
	room := add(
		design.KindLAN, head, "data room",
		&design.LAN{Prefixes: []netip.Prefix{netip.MustParsePrefix("10.214.0.0/22")}},
	)
	recorder := add(
		design.KindEndpoint, room, "recorder",
		&design.Endpoint{Addresses: []netip.Addr{netip.MustParseAddr("10.214.0.15")}},
	)
	add(
		design.KindReservation, "", "mapped ranges",
		&design.Reservation{Prefix: netip.MustParsePrefix("10.220.0.0/14"), Use: design.UseMapping},
	)
	factory := netip.MustParsePrefix("192.168.211.0/24")
	var before design.ID
	for k := range n {
		public := netip.AddrFrom4([4]byte{203, 0, byte(113 + k/250), byte(k%250 + 1)})
		site := add(design.KindSite, "", fmt.Sprintf("hut %03d", k), &design.Site{})
		g := add(design.KindGateway, site, "gateway", &design.Gateway{Addresses: []netip.Addr{public}})
		lan := add(design.KindLAN, site, "hut", &design.LAN{Prefixes: []netip.Prefix{factory}, Fixed: true})
		sensor := add(
			design.KindEndpoint, lan, "sensor",
			&design.Endpoint{Addresses: []netip.Addr{netip.MustParseAddr("192.168.211.9")}},
		)
		in := netip.AddrFrom4([4]byte{169, 254, byte(128 + k/60), byte(4 * (k % 60))})
		l := add(
			design.KindLink, "", fmt.Sprintf("link %03d", k),
			&design.Link{Routing: design.RoutingStatic, Ends: []design.End{{Gateway: main}, {Gateway: g}}},
		)
		add(
			design.KindTunnel, l, "tunnel 1",
			&design.Tunnel{
				Outside: []netip.Addr{netip.MustParseAddr("198.51.100.10"), public},
				Inside:  []netip.Prefix{netip.PrefixFrom(in.Next(), 30), netip.PrefixFrom(in.Next().Next(), 30)},
			},
		)
		service := design.Service{Proto: "tcp", Port: 443}
		add(
			design.KindIntent, "", fmt.Sprintf("sensor %03d reports", k),
			&design.Intent{From: sensor, To: recorder, Service: service},
		)
		if before != "" {
			add(
				design.KindIntent, "", fmt.Sprintf("sensor %03d asks the one before", k),
				&design.Intent{From: sensor, To: before, Service: service},
			)
		}
		before = sensor
	}
	var edits []design.Edit
	for _, o := range objects {
		edits = append(edits, design.PutEdit(o))
	}
	d, _, err := design.New("branches", nil).Apply(edits)
	require.NoError(tb, err)
	return d
}

func TestManyAlikeInOnePlan(t *testing.T) {
	plan := planFor(t, branches(t, 40))
	o := plan.Options[0]
	require.Empty(t, o.Refused)
	assert.Equal(t, translate.Map, o.Remedy)
	assert.Len(t, o.Maps, 40, "each is called by another that is alike")
	assert.Equal(t, plan.Least.Bound, plan.Least.Mapped)
	pool := netip.MustParsePrefix("10.220.0.0/17")
	for _, m := range o.Maps {
		assert.True(t, pool.Contains(m.Mapped.Addr()), m.Mapped)
	}
}

// BenchmarkPlan500 plans and proves 500 identical branches toward shared services
// and each other.
func BenchmarkPlan500(b *testing.B) {
	d := branches(b, 500)
	for b.Loop() {
		plan := planFor(b, d)
		if o := plan.Options[0]; o.Refused != "" || len(o.Maps) != 500 {
			b.Fatal(o.Refused)
		}
	}
}

// Whatever is asked of the whole demo is answered: no question makes the planner stumble,
// and what it calls an answer is one when it is applied.
func TestEveryQuestionOfTheDemo(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	p := proof.Of(tables)
	groups := overlap.Find(d)
	var questions []translate.Question
	for _, g := range groups {
		questions = append(questions, translate.OfGroup(g))
	}
	var everybody []design.ID
	for _, o := range d.Inside("", design.KindSite, design.KindNetwork) {
		places := translate.Concerned(groups, nil, []design.ID{o.ID})
		questions = append(
			questions, translate.Question{Places: places},
			translate.Question{Places: places, Closed: []design.ID{o.ID}, NoBoxes: true},
			translate.Question{Places: places, Keep: []design.ID{o.ID}},
		)
		everybody = append(everybody, o.ID)
	}
	questions = append(
		questions,
		translate.Question{},
		translate.Question{Places: everybody},
		translate.Question{Places: []design.ID{"nobody"}, Intents: []design.ID{"none"}},
		translate.Question{Places: everybody, Pools: []netip.Prefix{netip.MustParsePrefix("10.223.9.0/30")}},
	)
	answers := 0
	for _, q := range questions {
		for _, o := range planned(t, p, q).Options {
			if o.Refused != "" {
				continue
			}
			answers++
			next, _, err := d.Apply(o.Edits)
			require.NoError(t, err, o.Title)
			for _, r := range proof.Intents(route.Solve(next, status.Condition{})) {
				assert.True(t, r.Holds || !p.Intent(r.Intent).Holds, "%s breaks %s", o.Title, r.Name)
			}
		}
	}
	assert.Greater(t, answers, 10)
}

// ending is a context that ends when it has been asked some times.
type ending struct {
	context.Context
	left int
}

func (e *ending) Err() error {
	if e.left--; e.left < 0 {
		return context.Canceled
	}
	return nil
}

// Wherever a plan is broken off, it says so and does nothing more; it never hands over a
// part as the whole.
func TestAPlanCanBeBrokenOff(t *testing.T) {
	d := remedies(t, "huts")
	p := proof.Of(route.Solve(d, status.Condition{}))
	q := translate.OfGroup(overlap.Find(d)[0])
	e := &ending{t.Context(), math.MaxInt}
	whole, err := translate.For(e, p, q)
	require.NoError(t, err)
	require.NotEmpty(t, whole.Options)
	questions := math.MaxInt - e.left
	require.Greater(t, questions, 100)
	for range 40 {
		after := rand.IntN(questions)
		e := &ending{t.Context(), after}
		plan, err := translate.For(e, p, q)
		require.ErrorIs(t, err, context.Canceled, after)
		assert.Empty(t, plan.Options)
		assert.Greater(t, e.left, -60, "after %d questions it goes on", after)
	}
}
