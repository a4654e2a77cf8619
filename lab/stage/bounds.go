package stage

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"dravin/core/rehearsal"
)

// What each thing takes of memory, in KiB, as measured at the demo estate and at 100 parties.
const (
	perNode   = 500
	perIPsec  = 9_000
	perBGP    = 4_500
	perRelay  = 3_000
	ownNeeds  = 60_000
	mostTimes = 3 // how much more than foretold it may take
)

// Needs is how much memory a plan takes, in KiB.
func Needs(p *rehearsal.Plan) int {
	out := ownNeeds
	for _, n := range p.Nodes {
		out += perNode
		for _, f := range n.Files {
			switch {
			case f.Path == "swanctl/conf.d/dravin.conf":
				out += perIPsec
			case f.Path == "bird/bird.conf":
				out += perBGP
			case strings.HasPrefix(f.Path, "systemd/system/dravin-"):
				out += perRelay
			}
		}
	}
	return out
}

// available is how much memory the machine can give, in KiB; 0 if it does not say.
func available() int {
	text, _ := os.ReadFile("/proc/meminfo")
	for _, l := range strings.Split(string(text), "\n") {
		if f := strings.Fields(l); len(f) > 1 && f[0] == "MemAvailable:" {
			n, _ := strconv.Atoi(f[1])
			return n
		}
	}
	return 0
}

// fitsMemory says why this machine has not the memory for a plan; nil if it has.
func fitsMemory(p *rehearsal.Plan) error {
	if needs, has := Needs(p), available(); has > 0 && needs > has {
		return fmt.Errorf(
			"it takes about %d MiB of memory and this machine can give %d MiB; rehearse fewer parties, or on a larger one",
			needs>>10, has>>10,
		)
	}
	return nil
}

// tooLate is how long a rehearsal may go without a turn: flows that are not answered are given up on sooner.
const tooLate = time.Second

// watchTime notes how long the rehearsal goes without a turn.
func (p *play) watchTime(ctx context.Context) {
	const nap = 100 * time.Millisecond
	for ctx.Err() == nil {
		begun := time.Now()
		time.Sleep(nap)
		p.late.Store(max(p.late.Load(), int64(time.Since(begun)-nap)))
	}
}

func (p *play) tellLate() {
	if late := time.Duration(p.late.Load()); late > tooLate {
		p.report.Late = fmt.Sprintf("it went %.1f s without a turn", late.Seconds())
	}
}

// used is how much memory all processes of the rehearsal take, in KiB: what each has for itself.
func used() (out int) {
	list, _ := filepath.Glob("/proc/[0-9]*/smaps_rollup")
	for _, path := range list {
		text, _ := os.ReadFile(path)
		for _, l := range bytes.Split(text, []byte("\n")) {
			if f := bytes.Fields(l); len(f) > 1 && string(f[0]) == "Pss:" {
				n, _ := strconv.Atoi(string(f[1]))
				out += n
			}
		}
	}
	return out
}

// watchMemory ends the rehearsal when it takes far more memory than foretold.
func (p *play) watchMemory(ctx context.Context, end context.CancelCauseFunc) {
	most := mostTimes * Needs(p.plan)
	for ctx.Err() == nil {
		now := used()
		p.report.MemoryMiB = max(p.report.MemoryMiB, now>>10)
		if now > most {
			end(fmt.Errorf("it takes %d MiB of memory, and %d were foretold", now>>10, Needs(p.plan)>>10))
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(3 * time.Second):
		}
	}
}
