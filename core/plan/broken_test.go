package plan_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/plan"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
	"dravin/lab/estates"
)

// breaking is one thing taken away or set wrong.
func breaking(r *rand.Rand, o *design.Object) *design.Object {
	at := func(n int) int { return r.IntN(max(n, 1)) }
	switch b := o.Body.(type) {
	case *design.Table:
		if len(b.Routes) > 0 {
			return design.Edited(o, func(b *design.Table) {
				n := at(len(b.Routes))
				if b.Routes[n].Publish == design.Published && r.IntN(2) == 0 {
					b.Routes[n].Publish = design.Withdrawn
					return
				}
				b.Routes = append(b.Routes[:n:n], b.Routes[n+1:]...)
			})
		}
		return design.Edited(o, func(b *design.Table) { b.Learns = "no" })
	case *design.Link:
		return design.Edited(o, func(b *design.Link) {
			e := &b.Ends[at(2)]
			if n := len(e.Routes); n > 0 {
				k := at(n)
				e.Routes = append(e.Routes[:k:k], e.Routes[k+1:]...)
			} else if n := len(e.Local); n > 1 {
				k := at(n)
				e.Local = append(e.Local[:k:k], e.Local[k+1:]...)
			}
		})
	case *design.Session:
		return design.Edited(o, func(b *design.Session) {
			e := &b.Ends[at(2)]
			switch r.IntN(3) {
			case 0:
				e.In = []design.Filter{{Prefix: mustPrefix("10.99.0.0/16")}}
			case 1:
				e.Out = []design.Filter{{Prefix: mustPrefix("10.99.0.0/16")}}
			default:
				e.MaxPrefixes = 1
			}
		})
	case *design.Gateway:
		return design.Edited(o, func(b *design.Gateway) {
			switch r.IntN(3) {
			case 0:
				b.Faults = []string{design.ForwardingOff}
			case 1:
				b.Faults = []string{design.StrictReversePath}
			default:
				b.Translate = append(b.Translate, design.Rule{Hook: design.Postrouting, Does: design.OwnAddress})
			}
		})
	case *design.Attachment:
		return design.Edited(o, func(b *design.Attachment) {
			switch r.IntN(3) {
			case 0:
				b.Feeds = nil
			case 1:
				if len(b.Subnets) > 0 {
					b.Subnets = b.Subnets[1:]
				}
			default:
				b.State = design.Refused
			}
		})
	case *design.Peering:
		return design.Edited(o, func(b *design.Peering) {
			b.Halves[0].AcceptForwarded, b.Halves[1].AcceptForwarded = false, false
			b.Halves[0].LendsGateway, b.Halves[1].LendsGateway = false, false
		})
	case *design.Endpoint:
		return design.Edited(o, func(b *design.Endpoint) { b.Answers = []design.Service{{Proto: "udp", Port: 9}} })
	case *design.Listener:
		return design.Edited(o, func(b *design.Listener) { b.Callers = prefixes("10.99.0.0/16") })
	case *design.Tunnel:
		return design.Edited(o, func(b *design.Tunnel) {
			b.Ends = []design.TunnelEnd{
				{IKE: []string{"aes256-sha384-ecp384"}}, {IKE: []string{"aes128-sha256-ecp256"}},
			}
		})
	case *design.Circuit:
		return design.Edited(o, func(b *design.Circuit) { b.Ends[0].VLAN = 999 })
	}
	return nil
}

// wholes are estates in which all that must talk does: the demo, and random ones that were planned.
func wholes(t *testing.T, n int) []*design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	out := []*design.Design{d}
	for seed := range uint64(n) {
		d := estates.Make(seed, estates.Options{Collisions: seed%2 == 0, Intents: true, Joined: true})
		var intents []design.ID
		for o, in := range design.Each[design.Intent](d.Of(design.KindIntent)) {
			if in.Never { // what ends it may open that, and is no fix
				intents = nil
				break
			}
			intents = append(intents, o.ID)
		}
		if len(intents) == 0 {
			continue
		}
		p := planned(t, d, plan.Question{Intents: intents})
		for _, o := range p.Shortened(3).Options {
			if o.Refused == "" {
				out = append(out, granted(t, apply(t, d, o.Edits)))
			}
		}
	}
	return out
}

// Whatever is broken of a whole estate, by one thing that the model can say, has a fix that is proven.
func TestWhatIsBrokenIsMended(t *testing.T) {
	broken := 0
	for n, d := range wholes(t, number(20)) {
		whole := proof.Of(route.Solve(d, status.Condition{}))
		for seed := range uint64(40) {
			r := rand.New(rand.NewPCG(seed, uint64(n)))
			all := d.Of(breakable[r.IntN(len(breakable))])
			if len(all) == 0 {
				continue
			}
			now := breaking(r, all[r.IntN(len(all))])
			if now == nil {
				continue
			}
			next, _, err := d.Apply([]design.Edit{design.PutEdit(now)})
			if err != nil {
				continue
			}
			after := proof.Of(route.Solve(next, status.Condition{}))
			for _, was := range whole.All() {
				if !was.Holds || was.Never || after.Intent(was.Intent).Holds {
					continue
				}
				broken++
				p, err := plan.For(t.Context(), after, plan.Question{Intents: []design.ID{was.Intent}}, nil)
				require.NoError(t, err)
				require.NotEmpty(t, p.Options)
				assert.Empty(
					t, p.Options[0].Refused, "estate %d, seed %d: %s %s: %s", n, seed, next.Title(now.ID),
					design.Differences(d.Get(now.ID), now), was.Name,
				)
			}
		}
	}
	assert.Greater(t, broken, 100)
}

var breakable = []design.Kind{
	design.KindTable, design.KindLink, design.KindSession, design.KindGateway, design.KindAttachment, design.KindPeering,
	design.KindEndpoint, design.KindListener, design.KindTunnel, design.KindCircuit,
}
