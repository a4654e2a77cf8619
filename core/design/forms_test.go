package design

import (
	"net/netip"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/demo"
)

// Every text of every kind, at any depth, is refused with its field's name where
// it is not on one line, turns the reading direction, or has not its grammar.
func TestTextsAreRefusedAtTheDoor(t *testing.T) {
	refusedEverywhere := []string{"a\x00b", "a\x1bb", "a\u202eb", "a\x85b", strings.Repeat("a", maxFree+1), "\xff"}
	refusedOnLines := append(
		[]string{"a\nb", "a\tb", "a\rb", "a\u2028b", strings.Repeat("a", maxLine+1)}, refusedEverywhere...,
	)
	refusedByGrammar := append([]string{"a } b", `a"b`, "#", "a;b", "$(a)"}, refusedOnLines...)
	seen := 0
	var check func(v reflect.Value, root reflect.Value, tag reflect.StructTag, field string)
	check = func(v, root reflect.Value, tag reflect.StructTag, field string) {
		switch v.Kind() {
		case reflect.String:
			if v.Type() == reflect.TypeFor[Ref]() || tag.Get("enum") != "" {
				return
			}
			seen++
			bad := refusedOnLines
			switch tag.Get("form") {
			case "free":
				bad = refusedEverywhere
			case "":
			default:
				bad = refusedByGrammar
			}
			for _, text := range bad {
				v.SetString(text)
				var fields []string
				textProblems(root, func(field, why, want string) { fields = append(fields, field) })
				assert.Equal(t, []string{field}, fields, "%s of %s: %q", field, root.Type(), text)
			}
			v.SetString("")
		case reflect.Slice:
			if v.Type().Elem().Kind() == reflect.Uint8 {
				return
			}
			v.Set(reflect.MakeSlice(v.Type(), 2, 2))
			check(v.Index(1), root, tag, field+"[1]")
		case reflect.Pointer:
			v.Set(reflect.New(v.Type().Elem()))
			check(v.Elem(), root, tag, field)
		case reflect.Struct:
			if t := v.Type(); t == reflect.TypeFor[netip.Addr]() || t == reflect.TypeFor[netip.Prefix]() ||
				t == reflect.TypeFor[Service]() {
				return
			}
			for n := range v.NumField() {
				key, _ := keyOf(v.Type().Field(n))
				check(v.Field(n), root, v.Type().Field(n).Tag, join(field, key))
			}
		}
	}
	for _, body := range Bodies() {
		check(reflect.ValueOf(body).Elem(), reflect.ValueOf(body).Elem(), "", "")
	}
	assert.Greater(t, seen, 40)
}

// The same at the doors themselves: edits and files, with the place.
func TestDoorsNameWhatIsRefused(t *testing.T) {
	d, err := Read(demo.Thistledown)
	require.NoError(t, err)
	tunnel := d.Of(KindTunnel)[0]
	b := *tunnel.Body.(*Tunnel)
	b.Ends = []TunnelEnd{{}, {Identity: "x\"\n}\nplanted {", ESP: []string{"aes256-sha256", "aes256; evil"}}}
	_, _, err = d.Apply([]Edit{PutEdit(tunnel.With(&b))})
	require.ErrorContains(t, err, `ends[1].identity: "x\"\n}\nplanted {" holds a control character`)
	require.ErrorContains(t, err, `ends[1].esp[1]: "aes256; evil" ESP proposal`)

	o := *tunnel
	o.ID = ID(strings.Repeat("x", MaxID+1))
	_, _, err = d.Apply([]Edit{PutEdit(&o)})
	require.ErrorContains(t, err, "id: is too long")

	_, err = Read(
		[]byte(
			"dravin: 1\nsites:\n  - name: Yew Hut\n    note: fine\n    gateways:\n      - name: gateway\n        " +
				"addresses: 203.0.113.20\n        ike: [aes256-sha256-ecp256, \"aes1 {\"]\n",
		),
	)
	require.ErrorContains(t, err, "line 8, column 37: gateway yew-hut/gateway: ike[1]")
}
