package command_test

import (
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dravin/core/command"
	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
	"dravin/lab/estates"
)

func thistledown(t testing.TB) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}

func understood(t require.TestingT, d *design.Design, text string) command.Understood {
	u, err := command.Understand(context.Background(), d, text, "")
	require.NoError(t, err)
	return u
}

// said is the design after lines, which must be understood.
func said(t *testing.T, d *design.Design, lines ...string) (*design.Design, command.Understood) {
	t.Helper()
	u := understood(t, d, strings.Join(lines, "\n"))
	for _, l := range u.Lines {
		require.Empty(t, l.Problems, l.Text)
	}
	next, _, err := d.Apply(u.Edits)
	require.NoError(t, err)
	return next, u
}

func asJSON(t testing.TB, v any) string {
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return string(text)
}

func TestWhatIsWrittenBackIsSaidAgain(t *testing.T) {
	d := thistledown(t)
	var all []design.Edit
	for _, o := range d.All() {
		all = append(all, design.PutEdit(o))
	}
	d, _, err := design.New(d.Name, nil).Apply(all) // with the numbers that it has for life
	require.NoError(t, err)
	made, _ := said(t, design.New(d.Name, nil), strings.Split(command.Sayings(d), "\n")...)
	file, err := d.Write()
	require.NoError(t, err)
	again, err := made.Write()
	require.NoError(t, err)
	assert.Equal(t, string(file), string(again))

	_, u := said(t, d, strings.Split(command.Sayings(d), "\n")...)
	assert.Empty(t, u.Edits, "what is so already is not changed")
}

// TestEveryBodyCanBeSaid fills bodies of every kind at random, says them, and
// expects the same bodies, whatever else the design would say of them.
func TestEveryBodyCanBeSaid(t *testing.T) {
	d := thistledown(t)
	profiled, _ := said(t, d, `profile Fen regions {name fen-north zones "fen 1" "fen 2"} networks {span-regions yes}`)
	rapid.Check(t, func(rt *rapid.T) {
		kind := rapid.SampledFrom(design.Kinds()).Draw(rt, "kind")
		o := randomObject(rt, profiled, kind)
		line := command.Saying(profiled, o)
		got := understoodAs(profiled, line, o)
		if got == nil {
			rt.Fatalf("%s\n%s", line, asJSON(t, understood(t, profiled, line).Lines))
		}
		if want := asJSON(t, o.Body); want != asJSON(t, got.Body) || o.Name != got.Name {
			rt.Fatalf("%s\nsaid  %s\nheard %s", line, want, asJSON(t, got.Body))
		}
	})
}

// understoodAs is what a line makes, were the design to take it.
func understoodAs(d *design.Design, line string, like *design.Object) *design.Object {
	for _, o := range command.Made(d, line) {
		if o.Kind == like.Kind && o.Parent == like.Parent {
			return o
		}
	}
	return nil
}

func randomObject(t *rapid.T, d *design.Design, kind design.Kind) *design.Object {
	body := design.Bodies()[kind]
	fillRandom(t, d, reflect.ValueOf(body).Elem(), design.Outline(kind))
	o := &design.Object{ID: "new", Kind: kind, Name: randomText(t, "name") + " x", Body: body}
	var parents []*design.Object
	for _, at := range d.All() {
		for _, k := range design.KindsInside(at.Kind) {
			if k == kind {
				parents = append(parents, at)
			}
		}
	}
	if len(parents) > 0 {
		o.Parent = rapid.SampledFrom(parents).Draw(t, "parent").ID
	}
	return o
}

func randomText(t *rapid.T, label string) string {
	return rapid.SampledFrom(
		[]string{
			"reed", "Fern Lodge", "in", "with note", `a "b" \ c`, "10.214.0.0/24", "/24", "next", "gateway and lan",
			"no", "Ümlaut, {x}", "tcp/443", "none",
		},
	).Draw(t, label)
}

