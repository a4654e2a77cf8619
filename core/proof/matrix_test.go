package proof_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
)

func matrixOf(t testing.TB, d *design.Design) (*proof.Matrix, *proof.Proofs) {
	p := proof.Of(route.Solve(d, status.Condition{}))
	m, err := proof.MatrixOf(context.Background(), p, nil)
	require.NoError(t, err)
	return m, p
}

// stateOf is the state of a flow of the demo, by the paths of its ends.
func stateOf(t *testing.T, m *proof.Matrix, d *design.Design, from, to, service string) string {
	flows, n, err := m.Cell(proof.ByHost, "", d.Find(from)[0].ID, d.Find(to)[0].ID, []string{service}, 10)
	require.NoError(t, err)
	require.Equal(t, 1, n)
	return flows[0].State
}

func TestMatrixAgainstIntents(t *testing.T) {
	d := thistledown(t)
	m, p := matrixOf(t, d)
	for _, c := range []struct {
		from, to, service string
		state             proof.State
	}{
		{"thornfield-station/weather-room/weather-mast", "plate-store/plates/plate-server", "tcp/443", proof.AsMeant},
		{"peatside-nursery/glasshouse/controller", "catalogue/shelf-a/logger", "tcp/6514", proof.Missing},
		{"catalogue/shelf-a/logger", "catalogue/shelf-b/search", "tcp/443", proof.Unmeant},
		{"sample-exchange/counter/sample-clerk", "seed-logs/logs-a", "tcp/443", proof.Apart},
		{"plate-store/plates/plate-server", "catalogue/shelf-b/search", "tcp/443", proof.Closed},
		{"the-internet", "marrow-hill/visitors-wireless", "tcp/443", proof.Apart},
	} {
		assert.Equal(t, string(c.state), stateOf(t, m, d, c.from, c.to, c.service), "%s to %s", c.from, c.to)
	}
	for _, r := range p.All() { // what an intent says and its cell are one
		in := d.Get(r.Intent).Body.(*design.Intent)
		if d.Get(in.From).Kind != design.KindEndpoint || d.Get(in.To).Kind != design.KindEndpoint || in.Never {
			continue
		}
		want := string(proof.Missing)
		if r.Holds {
			want = string(proof.AsMeant)
		}
		assert.Equal(t, want, stateOf(t, m, d, d.Path(in.From), d.Path(in.To), in.Service.String()), r.Name)
	}
}

func TestMatrixFolded(t *testing.T) {
	d := thistledown(t)
	m, _ := matrixOf(t, d)
	total := 0
	for _, by := range proof.Bys {
		v := m.View(by, "", nil)
		assert.Len(t, v.Rows, len(v.Lines))
		sum := 0
		for _, n := range v.Counts {
			sum += n
		}
		if by == proof.ByHost {
			total = sum
		}
		if by != proof.ByGroup { // an end may be in several groups
			assert.Equal(t, total, sum, by)
		}
	}
	v := m.View(proof.ByParty, "", []string{"tcp/443"})
	assert.Equal(t, []string{"tcp/443"}, v.Services)
	within := m.View(proof.ByHost, d.Find("catalogue", design.KindNetwork)[0].ID, nil)
	assert.Len(t, within.Lines, 3)
}

// What an edit opens and closes is told, flow by flow.
func TestMatrixCompared(t *testing.T) {
	d := thistledown(t)
	m, p := matrixOf(t, d)
	gateway := d.Find("thornfield-station/gateway", design.KindGateway)[0]
	edits := []design.Edit{design.PutEdit(design.Edited(gateway, func(b *design.Gateway) {
		b.Faults = []string{design.ForwardingOff}
	}))}
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	tables := p.Tables().After(next, d.ChangedBy(edits, next))
	after, err := m.After(context.Background(), p.After(tables, tables.Changes()))
	require.NoError(t, err)
	v, changes := after.Against(m, proof.ByParty, "", nil, 1000)
	assert.Positive(t, v.Counts["l"])
	assert.Zero(t, v.Counts["g"])
	for _, c := range changes {
		assert.False(t, c.Works)
		assert.Contains(t, c.FromTitle+c.ToTitle, "Thornfield")
	}
	anew, _ := matrixOf(t, next)
	_, none := after.Against(anew, proof.ByHost, "", nil, 10)
	assert.Empty(t, none)
}

// Where there are too many hosts, every place keeps some, and how many are left out is said.
func TestMatrixOfTooMany(t *testing.T) {
	text := strings.Builder{}
	text.WriteString("dravin: 1\nname: crowded\nsites:\n")
	for s := range 3 {
		fmt.Fprintf(
			&text, "  - name: Garden %d\n    lans:\n      - name: beds\n        prefixes: 10.21%d.0.0/16\n", s, 4+s,
		)
		text.WriteString("        endpoints:\n")
		for h := range []int{10, 1500, 1500}[s] {
			fmt.Fprintf(&text, "          - {name: sensor %d, addresses: 10.21%d.%d.%d}\n", h, 4+s, 1+h/200, 1+h%200)
		}
	}
	d, err := design.Read([]byte(text.String()))
	require.NoError(t, err)
	m, _ := matrixOf(t, d)
	assert.Len(t, m.Ends, proof.MostEnds)
	assert.Equal(t, 3010-proof.MostEnds, m.Left)
	lines := m.Lines(proof.ByParty, "")
	require.Len(t, lines, 3)
	assert.Equal(t, []int{10, 1245, 1245}, []int{lines[0].Ends, lines[1].Ends, lines[2].Ends})
	assert.Len(t, m.View(proof.ByParty, "", nil).Rows, 3)
	assert.Empty(t, m.View(proof.ByHost, "", nil).Rows, "nobody looks at so many cells")
}

func TestServicesNotInUse(t *testing.T) {
	m, _ := matrixOf(t, thistledown(t))
	require.NoError(t, m.InUse(nil))
	require.NoError(t, m.InUse([]string{"icmp", "tcp/443"}))
	assert.ErrorContains(t, m.InUse([]string{"tcp/443", "tcp/9"}), "tcp/9 is not in use; in use are ")
}
