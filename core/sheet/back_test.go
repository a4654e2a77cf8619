package sheet_test

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/negotiate"
	"dravin/core/route"
	"dravin/core/sheet"
	"dravin/core/status"
	"dravin/lab/estates"
)

// back are the tables of designs whose handed-over files are read back.
func back(t *testing.T) (out []*route.Tables) {
	out = append(out, route.Solve(outside(t, thistledown(t)), status.Condition{}))
	for seed := range uint64(24) {
		d := estates.Make(seed, estates.Options{Joined: true, Collisions: seed%2 == 0, Segments: seed%3 == 0})
		out = append(out, route.Solve(outside(t, d), status.Condition{}))
	}
	return out
}

// outside is a design of which all owners are others, so that each is written to.
func outside(t *testing.T, d *design.Design) *design.Design {
	var edits []design.Edit
	for _, o := range d.Of(design.KindOwner) {
		edits = append(edits, design.PutEdit(design.Edited(o, func(b *design.Owner) { b.Outside = true })))
	}
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	return next
}

// known is an address as a file has it: where it is not known yet there is a place to fill in, which gives none.
func known(a netip.Addr) netip.Addr {
	if negotiate.Known(a) {
		return a
	}
	return netip.Addr{}
}

// holdTunnel holds what was read of a tunnel against what its end is set to, and says which keys were given.
func holdTunnel(t *testing.T, got sheet.Sent, want negotiate.Settings, about string) {
	t.Helper()
	sorted := func(list []netip.Prefix) []netip.Prefix {
		return slices.SortedFunc(slices.Values(list), netip.Prefix.Compare)
	}
	for _, x := range []struct {
		key  string
		a, b any
	}{
		{"address", got.Settings.Address, known(want.Address)},
		{"peer", got.Settings.Peer, known(want.Peer)},
		{"identity", got.Settings.Identity, want.Identity},
		{"peer-identity", got.Settings.PeerIdentity, cmp.Or(want.PeerIdentity, "FILL-IN")},
		{"version", got.Settings.Version, want.Version},
		{"ike", got.Settings.IKE, want.IKE},
		{"esp", got.Settings.ESP, want.ESP},
		{"ike-life", got.Settings.IKELife, want.IKELife},
		{"child-life", got.Settings.ChildLife, want.ChildLife},
		{"dpd", got.Settings.DPD, want.DPD},
		{"local", sorted(got.Settings.Local), sorted(want.Local)},
		{"remote", sorted(got.Settings.Remote), sorted(want.Remote)},
	} {
		if slices.Contains(got.Given, x.key) {
			assert.Equal(t, x.b, x.a, "%s: %s", about, x.key)
		}
	}
}

// enough are what every file of a tunnel gives, whatever is not known yet.
var enough = []string{"version", "ike", "esp", "ike-life", "child-life", "dpd", "local", "remote"}

// What the daemon of one end is handed is what the reader makes of it when it comes back: as settings of the daemon,
// and as the list of a letter.
func TestWhatIsHandedReadsBackAsItIsSet(t *testing.T) {
	files, letters := 0, 0
	for _, tables := range back(t) {
		for _, o := range tables.Design.Inside("", handover.Parties...) {
			p := box.PartyOf(tables, o.ID)
			rendered := handover.Files(p, nil)
			for _, b := range p.Boxes {
				for _, l := range b.Links {
					for _, x := range l.Tunnels {
						about := fmt.Sprintf("%s, %s", l.Name, x.Name)
						if conf := content(rendered, handover.Folder(b.Name)+"/swanctl/conf.d/dravin.conf"); conf != "" {
							files++
							name, _ := handover.ConnectionName(l, x)
							got, err := sheet.ReadSent(conf, x.Set.Peer, x.Set.Address, name)
							require.NoError(t, err, conf)
							assert.Equal(t, name, got.Connection, conf)
							assert.Subset(t, got.Given, enough, conf)
							holdTunnel(t, got, x.Set, about)
						}
						if list := listOf(rendered, about); list != "" {
							letters++
							got, err := sheet.ReadSent(list, x.Set.Peer, x.Set.Address, "")
							require.NoError(t, err, list)
							assert.Subset(t, got.Given, enough, list)
							holdTunnel(t, got, x.Set, about+", by letter")
						}
					}
				}
			}
		}
	}
	assert.Greater(t, files, 20)
	assert.Greater(t, letters, 0)
}

