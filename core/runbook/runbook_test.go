package runbook_test

import (
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/runbook"
	"dravin/core/status"
	"dravin/demo"
	"dravin/lab/estates"
)

func solved(d *design.Design) *proof.Proofs { return proof.Of(route.Solve(d, status.Condition{})) }

func written(t *testing.T, d *design.Design) *runbook.Runbook {
	book, err := runbook.Of(t.Context(), solved(d.Built()), d, nil, nil, nil)
	require.NoError(t, err)
	return book
}

// without is a plan of which some objects are not there.
func without(d *design.Design, ids ...design.ID) *design.Design {
	return d.WithBuilt(d.Sketch(d.Removal(ids...).Edits))
}

// unmade is a design of which some joints, or all, are yet to be made.
func unmade(d *design.Design, pick func(*design.Object) bool) *design.Design {
	var ids []design.ID
	for j := range d.Joints() {
		if design.StateOf(j.Object) == design.Ready && pick(j.Object) {
			ids = append(ids, j.ID)
		}
	}
	return without(d, ids...)
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

// follow does the steps of a runbook, and holds what each says against the half-done estate solved anew: what is down
// is told, no step is empty, and each has a name of its own.
func follow(t *testing.T, d *design.Design, r *runbook.Runbook, seed any) *design.Design {
	now := d.Built()
	before := held(solved(now))
	ids, times := map[string]bool{}, map[string]int{}
	for n, s := range r.Steps {
		require.Equal(t, n+1, s.N)
		assert.False(t, ids[s.ID], "%v: %s twice", seed, s.ID)
		ids[s.ID] = true
		assert.NotEmpty(t, s.Does)
		assert.NotEmpty(t, s.Checks, s.Does)
		assert.NotEmpty(t, append(s.Enter, s.Files...), "%v: %s is empty", seed, s.Does)
		next, _, err := now.Apply(s.Edits)
		require.NoError(t, err, s.Does)
		for _, e := range s.Edits {
			for _, f := range unlike(now.Get(e.ID), next.Get(e.ID)) {
				times[string(e.ID)+" "+f]++
			}
		}
		now = next.Sharing(d)
		proofs := solved(now)
		for _, party := range now.Inside("", design.Parties...) {
			handover.Render(proofs.Tables(), party.ID, nil) // whatever is half done can be handed over
		}
		holds := held(proofs)
		var down, told []design.ID
		for _, id := range before {
			if !slices.Contains(holds, id) {
				down = append(down, id)
			}
		}
		for _, h := range s.Down {
			told = append(told, h.Intent)
			assert.NotEmpty(t, h.Why, "%s takes %s down", s.Does, h.Name)
		}
		assert.ElementsMatch(t, down, told, "%v, step %d: %s", seed, s.N, s.Does)
		if s.Window == runbook.Before {
			assert.Empty(t, s.Down, s.Does)
			assert.Empty(t, s.Moves, s.Does)
		}
	}
	for _, id := range d.Unlike() {
		o := d.Get(id)
		if o == nil {
			o = d.Built().Get(id)
		}
		if twoEnded[o.Kind] { // the one end and then the other
			continue
		}
		for _, f := range unlike(d.Built().Get(id), d.Get(id)) {
			assert.Equal(t, 1, times[string(id)+" "+f], "%v: %s %s, %s", seed, o.Kind, o.Name, f)
		}
	}
	return now
}

var twoEnded = map[design.Kind]bool{
	design.KindLink: true, design.KindTunnel: true, design.KindSession: true, design.KindCircuit: true,
	design.KindPeering: true, design.KindAttachment: true, design.KindRequest: true,
}

// unlike are the fields in which an object differs before and after; none where it does not.
func unlike(a, b *design.Object) []string {
	if a == nil && b == nil {
		return nil
	}
	return design.FieldsUnlike(a, b)
}

// Whatever differs between what is built and what is planned is in the one file, and read from it again; each side
// alone is a design of its own.
func TestAnEstateIsOneFile(t *testing.T) {
	first := drawnFrom(t)
	for seed := first; seed < first+40; seed++ {
		d := estates.Worked(seed)
		text, err := d.Write()
		require.NoError(t, err)
		again, err := design.Read(text)
		require.NoError(t, err, "seed %d\n%s", seed, text)
		for _, side := range []design.Side{design.Planned, design.Built} {
			x := design.Compare(d.On(side), again.On(side))
			assert.Empty(t, slices.Concat(x.Here, x.There, x.Changed), "seed %d, %s\n%s", seed, side, text)
		}
		assert.Len(t, again.Unlike(), len(d.Unlike()), "seed %d", seed)
		once, err := again.Write()
		require.NoError(t, err)
		assert.Equal(t, string(text), string(once), "seed %d", seed)
	}
}

// drawnFrom is the seed from which this run draws.
func drawnFrom(t *testing.T) uint64 {
	first := uint64(time.Now().UnixNano() % 1_000_000)
	if text := os.Getenv("DRAVIN_TRUTH_SEED"); text != "" {
		first, _ = strconv.ParseUint(text, 10, 64)
	}
	t.Logf("pairs from seed %d on", first)
	return first
}

// Once all steps are done what is there is what was planned, object for object; and what is down meanwhile is told.
func TestStepsMakeWhatIsPlanned(t *testing.T) {
	all := func(*design.Object) bool { return true }
	first, number := drawnFrom(t), 20
	if text := os.Getenv("DRAVIN_PAIRS"); text != "" {
		number, _ = strconv.Atoi(text)
	}
	for n := range uint64(number) {
		seed := first + n
		var d *design.Design
		switch {
		case n == 0:
			read, err := design.Read(demo.Thistledown)
			require.NoError(t, err)
			d = unmade(read, all)
		case n%5 == 1:
			r := rand.New(rand.NewPCG(seed, 5))
			made := estates.Make(seed, estates.Options{Joined: true, Intents: true, Segments: seed%2 == 0})
			d = unmade(made, func(*design.Object) bool { return r.IntN(2) == 0 })
		case n%5 == 2:
			made := estates.Make(seed, estates.Options{Joined: true, Intents: true, Segments: seed%2 == 0})
			d = made.WithBuilt(design.New(made.Name, nil))
		default:
			d = estates.Worked(seed)
		}
		book := written(t, d)
		done := follow(t, d, book, seed)
		assert.Len(t, held(solved(done)), book.Then, "seed %d", seed)
		if !slices.ContainsFunc(book.Gates, asked) {
			assert.Empty(t, d.WithBuilt(done).Unlike(), "seed %d: %v", seed, book.Cannot)
			assert.Empty(t, written(t, d.WithBuilt(done)).Steps, "seed %d", seed)
		}
	}
}

// asked reports whether somebody's answer is waited for: what is asked for is not made before.
func asked(g runbook.Gate) bool { return !strings.HasSuffix(g.Begins, "/order") }

// A link that takes the place of another, and is longer than it, comes in the window; what disturbs nothing comes
// before.
func TestWhatDisturbsComesInTheWindow(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	d = unmade(d, func(o *design.Object) bool { return o.Name == "Thornfield circuit" })
	book := written(t, d)
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
	assert.NotEmpty(t, book.Gates, "what waits for an answer is told")
}
