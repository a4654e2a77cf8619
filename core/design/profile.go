package design

import (
	"errors"
	"fmt"
	"io/fs"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"

	"dravin/core/provider"
)

// ofProfile says of a profile what is otherwise said of a design file.
var ofProfile = strings.NewReplacer(
	`a design file begins with the line "dravin: 1"`, `a profile file begins with the line "dravin-profile: 1"`,
	"a design file", "a profile file", "one design", "one profile",
)

// ReadProfile reads a profile file. If anything is wrong it returns
// [Problems], each with line and column, and no profile.
func ReadProfile(file []byte) (name string, p *Profile, err error) {
	var problems Problems
	root, err := parseYAML(file)
	if errors.As(err, &problems) {
		for n := range problems {
			problems[n].Want = ofProfile.Replace(problems[n].Want)
		}
		return "", nil, problems
	}
	places := map[string]*node{}
	add := func(n *node, field, why, want string) {
		problems = append(
			problems, Problem{Subject: "profile", Field: field, Line: n.line, Column: n.column, Why: why, Want: want},
		)
	}
	if version := root.get("dravin-profile"); root.shape != mapping || version == nil {
		add(root, "dravin-profile", "is missing", `a profile file begins with the line "dravin-profile: 1"`)
		return "", nil, problems
	} else if version.text != strconv.Itoa(provider.FileVersion) {
		add(
			version, "dravin-profile", fmt.Sprintf("version %q can not be read", version.text),
			fmt.Sprintf("this Dravin reads version %d", provider.FileVersion),
		)
		return "", nil, problems
	}
	if n := root.get("name"); n == nil || n.shape != scalar || Slug(n.text) == "" {
		add(root, "name", "is missing", "name the cloud as networks name it")
	} else if why, want := badName(n.text); why != "" {
		add(n, "name", why, want)
	} else {
		name = n.text
	}
	p = &Profile{}
	d := decoder{problem: add, placed: func(field string, n *node) { places[field] = n },
		resolve: func(n *node, field, text string, _ []Kind) Ref { return "" }}
	d.mappingInto(root, "", reflect.ValueOf(p).Elem(), []string{"dravin-profile", "name"})
	if len(problems) == 0 {
		at := func(field, why, want string) {
			n := places[field]
			if n == nil {
				n = root
			}
			add(n, field, why, want)
		}
		textProblems(reflect.ValueOf(p).Elem(), at)
		p.contradictions(at)
	}
	if len(problems) > 0 {
		return "", nil, problems.sorted()
	}
	return name, p, nil
}

// WriteProfile gives a profile as a file that [ReadProfile] reads.
func WriteProfile(name string, p *Profile) ([]byte, error) {
	root := yaml.MapSlice{{Key: "dravin-profile", Value: provider.FileVersion}, {Key: "name", Value: name}}
	file, err := yaml.MarshalWithOptions(
		(&Design{}).writeStruct(root, reflect.ValueOf(p).Elem()), yaml.IndentSequence(true),
	)
	if err != nil {
		return nil, fmt.Errorf("writing the profile: %w", err)
	}
	return file, nil
}

// contradictions finds values of a profile that contradict each other.
func (p *Profile) contradictions(add func(field, why, want string)) {
	for n, v := range p.VPN {
		at := fmt.Sprintf("vpn[%d]", n)
		if v.Tunnels == 0 {
			add(at+".tunnels", "is 0", "a link needs a tunnel")
		}
		if v.Addresses == 0 {
			add(at+".addresses", "is 0", "a gateway needs an address")
		}
		if len(v.IKE) == 0 || len(v.ESP) == 0 {
			add(at, "has no proposals", "list ike and esp, strongest first")
		}
		if len(v.Inside.Within) > 0 && (v.Inside.Bits < 8 || v.Inside.Bits > 31) {
			add(at+".inside.bits", fmt.Sprintf("/%d is no range for two ends", v.Inside.Bits), "30 or 31 is usual")
		}
		for m, r := range v.Inside.Reserved {
			if !anyContains(v.Inside.Within, r) {
				add(
					fmt.Sprintf("%s.inside.reserved[%d]", at, m), r.String()+" is outside the inside space",
					"it comes from "+prefixWords(v.Inside.Within),
				)
			}
		}
		for m, w := range v.Inside.Within {
			if w.Bits() > int(v.Inside.Bits) {
				add(
					fmt.Sprintf("%s.inside.within[%d]", at, m), fmt.Sprintf("%s holds no /%d", w, v.Inside.Bits),
					"give a larger range or longer inside ranges",
				)
			}
		}
		if slices.Contains(v.Routing, RoutingBGP) && len(v.Inside.Within) == 0 {
			add(at+".inside", "is missing", "a session needs inside addresses to speak from")
		}
	}
	if p.Circuit != nil && !slices.IsSorted(p.Circuit.Speeds) {
		add("circuit.speeds", "are not in rising order", "list the slowest first")
	}
	for n, r := range p.Regions {
		if Slug(r.Name) == "" {
			add(fmt.Sprintf("regions[%d].name", n), "is empty", "name the region")
		}
	}
}