// fillRandom gives every field a random value of its type.
func fillRandom(t *rapid.T, d *design.Design, v reflect.Value, fields []design.Field) {
	for n, f := range fields {
		if f.Optional && rapid.Bool().Draw(t, "left out") {
			continue
		}
		one := func(at reflect.Value) {
			if at.Kind() == reflect.Pointer {
				at.Set(reflect.New(at.Type().Elem()))
				at = at.Elem()
			}
			randomValue(t, d, at, f)
		}
		if !f.Many {
			one(v.Field(n))
			continue
		}
		least := max(f.Min, 1)
		most := max(least, 3)
		if f.Max > 0 {
			most = f.Max
		}
		list := reflect.MakeSlice(v.Field(n).Type(), rapid.IntRange(least, most).Draw(t, "many"), most)
		for i := range list.Len() {
			one(list.Index(i))
		}
		v.Field(n).Set(list)
	}
}

func randomValue(t *rapid.T, d *design.Design, at reflect.Value, f design.Field) {
	text := ""
	switch f.Type {
	case design.TypeParts:
		fillRandom(t, d, at, f.Parts)
		return
	case design.TypeYesNo:
		at.SetBool(true)
		return
	case design.TypeNumber:
		at.SetUint(uint64(rapid.Uint8().Draw(t, f.Key)))
		return
	case design.TypeReference:
		var to []string
		for _, o := range d.All() {
			for _, k := range f.Kinds {
				if o.Kind == k {
					to = append(to, string(o.ID))
				}
			}
		}
		if len(to) == 0 {
			return
		}
		text = rapid.SampledFrom(to).Draw(t, f.Key)
	case design.TypeAddress:
		text = rapid.SampledFrom([]string{"203.0.113.7", "2001:db8::7", "10.214.0.9"}).Draw(t, f.Key)
	case design.TypePrefix:
		text = rapid.SampledFrom([]string{"10.214.0.0/24", "2001:db8:7::/48", "192.168.208.0/20"}).Draw(t, f.Key)
	case design.TypeInside:
		text = "169.254.140.1/30"
	case design.TypeService:
		text = rapid.SampledFrom([]string{"tcp/443", "udp/514", "icmp"}).Draw(t, f.Key)
	case design.TypeTraffic:
		text = rapid.SampledFrom([]string{"tcp/443", "udp/5000-5100", "tcp", "icmp/too-big", "esp"}).Draw(t, f.Key)
	default:
		text = randomText(t, f.Key)
		if len(f.Enum) > 0 {
			text = rapid.SampledFrom(f.Enum).Draw(t, f.Key)
		}
	}
	if u, ok := at.Addr().Interface().(interface{ UnmarshalText([]byte) error }); ok {
		if u.UnmarshalText([]byte(text)) != nil {
			require.NoError(t, u.UnmarshalText([]byte("7"))) // money
		}
		return
	}
	at.SetString(text)
}

func TestAnEstateIsSaidAsOneTalks(t *testing.T) {
	d, u := said(
		t,
		design.New("Two gardens", nil),
		"segment grounds",
		"site Marrow Hill with lan data room 10.214.0.0/22 host controls desk, lan museum store 192.168.216.0/24, "+
			"gateway 198.51.100.10 asn 64501",
		"site Peatside Nursery with lan glasshouse 192.168.216.0/24 fixed, host controller 192.168.216.17 answers "+
			"tcp/502, gateway 203.0.113.20",
		"network catalogue in tarn 10.208.0.0/16, subnet shelf a /24, host logger answers tcp/6514",
		"give Peatside Nursery the next free /24 of 10.208.0.0/14",
		"join Marrow Hill and catalogue by vpn",
		"Marrow Hill data room must reach the logger on tcp/6514 still after any single failure",
		"move Peatside Nursery into grounds",
	)
	_ = u
	assert.Equal(t, "10.214.0.10", d.Find("controls-desk")[0].Body.(*design.Endpoint).Addresses[0].String())
	assert.Equal(t, "10.208.0.0/24", d.Ranges(d.Find("shelf-a")[0].ID)[0].String())
	assert.Equal(t, "main table", d.Find("main-table")[0].Name)
	lan := d.Find("peatside-nursery/lan")[0].Body.(*design.LAN)
	assert.Equal(t, "10.209.0.0/24", lan.Prefixes[0].String())
	assert.Equal(t, d.Find("grounds")[0].ID, lan.Segment)
	r := proof.Of(route.Solve(d, status.Condition{})).All()[0]
	assert.Equal(t, "Marrow Hill gateway", r.WithoutTitle, "%+v", r)
}

