package change_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/change"
	"dravin/core/design"
	"dravin/lab/estates"
)

// journal is an estate with what was done to it, as it is kept.
type journal struct {
	t    *testing.T
	d    *design.Design
	rows []change.Row
	was  map[int64]*design.Design // before each row
}

func (j *journal) do(act change.Act, edits []design.Edit, of ...change.ID) error {
	next, _, err := j.d.Apply(edits)
	if err != nil {
		return err
	}
	row := change.Row{Position: int64(len(j.rows)) + 1, Changes: of, Act: act}
	edits = j.d.EditsTo(next)
	if act == change.Aside || act == change.Back {
		row.Parts = change.Taken(j.d, next, edits)
	} else {
		row.Parts = change.Parts(j.d, next, edits)
	}
	j.was[row.Position] = j.d
	j.rows, j.d = append(j.rows, row), next
	return nil
}

func (j *journal) before(position int64, id design.ID) *design.Object { return j.was[position].Get(id) }

func (j *journal) left() (*change.Ledger, map[change.ID][]change.Work) {
	l := change.Told(j.rows)
	return l, l.Left(j.d)
}

func (j *journal) aside(act change.Act, of change.ID) ([]change.ID, error) {
	l, left := j.left()
	all := change.With(change.Needed(change.Needs(j.d, left)), of)
	edits, _ := l.Without(j.d, left, j.before, all...)
	return all, j.do(act, edits, all...)
}

func (j *journal) up(of change.ID) error {
	l, _ := j.left()
	last, ok := l.Last(of)
	require.True(j.t, ok)
	edits, err := l.Again(j.d, last, j.before, func(id change.ID) string { return string(id) })
	if err != nil {
		return err
	}
	return j.do(change.Up, edits, last.Changes...)
}

// parted is an estate that is built as it is planned, and work of it that was planned in several changes at random.
func parted(t *testing.T, seed uint64) *journal {
	r := rand.New(rand.NewPCG(seed, 11))
	whole := estates.Worked(seed)
	begun, err := whole.Only(nil)
	require.NoError(t, err)
	j := &journal{t: t, d: begun, was: map[int64]*design.Design{}}
	left := whole.Work()
	for n := 0; len(left) > 0 && n < 60; n++ {
		of := change.ID(fmt.Sprintf("change %d", n))
		var some, rest []design.Edit
		for _, e := range left {
			if n == 59 || r.IntN(3) == 0 {
				some = append(some, e)
			} else {
				rest = append(rest, e)
			}
		}
		if len(some) > 0 && j.do(change.Do, some, of) == nil {
			left = rest
		}
	}
	return j
}

// The work parts into changes without anything left over. Each, with what it needs, can be done and nothing else be.
// Set aside it is out of the plan and the others are as they were; taken up again the plan is what it was.
func TestWorkPartsIntoChanges(t *testing.T) {
	first, number := uint64(time.Now().UnixNano()%1_000_000), 40
	if text := os.Getenv("DRAVIN_TRUTH_SEED"); text != "" {
		first, _ = strconv.ParseUint(text, 10, 64)
	}
	if text := os.Getenv("DRAVIN_PAIRS"); text != "" {
		number, _ = strconv.Atoi(text)
	}
	t.Logf("pairs from seed %d on", first)
	several := 0
	for seed := first; seed < first+uint64(number); seed++ {
		j := parted(t, seed)
		_, left := j.left()
		needs := change.Needs(j.d, left)
		var all []change.ID
		for _, row := range j.rows {
			if of := row.Changes[0]; len(left[of]) > 0 {
				all = append(all, of)
			}
		}
		assert.Empty(t, left[change.Rest], "seed %d: all is somebody's", seed)
		whole, err := j.d.Only(change.Only(j.d, left, all...))
		require.NoError(t, err)
		x := design.Compare(whole, j.d)
		assert.Empty(t, slices.Concat(x.Here, x.Changed), "seed %d", seed)
		x.There = slices.DeleteFunc(x.There, func(x design.Difference) bool { return design.Shared(x.Kind) })
		assert.Empty(t, x.There, "seed %d", seed)
		if len(all) > 1 {
			several++
		}
		for _, of := range all {
			alone, err := j.d.Only(change.Only(j.d, left, change.With(needs, of)...))
			if !assert.NoError(t, err, "seed %d, %s", seed, of) {
				continue
			}
			assert.NotEmpty(t, alone.Unlike(), "seed %d, %s", seed, of)
			j := &journal{t, j.d, slices.Clone(j.rows), j.was}
			was := j.d
			out, err := j.aside(change.Aside, of)
			if !assert.NoError(t, err, "seed %d, %s", seed, of) {
				continue
			}
			_, then := j.left()
			for _, other := range all {
				if slices.Contains(out, other) {
					assert.Empty(t, then[other], "seed %d, %s", seed, other)
				} else {
					assert.Len(t, then[other], len(left[other]), "seed %d: %s stays as it was without %s", seed, other, of)
				}
			}
			if assert.NoError(t, j.up(of), "seed %d, %s", seed, of) {
				_, again := j.left()
				for _, x := range all {
					assert.Len(t, again[x], len(left[x]), "seed %d: %s is what it was once %s is taken up again", seed, x, of)
				}
				for _, e := range was.EditsTo(j.d) {
					a, b := was.Get(e.ID), j.d.Get(e.ID)
					assert.True(t, a != nil && b != nil, "seed %d, %s: %s is not as it was", seed, of, e.ID)
					assert.Empty(t, design.FieldsUnlike(a, b), "seed %d, %s: %s is not as it was", seed, of, e.ID)
				}
			}
		}
	}
	assert.NotZero(t, several, "some have more than one change")
}
