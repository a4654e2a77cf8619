package stage

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/handover"
	"dravin/core/rehearsal"
)

// What a rehearsal takes is told beforehand, by what runs in it, and a machine that has less does not begin.
func TestMemoryIsForetold(t *testing.T) {
	at := func(paths ...string) *rehearsal.Node {
		n := &rehearsal.Node{}
		for _, p := range paths {
			n.Files = append(n.Files, handover.File{Path: p})
		}
		return n
	}
	host := Needs(&rehearsal.Plan{Nodes: []*rehearsal.Node{at()}})
	assert.Greater(t, host, Needs(&rehearsal.Plan{}))
	daemons := at(
		"swanctl/conf.d/dravin.conf", "bird/bird.conf", "systemd/system/dravin-listen-1.service", "dravin/routes.sh",
	)
	box := Needs(&rehearsal.Plan{Nodes: []*rehearsal.Node{daemons}})
	assert.Equal(t, perIPsec+perBGP+perRelay, box-host)
	small := &rehearsal.Plan{Nodes: []*rehearsal.Node{daemons}}
	require.NoError(t, fitsMemory(small))
	large := &rehearsal.Plan{}
	for n := 0; n < available()/(perIPsec+perBGP)+100; n++ {
		large.Nodes = append(large.Nodes, daemons)
	}
	err := fitsMemory(large)
	require.Error(t, err)
	assert.Regexp(t, `it takes about \d+ MiB of memory and this machine can give \d+ MiB; rehearse fewer`, err.Error())
	assert.Positive(t, used(), "this process takes some")
}
