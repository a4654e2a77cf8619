package runbook_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/runbook"
	"dravin/core/status"
	"dravin/demo"
	"dravin/lab/estates"
)

func today(d *design.Design) *proof.Proofs {
	return proof.Of(route.Solve(d, status.Condition{Horizon: status.Today}))
}

// unmade is a design of which some joints, or all, are yet to be made.
func unmade(t *testing.T, d *design.Design, pick func(*design.Object) bool) *design.Design {
	var edits []design.Edit
	for j := range d.Joints() {
		switch b := j.Body.(type) {
		case *design.Peering:
			if b.Halves[0].Made && b.Halves[1].Made && pick(j.Object) {
				half := lifecycle.WithHalf(j.Object, 0, false)
				edits = append(edits, design.PutEdit(half.InState(design.Making)))
			}
		case *design.Circuit:
			if pick(j.Object) {
				edits = append(edits, design.PutEdit(design.Edited(j.Object, func(c *design.Circuit) {
					c.Step, c.State = "", design.Drafted
				})))
			}
		default:
			if design.StateOf(j.Object) == design.Ready && pick(j.Object) {
				edits = append(edits, design.PutEdit(j.Object.InState(design.Drafted)))
			}
		}
	}
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	return next
}

// held are the intents that hold.
func held(p *proof.Proofs) (out []design.ID) {
	for _, r := range p.All() {
		if r.Holds {
			out = append(out, r.Intent)
		}
	}
	return out
}

// follow does the steps of a runbook, and holds what each says against the half-done estate solved anew.
func follow(t *testing.T, d *design.Design, r *runbook.Runbook) *design.Design {
	before := held(today(d))
	ids := map[string]bool{}
	for n, s := range r.Steps {
		assert.Equal(t, n+1, s.N)
		assert.False(t, ids[s.ID], s.ID)
		ids[s.ID] = true
		assert.NotEmpty(t, s.Does)
		assert.NotEmpty(t, s.Checks, s.Does)
		next, _, err := d.Apply(s.Edits)
		require.NoError(t, err, s.Does)
		d = next
		now := held(today(d))
		var down []design.ID
		for _, id := range before {
			if !slices.Contains(now, id) {
				down = append(down, id)
			}
		}
		var told []design.ID
		for _, h := range s.Down {
			told = append(told, h.Intent)
			assert.NotEmpty(t, h.Why, "%s takes %s down", s.Does, h.Name)
		}
		assert.ElementsMatch(t, down, told, "step %d: %s", s.N, s.Does)
		if s.Window == runbook.Before {
			assert.Empty(t, s.Down, s.Does)
			assert.Empty(t, s.Moves, s.Does)
		}
	}
	return d
}

// Once all steps are done the estate of today is the one that was planned, of which nothing is left to do; and what is
// down meanwhile is told.
func TestStepsMakeWhatIsPlanned(t *testing.T) {
	all := func(*design.Object) bool { return true }
	for seed := range uint64(14) {
		var d *design.Design
		switch {
		case seed < 2:
			read, err := design.Read(demo.Thistledown)
			require.NoError(t, err)
			d = read
		default:
			d = estates.Make(seed, estates.Options{Joined: true, Intents: true, Segments: seed%2 == 0})
		}
		r := rand.New(rand.NewPCG(seed, 5))
		pick := all
		if seed%2 == 1 {
			pick = func(*design.Object) bool { return r.IntN(2) == 0 }
		}
		d = unmade(t, d, pick)
		book, err := runbook.Of(t.Context(), today(d))
		require.NoError(t, err)
		done := follow(t, d, book)
		assert.Len(t, held(today(done)), book.Then, "seed %d", seed)
		again, err := runbook.Of(t.Context(), today(done))
		require.NoError(t, err)
		if len(book.Cannot) == 0 {
			assert.Empty(t, again.Steps, "seed %d", seed)
		}
	}
}

// A link that takes the place of another, and is longer than it, comes in the window; what disturbs nothing comes
// before.
func TestWhatDisturbsComesInTheWindow(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	d = unmade(t, d, func(o *design.Object) bool { return o.Name == "Thornfield circuit" })
	book, err := runbook.Of(t.Context(), today(d))
	require.NoError(t, err)
	var does []string
	for _, s := range book.Steps {
		does = append(does, string(s.Window)+" "+s.Where+": "+s.Does)
	}
	assert.Contains(t, does, "before Thornfield Station, gateway: order the circuit: Thornfield circuit")
	for _, s := range book.Steps {
		if len(s.Run) > 0 && s.Where == "Thornfield Station, gateway" {
			assert.Equal(
				t,
				"tar -C /etc --ignore-failed-read -cf /root/dravin-before-gateway.tar bird/bird.conf dravin/ports dravin/routes.sh",
				s.Run[0].Line, "what is there is kept before anything is copied over it",
			)
			assert.Contains(t, s.Run[1].Line, "cp --parents")
			assert.Contains(t, s.Back, "tar -C /etc -xf /root/dravin-before-gateway.tar")
			assert.Contains(t, s.Back, "birdc configure")
		}
	}
	assert.NotEmpty(t, book.Waits, "what waits for an answer is told")
}
