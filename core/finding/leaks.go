package finding

import (
	"context"
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/passes"
	"dravin/core/proof"
	"dravin/core/provider"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/core/words"
)

// guards are new filters that end what must never work: at who is reached, or at what stands before it, each tried.
// What held goes on to hold.
func (f *Findings) guards(ctx context.Context, leaks proof.Result) []Fix {
	d, t := f.design(), f.proofs.Tables()
	in := d.Get(leaks.Intent).Body.(*design.Intent)
	var places []design.ID
	for _, end := range append(d.StandsFor(in.To), in.To) {
		places = append(places, end)
		for _, e := range d.Inside(end, design.KindEndpoint) {
			places = append(places, e.ID)
		}
		if party := d.Party(end); party != nil {
			places = append(places, party.ID)
			for _, g := range d.Inside(party.ID, design.KindGateway, design.KindBox) {
				places = append(places, g.ID)
			}
		}
	}
	var out []Fix
	seen := map[design.ID]bool{}
	for _, at := range places {
		if seen[at] || ctx.Err() != nil || len(out) == mostPlanned {
			continue
		}
		seen[at] = true
		edits, rules, ok := passes.Guard(t, at)
		if !ok {
			edits, rules, ok = f.grouped(at)
		}
		if ok && f.ends(edits, leaks.Intent) {
			title := fmt.Sprintf("A filter at %s, of %d rules: what intents need, and nothing else", d.Title(at), rules)
			out = append(out, Fix{Title: title, Edits: edits})
		}
	}
	return out
}

// grouped is a filter for a group of all in a LAN or subnet, where its cloud has filters at groups alone.
func (f *Findings) grouped(place design.ID) (edits []design.Edit, rules int, ok bool) {
	d := f.design()
	o := d.Get(place)
	if !slices.Contains(design.HostPlaces, o.Kind) {
		return nil, 0, false
	}
	group := &design.Object{
		ID: design.IDFor(design.KindGroup, "all of "+string(place)), Kind: design.KindGroup, Name: "all in " + d.Title(
			place,
		),
		Body: &design.Group{Members: []design.ID{place}},
	}
	put := []design.Edit{design.PutEdit(group)}
	next, _, err := d.Apply(put)
	if err != nil {
		return nil, 0, false
	}
	edits, rules, ok = passes.Guard(f.proofs.Tables().After(next, d.ChangedBy(put, next)), group.ID)
	return append(put, edits...), rules, ok
}

// ends reports whether edits let an intent hold, and break none that held.
func (f *Findings) ends(edits []design.Edit, intent design.ID) bool {
	d := f.design()
	next, _, err := d.Apply(edits)
	if err != nil {
		return false
	}
	t := f.proofs.Tables().After(next, d.ChangedBy(edits, next))
	after := f.proofs.After(t, t.Changes())
	for _, o := range d.Of(design.KindIntent) {
		if (o.ID == intent || f.proofs.Intent(o.ID).Holds) && !after.Intent(o.ID).Holds {
			return false
		}
	}
	return true
}

// built says that what is being built is there, which only who builds it can know.
func (c *collector) built(stop *walk.Stop) []Fix {
	o := c.design.Get(stop.Subject)
	if o == nil || stop.Code != walk.Code(status.NotThereYet) || c.design.StateOf(o.ID) == design.Ready {
		return nil
	}
	return []Fix{{
		Title: "Build " + c.design.Title(o.ID) + ", then say that it is ready",
		Edits: said(c.design, o.InState("")),
	}}
}

// said are the edits that say that something is there as it is now.
func said(d *design.Design, now *design.Object) []design.Edit {
	return d.Said([]design.Edit{{Side: design.Built, Op: design.Put, ID: now.ID, Object: now}})
}

// metered finds flows of which every gigabyte crosses two things that are paid by the gigabyte.
func (c *collector) metered(r proof.Result) {
	if r.Never || !r.Proof.Works {
		return
	}
	var price provider.Money
	var by []string
	told := map[design.ID]bool{}
	for _, s := range r.Proof.Forward {
		o := c.design.Get(s.At.ID)
		if o != nil && o.Kind == design.KindHubTable {
			o = c.design.Get(o.Parent)
		}
		if o == nil || told[o.ID] {
			continue
		}
		told[o.ID] = true
		p := c.design.ProfileOf(o.ID)
		if o.Kind == design.KindPeering {
			p = c.design.ProfileOf(o.Body.(*design.Peering).Halves[0].Network)
		}
		if p == nil {
			continue
		}
		each := map[design.Kind]provider.Money{
			design.KindHub: p.Prices.HubGB, design.KindPeering: p.Prices.PeeringGB,
		}[o.Kind]
		if each > 0 {
			price += each
			by = append(by, fmt.Sprintf("%s for %s", c.design.Title(o.ID), each))
		}
	}
	if len(by) < 2 {
		return
	}
	f := c.add(
		"metered-twice", Untidy, r.Intent, nil, "every gigabyte of %q is paid for %d times: %s, %s together", r.Name,
		len(by), words.List(by), price,
	)
	f.Evidence = append(f.Evidence, fmt.Sprintf("at 1000 GB a month that is %s", provider.Money(1000)*price))
}