func TestSayings(t *testing.T) {
	for _, c := range []struct{ line, does string }{
		{"Alder Hut hut must never reach visitors", "New intent: Alder Hut hut never reaches visitors"},
		{"visitors must never reach science", "New intent: visitors never reaches science"},
		{
			"catalogue shelf b must reach controller on tcp/502 and tcp/443 in group controls for estates",
			"New intent: catalogue shelf b reaches Peatside Nursery controller on tcp/502",
		},
		{
			"logger must reach tide recorder",
			"New intent: catalogue logger reaches Saltmarsh Station tide recorder on tcp/443",
		},
		{"copy Alder Hut 3 times as Hut #", "Copy Alder Hut as Hut 1, Hut 2, Hut 3"},
		{"copy Dunmoss Arboretum as Fern Lodge, Reed Lodge", "Copy Dunmoss Arboretum as Fern Lodge, Reed Lodge"},
		{"remove Peatside Nursery", "Remove Peatside Nursery and 9 things with it"},
		{"rename Alder Hut to Ash Hut", "Rename Alder Hut to Ash Hut"},
		{"set Marrow Hill gateway asn next", "Change Marrow Hill gateway: asn"},
		{"set data room no gateways", "Change Marrow Hill data room: gateways"},
		{"move Alder Hut into science", "Move Alder Hut into science"},
		{
			"reserve /22 of 10.212.0.0/14 for new greenhouses use keep",
			"New reservation new greenhouses, 10.212.32.0/22",
		},
		{
			"join Marrow Hill with Alder Hut, Birch Hut by vpn",
			"Join Marrow Hill with Alder Hut, Birch Hut: VPN with BGP",
		},
		{
			"join Marrow Hill with *hut by vpn",
			"Join Marrow Hill with Alder Hut, Birch Hut, Cedar Hut, Elder Hut, 5 more: VPN with BGP",
		},
		{"join Marrow Hill with a*hut by vpn", "Join Marrow Hill with Alder Hut: VPN with BGP"},
		{"join Marrow Hill and sequencing", "Compare the ways to join Marrow Hill with sequencing"},
		{"hub grass hub in sedge", "New hub grass hub, Sedge"},
		{
			"lan tool shed in Alder Hut next free /26 of 10.214.0.0/16 segment grounds",
			"New lan tool shed in Alder Hut, 10.214.4.0/26",
		},
		{"subnet racks c in sequencing", "New subnet racks c in sequencing, 10.219.2.0/24"},
		{`site "gateway with care" note "one, two"`, "New site gateway with care"},
		{"give catalogue 10.210.0.0/16", "Change catalogue: blocks"},
	} {
		t.Run(c.line, func(t *testing.T) {
			_, u := said(t, thistledown(t), c.line)
			require.NotEmpty(t, u.Lines[0].Does)
			assert.Equal(t, c.does, u.Lines[0].Does[0].Text)
		})
	}
}

