package handover_test

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
	"dravin/lab/estates"
)

var hunk = regexp.MustCompile(`^@@ -(\d+)(?:,(\d+))? \+(\d+)(?:,(\d+))? @@$`)

// patched applies a unified diff as its format is defined: each hunk says where it begins, and what it takes out must
// be there.
func patched(before, diff string) (string, error) {
	old := strings.SplitAfter(before, "\n")
	if old[len(old)-1] == "" {
		old = old[:len(old)-1]
	}
	var out strings.Builder
	at := 0 // of the old lines
	for _, line := range strings.SplitAfter(diff, "\n") {
		m := hunk.FindStringSubmatch(strings.TrimSuffix(line, "\n"))
		switch {
		case strings.HasPrefix(line, "--- ") || strings.HasPrefix(line, "+++ ") || line == "":
		case m != nil:
			begin, _ := strconv.Atoi(m[1])
			if m[2] != "0" {
				begin--
			}
			for ; at < begin; at++ {
				out.WriteString(old[at])
			}
		case line[0] == '+':
			out.WriteString(line[1:])
		default:
			if at >= len(old) || old[at] != line[1:] {
				return "", fmt.Errorf("line %d is not %q", at+1, line[1:])
			}
			if line[0] == ' ' {
				out.WriteString(old[at])
			}
			at++
		}
	}
	for ; at < len(old); at++ {
		out.WriteString(old[at])
	}
	return out.String(), nil
}

// A diff makes of what was handed what there is now, whatever the two are; and says nothing where nothing is another.
func TestDiffsMakeTheNewOfTheOld(t *testing.T) {
	lines := rapid.SliceOfN(
		rapid.SampledFrom([]string{"range 10.214.0.0/22\n", "to 192.168.216.0/24\n", "\n", "mtu\n"}), 0, 40,
	)
	rapid.Check(t, func(rt *rapid.T) {
		was, is := strings.Join(lines.Draw(rt, "was"), ""), strings.Join(lines.Draw(rt, "is"), "")
		changes := handover.Diff([]handover.File{{Path: "a", Content: was}}, []handover.File{{Path: "a", Content: is}})
		if was == is {
			assert.Empty(rt, changes)
			return
		}
		require.Len(rt, changes, 1)
		assert.Equal(rt, "changed", changes[0].How)
		got, err := patched(was, changes[0].Diff)
		require.NoError(rt, err, changes[0].Diff)
		assert.Equal(rt, is, got, changes[0].Diff)
	})
}

// Of the files of two designs the diff tells those that are new, gone and others, each once and in order.
func TestDiffsOfDesigns(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	at := func(d *design.Design, party string) []handover.File {
		return handover.Render(route.Solve(d, status.Condition{}), d.Find(party, design.KindSite)[0].ID, nil)
	}
	before := at(d, "marrow-hill")
	assert.Empty(t, handover.Diff(before, before))
	for _, c := range handover.Diff(nil, before) {
		assert.Equal(t, "new", c.How)
	}
	var edits []design.Edit
	for _, l := range d.Of(design.KindLink) {
		if d.Path(l.ID) == "marrow-hill-to-catalogue" {
			edits = d.Removal(l.ID).Edits
		}
	}
	require.NotEmpty(t, edits)
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	now := at(next, "marrow-hill")
	changes := handover.Diff(before, now)
	require.NotEmpty(t, changes)
	assert.True(t, slices.IsSortedFunc(changes, func(a, b handover.Change) int { return strings.Compare(a.Path, b.Path) }))
	met := map[string]bool{}
	for _, c := range changes {
		assert.False(t, met[c.Path], c.Path)
		met[c.Path] = true
		var was, is string
		for _, f := range before {
			if f.Path == c.Path {
				was = f.Content
			}
		}
		for _, f := range now {
			if f.Path == c.Path {
				is = f.Content
			}
		}
		got, err := patched(was, c.Diff)
		require.NoError(t, err, c.Path)
		assert.Equal(t, is, got, c.Path)
	}
	for _, f := range now {
		assert.Equal(t, met[f.Path], !slices.Contains(before, f), "%s is told if it is another", f.Path)
	}
}