func content(files []handover.File, path string) string {
	for _, f := range files {
		if f.Path == path {
			return f.Content
		}
	}
	return ""
}

// listOf is the list of a tunnel's parameters in a letter; empty if there is none.
func listOf(files []handover.File, about string) string {
	for _, f := range files {
		if _, rest, ok := strings.Cut(f.Content, about+", as your end is to have it:\n\n"); ok &&
			strings.HasSuffix(f.Path, "-letter.txt") {
			list, _, _ := strings.Cut(rest, "\n\n")
			return list
		}
	}
	return ""
}

// The sessions of both BGP daemons read back to what they are set to.
func TestSessionsReadBackAsTheyAreSet(t *testing.T) {
	read := map[handover.Target]int{}
	for _, tables := range back(t) {
		for _, o := range tables.Design.Inside("", handover.Parties...) {
			p := box.PartyOf(tables, o.ID)
			usual, other := handover.Files(p, nil), handover.As(p, []handover.Target{handover.FRR}, nil, 1)
			for _, b := range p.Boxes {
				for _, s := range b.Sessions {
					for target, conf := range map[handover.Target]string{
						"bird": content(usual, handover.Folder(b.Name)+"/bird/bird.conf"),
						"frr":  content(other, handover.Folder(b.Name)+"/frr/frr.conf"),
					} {
						if conf == "" || strings.Contains(conf, "several routing instances") {
							continue
						}
						read[target]++
						name := map[handover.Target]string{
							"bird": handover.ProtocolName(s), "frr": s.Set.Peer.String(),
						}[target]
						got, err := sheet.ReadSent(conf, netip.Addr{}, netip.Addr{}, name)
						require.NoError(t, err, conf)
						require.Empty(t, got.Choices, "%s is not found in\n%s", name, conf)
						assert.Equal(t, s.Set.ASN, got.BGP.ASN, name)
						assert.Equal(t, s.Set.PeerASN, got.BGP.PeerASN, name)
						assert.Equal(t, s.Set.Peer, got.BGP.Peer, name)
						assert.Equal(t, s.Set.Hold, got.BGP.Hold, name)
						assert.Equal(t, s.Set.MaxPrefixes, got.BGP.MaxPrefixes, name)
					}
				}
			}
		}
	}
	assert.Greater(t, read["bird"], 10)
	assert.Greater(t, read["frr"], 5)
}

// What a far end sends back as it was told agrees in every line of the sheet, and sets nothing that was not so before.
func TestRecordingWhatWasAskedForChangesNoAnswer(t *testing.T) {
	d := outside(t, thistledown(t))
	tables := route.Solve(d, status.Condition{})
	held := 0
	for _, o := range d.Inside("", handover.Parties...) {
		p := box.PartyOf(tables, o.ID)
		files := handover.Files(p, nil)
		for _, b := range p.Boxes {
			for _, l := range b.Links {
				for _, x := range l.Tunnels {
					list := listOf(files, fmt.Sprintf("%s, %s", l.Name, x.Name))
					if list == "" {
						continue
					}
					held++
					got, err := sheet.ReadSent(list, x.Set.Peer, x.Set.Address, "")
					require.NoError(t, err)
					tunnel := d.Get(x.ID)
					end := 0
					if d.Get(tunnel.Parent).Body.(*design.Link).Ends[1].Gateway == b.ID {
						end = 1
					}
					edits, err := sheet.Record(d, tunnel, end, got)
					require.NoError(t, err, list)
					next, _, err := d.Apply(edits)
					require.NoError(t, err)
					keys := func(lines []sheet.Line) (out []string) {
						for _, l := range sheet.Differing(lines) {
							out = append(out, l.Key)
						}
						return out
					}
					assert.Equal(t, keys(sheet.Lines(d, tunnel, [2]string{})), keys(sheet.Lines(next, next.Get(x.ID), [2]string{})))
				}
			}
		}
	}
	assert.Greater(t, held, 0)
}