func TestTroublePointsAtTheWord(t *testing.T) {
	for _, c := range []struct{ line, at, why, want string }{
		{"site Fern with lan 10.214.1.7/24", "10.214.1.7/24", "has host bits set", "10.214.1.0/24"},
		{"site Fern with lan 10.300.0.0/24", "10.300.0.0/24", "is not a prefix", ""},
		{"site Fern with lan 10.214.64/20", "10.214.64/20", "is not a prefix", ""},
		{"set Marrow Hill gateway addresses 198.51.100.400", "198.51.100.400", "400", ""},
		{"move Alder Hut into marsh", "marsh", "no segment is called that", "science"},
		{"Alder Hut must reach logger on tcp/0", "tcp/0", "has no port from 1 to 65535", ""},
		{"gateway 203.0.113.9", "", "where the gateway is, is not said", "in"},
		{
			"remove glasshouse", "glasshouse", "2 things are called that",
			"old-orangery/glasshouse, peatside-nursery/glasshouse",
		},
		{"network fen", "fen", "its cloud is not said", "in Tarn"},
		{"site Fern wiht lan", "", "", ""},
		{"Alder Hut should reach logger", "should", "what of Alder Hut is not said", "must reach"},
		{`site "Fern`, `"Fern`, "the quotation has no end", ""},
		{"lan x in Alder Hut /40 of 10.214.0.0/16", "/40", "no /40 is free", ""},
		{"rename Alder Hut to Marrow Hill", "Alder Hut", "is taken by the site", "must differ"},
		{"set Marrow Hill gateway asn many", "many", "is not a whole number", ""},
		{"endpoint scale in catalogue shelf a 10.212.9.9", "scale", "10.212.9.9 is outside catalogue/shelf-a", ""},
		{"table spare in catalogue routes {10.208.0.0/16 over there}", "over", "is no part of routes", "prefix, via"},
		{"join Marrow Hill with herbarium scans by rope", "rope", "no way of joining them is called that", "vpn"},
	} {
		t.Run(c.line, func(t *testing.T) {
			u := understood(t, thistledown(t), c.line)
			if c.why == "" { // a name may be anything, and is shown as understood
				assert.False(t, u.Wrong)
				return
			}
			require.NotEmpty(t, u.Lines[0].Problems)
			p := u.Lines[0].Problems[0]
			assert.Contains(t, p.Why, c.why)
			assert.Contains(t, p.Want, c.want)
			if c.at != "" {
				assert.Equal(t, c.at, string([]rune(c.line)[p.From:p.To]), p.Why)
			}
			assert.Empty(t, u.Edits)
		})
	}
}

func TestNoMoreIsDraftedThanCanBe(t *testing.T) {
	u := understood(t, thistledown(t), strings.Repeat("copy Alder Hut 200 times as Hut #\n", 3))
	assert.True(t, u.Wrong)
	assert.Contains(t, u.Lines[2].Problems[0].Why, "600th link or copy")
	assert.Empty(t, u.Edits)
}

// Lines of one batch on one object: each is made from what those before it have left.
func TestLinesOfABatchKeepEachOthersChanges(t *testing.T) {
	d := thistledown(t)
	after := func(text string) *design.Design {
		u := understood(t, d, text)
		require.False(t, u.Wrong, "%+v", u.Lines)
		next, _, err := d.Apply(u.Edits)
		require.NoError(t, err)
		return next
	}
	lan := func(d *design.Design, path string) *design.LAN {
		return d.Find(path, design.KindLAN)[0].Body.(*design.LAN)
	}
	two := lan(
		after(
			"set Marrow Hill offices fixed\nset Marrow Hill offices note \"ring first\"\nmove Marrow Hill offices "+
				"into "+
				"science\ngive Marrow Hill offices 10.215.99.0/24",
		),
		"marrow-hill/offices",
	)
	assert.True(t, two.Fixed)
	assert.Equal(t, "ring first", two.Note)
	assert.Len(t, two.Prefixes, len(lan(d, "marrow-hill/offices").Prefixes)+1)
	assert.NotEqual(t, lan(d, "marrow-hill/offices").Segment, two.Segment)

	renamed := lan(after("rename Marrow Hill to Hill Top\nset Hill Top offices fixed"), "hill-top/offices")
	assert.True(t, renamed.Fixed)

	joined := "join plate store and Dunmoss Arboretum by vpn"
	tables := after(joined)
	more := after(joined + "\nset plate store main table learns no")
	for _, o := range tables.Of(design.KindTable) {
		assert.Equal(
			t, o.Body.(*design.Table).Routes, more.Get(o.ID).Body.(*design.Table).Routes, "what joining entered stays",
		)
	}

	// A list that is given more keeps what it has; one that is set tells what it loses.
	gateway := after("give Marrow Hill gateway addresses 198.51.100.99").Find(
		"marrow-hill/gateway", design.KindGateway,
	)[0].Body.(*design.Gateway)
	assert.Greater(t, len(gateway.Addresses), 1)
	given := after("give catalogue table a route 10.214.0.0/22 via catalogue cloud gateway publish published")
	entries := given.Get(d.Find("catalogue/table-a", design.KindTable)[0].ID).Body.(*design.Table).Routes
	assert.Len(t, entries, 3, "what more is said of an entry goes for the one that is there")
	assert.Equal(t, "published", entries[1].Publish)
	u := understood(t, d, "set logger addresses 10.208.1.99")
	require.False(t, u.Wrong)
	assert.Contains(t, strings.Join(u.Lines[0].Notes, " "), "no longer")
	u = understood(t, d, "set logger no answers answers tcp/443")
	require.False(t, u.Wrong, "%+v", u.Lines)
}