// A letter goes to whoever owns a party that is none of ours, holds no key, and says nothing of what its reader is not
// joined to.
func TestLettersSayNoMoreThanMustBeKnown(t *testing.T) {
	letters := 0
	for seed := range uint64(12) {
		d := estates.Make(seed, estates.Options{Joined: true})
		if seed == 0 {
			read, err := design.Read(demo.Thistledown)
			require.NoError(t, err)
			d = read
		}
		var edits []design.Edit
		for _, o := range d.Of(design.KindOwner) {
			edits = append(edits, design.PutEdit(design.Edited(o, func(b *design.Owner) { b.Outside = true })))
		}
		d, _, err := d.Apply(edits)
		require.NoError(t, err)
		tables := route.Solve(d, status.Condition{})
		keys := handover.Keys{}
		for _, x := range d.Of(design.KindTunnel) {
			keys[x.ID] = "thistle and moss"
		}
		for _, o := range d.Inside("", handover.Parties...) {
			p := box.PartyOf(tables, o.ID)
			for _, f := range handover.Files(p, keys) {
				if !strings.HasSuffix(f.Path, "-letter.txt") {
					continue
				}
				letters++
				assert.NotEmpty(t, p.Owner, f.Path)
				assert.False(t, f.Secret)
				assert.NotContains(t, f.Content, "thistle and moss")
				for _, l := range d.Of(design.KindLink) {
					ends := l.Body.(*design.Link).Ends
					ours := d.Party(ends[0].Gateway).ID == o.ID || d.Party(ends[1].Gateway).ID == o.ID
					if !ours {
						assert.NotContains(t, f.Content, l.Name, "%s is not joined by it", p.Name)
					}
				}
			}
		}
	}
	assert.Greater(t, letters, 20)
}

// A device sheet says of every tunnel of a box both ends' addresses and all proposals, and names no program or file.
func TestDeviceSheetsSayAll(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	tunnels := 0
	for _, o := range d.Inside("", handover.Parties...) {
		p := box.PartyOf(tables, o.ID)
		for _, f := range handover.As(p, []handover.Target{handover.Device}, nil, 1) {
			for _, word := range []string{"swanctl", "nft ", "bird", "charon", "/etc"} {
				assert.NotContains(t, f.Content, word, f.Path)
			}
			for _, b := range p.Boxes {
				if handover.Folder(b.Name)+"/device-sheet.txt" != f.Path {
					continue
				}
				for _, l := range b.Links {
					for _, x := range l.Tunnels {
						tunnels++
						part := f.Content[strings.Index(f.Content, l.Name+", "+x.Name+", to "+l.Far):]
						for _, proposal := range append(slices.Clone(x.Set.IKE), x.Set.ESP...) {
							assert.Contains(t, part, proposal)
						}
						if x.Set.Peer.IsValid() && !x.Set.Peer.IsUnspecified() {
							assert.Contains(t, part, x.Set.Peer.String())
						}
					}
				}
				for _, s := range b.Sessions {
					assert.Contains(t, f.Content, fmt.Sprintf("AS %d with %s AS %d", s.Set.ASN, s.Set.Peer, s.Set.PeerASN))
				}
			}
		}
	}
	assert.Greater(t, tunnels, 10)
}

// A zone's serial grows with each change, back to what was there before, too (RFC 1982).
func TestSerialsOnlyGrow(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	before, zones := map[string]int{}, 0
	for n := range uint32(3) {
		for _, o := range d.Inside("", handover.Parties...) {
			for _, f := range handover.As(
				box.PartyOf(tables, o.ID), []handover.Target{handover.Zones}, nil, 1_790_000_000+n,
			) {
				serial, err := strconv.Atoi(regexp.MustCompile(`SOA ns hostmaster \( (\d+) `).FindStringSubmatch(f.Content)[1])
				require.NoError(t, err)
				path := d.Path(o.ID) + "/" + f.Path
				assert.Greater(t, serial, before[path], path)
				before[path] = serial
				zones++
			}
		}
	}
	assert.Positive(t, zones)
}
