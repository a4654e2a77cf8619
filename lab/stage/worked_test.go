package stage_test

import (
	"fmt"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dravin/lab/estates"
)

// What a random estate becomes by random work of any kind is done step by step, by the files as they are rendered and
// the lines as they are written, and after each step what works is what was proven of the half-done estate. Of every
// third the way back of each step is gone, too. DRAVIN_WORKED says how many pairs are drawn, else one is.
func TestRandomWorkIsRehearsed(t *testing.T) {
	t.Parallel()
	number := 1
	if text := os.Getenv("DRAVIN_WORKED"); text != "" {
		number, _ = strconv.Atoi(text)
	}
	possible(t)
	seed := uint64(time.Now().UnixNano() % 1_000_000)
	if text := os.Getenv("DRAVIN_TRUTH_SEED"); text != "" {
		seed, _ = strconv.ParseUint(text, 10, 64)
	}
	t.Logf("pairs from seed %d on", seed)
	for n := range uint64(number) {
		t.Run(fmt.Sprint(seed+n), func(t *testing.T) {
			file, err := estates.Worked(seed + n).Write()
			require.NoError(t, err)
			o := order(file)
			o.Options.Captures, o.Options.Steps, o.Options.Sample = false, true, 10
			o.Options.Back = (seed+n)%3 == 0
			rehearsed(t, o)
		})
	}
}