func TestCompletion(t *testing.T) {
	for _, c := range []struct{ line, offers string }{
		{"", "site"},
		{"si", "site"},
		{"site Fern ", "with"},
		{"site Fern with ga", "gateway"},
		{"lan x in Peat", "Peatside Nursery"},
		{"lan x in Peatside Nursery seg", "segment"},
		{"lan x in Peatside Nursery segment ", "grounds"},
		{"network x in ", "Osier"},
		{"network x in Osier o", "osier-west"},
		{"join Marrow Hill and Peat", "Peatside Nursery"},
		{"join Marrow Hill and herbarium scans by v", "vpn-static"},
		{"Marrow Hill mu", "must"},
		{"Marrow Hill must n", "never"},
		{"gateway x in Marrow Hill asn ", "next"},
		{"link x state being", "being-built"},
		{"remove glass", "Old Orangery glasshouse"},
	} {
		var texts []string
		for _, o := range command.Complete(thistledown(t), c.line, "") {
			texts = append(texts, o.Text)
		}
		found := false
		for _, text := range texts {
			found = found || text == c.offers || strings.HasPrefix(text, c.offers+"-")
		}
		assert.True(t, found, fmt.Sprintf("%q offers %v", c.line, texts))
	}
}

func FuzzUnderstand(f *testing.F) {
	designs := []*design.Design{thistledown(f), design.New("empty", nil)}
	for seed := range uint64(6) {
		designs = append(designs, estates.Make(seed, estates.Options{Joined: true, Segments: true, Intents: true}))
	}
	for _, l := range strings.Split(command.Sayings(designs[0]), "\n")[:40] {
		f.Add(l, uint8(0))
	}
	for n, text := range []string{
		"site Fern with lan /24, gateway 203.0.113.9\nFern lan must reach logger",
		"join Marrow Hill with *hut* by vpn\nremove it", "copy Alder Hut 3 times as Hut #", "remove 0",
		"take 10.1.0.0/16 from Fern lan\nadd tcp/443 to controller", "set controller no answers tcp/443",
		"publish controller on tcp/443 at gateway as 10.1.2.3 for 10.0.0.0/8", "accept it because yes",
		"serve tarn-north-a by catalogue\nbind catalogue to main\nfeed main with catalogue",
		"join Old Orangery and Peatside Nursery by vpn, translated",
		"network x in Tarn, subnet y 10.0.0.0/24, host z 10.0.0.9",
	} {
		f.Add(text, uint8(n))
	}
	f.Fuzz(func(t *testing.T, text string, which uint8) {
		d := designs[int(which)%len(designs)]
		u := understood(t, d, text)
		for _, l := range u.Lines {
			for _, p := range l.Problems {
				if p.From < 0 || p.To < p.From || p.To > len([]rune(l.Text)) {
					t.Fatalf("%q: %+v", l.Text, p)
				}
			}
		}
		if !u.Wrong && len(u.Edits) > 0 {
			if _, _, err := d.Apply(u.Edits); err != nil {
				t.Fatal(err)
			}
		}
		command.Complete(d, text, "")
	})
}