// NamedProfile is a profile with its name.
type NamedProfile struct {
	Name    string
	Profile *Profile
}

// ShippedProfiles are the profiles that come with Dravin, by name.
var ShippedProfiles = sync.OnceValue(func() []NamedProfile {
	files, err := fs.Glob(provider.Shipped, "*.yaml")
	if err != nil {
		panic(err) // the pattern is fixed
	}
	var out []NamedProfile
	for _, f := range files {
		text, err := provider.Shipped.ReadFile(f)
		if err != nil {
			panic(err) // it was listed a moment ago
		}
		name, p, err := ReadProfile(text)
		if err != nil {
			panic(fmt.Sprintf("%s: %v", f, err)) // a test reads them all
		}
		out = append(out, NamedProfile{name, p})
	}
	slices.SortFunc(out, func(a, b NamedProfile) int { return strings.Compare(a.Name, b.Name) })
	return out
})

// Profile returns what a cloud allows: the design's own profile of that name,
// or else the one that ships; nil if there is none.
func (d *Design) Profile(cloud string) *provider.Profile {
	want := Slug(cloud)
	if want == "" {
		return nil
	}
	for o, body := range Each[Profile](d.Of(KindProfile)) {
		if Slug(o.Name) == want {
			return (*provider.Profile)(body)
		}
	}
	for _, p := range ShippedProfiles() {
		if Slug(p.Name) == want {
			return (*provider.Profile)(p.Profile)
		}
	}
	return nil
}

// ProfileOf is the profile of the cloud that an object is in, nil for what is
// in none.
func (d *Design) ProfileOf(id ID) *provider.Profile {
	if p := d.Party(id); p != nil {
		return d.Profile(CloudOf(p))
	}
	return nil
}

// VPNOf is the kind of VPN gateway that a cloud gateway is, nil for a site's
// or where the profile is not known.
func (d *Design) VPNOf(gateway ID) *provider.VPN {
	o, p := d.Get(gateway), d.ProfileOf(gateway)
	if o == nil || p == nil || len(p.VPN) == 0 {
		return nil
	}
	want := o.Body.(*Gateway).VPN
	for n := range p.VPN {
		if want == "" || Slug(p.VPN[n].Name) == Slug(want) {
			return &p.VPN[n]
		}
	}
	return nil
}

// ProfileSchema is the JSON Schema (2020-12) of the profile file.
func ProfileSchema() ([]byte, error) {
	properties := map[string]any{
		"dravin-profile": map[string]any{
			"const": provider.FileVersion, "description": "The version of the profile file.",
		},
		"name": map[string]any{
			"type": "string", "maxLength": maxName, "description": "The cloud's name, as networks name it.",
		},
	}
	required := structSchema(reflect.TypeFor[Profile](), properties)
	return schemaText(map[string]any{
		"title": "Dravin provider profile", "type": "object", "additionalProperties": false,
		"properties": properties, "required": append([]string{"dravin-profile", "name"}, required...),
	})
}

// Profiles lists every profile that counts in a design: its own, and those
// shipped whose names it does not use.
func (d *Design) Profiles() []NamedProfile {
	var out []NamedProfile
	own := map[string]bool{}
	for o, body := range Each[Profile](d.Of(KindProfile)) {
		own[Slug(o.Name)] = true
		out = append(out, NamedProfile{o.Name, body})
	}
	for _, p := range ShippedProfiles() {
		if !own[Slug(p.Name)] {
			out = append(out, p)
		}
	}
	return out
}
