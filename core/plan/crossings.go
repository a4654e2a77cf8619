package plan

import (
	"dravin/core/design"
	"dravin/core/translate"
	"dravin/core/walk"
)

// crossingMends let a flow cross from its segment into that of its target, where a box knows the way in another
// segment only: one way first, which opens least, else both ways. It is at that box alone.
func crossingMends(x around) (out []mend) {
	stop := x.result.Stop()
	d := x.state.design()
	if stop == nil || stop.Code != walk.OtherSegment {
		return nil
	}
	from, to := segmentOfEnd(d, x.intent.From), segmentOfEnd(d, x.intent.To)
	if stop.Way == "reply" {
		from, to = to, from
	}
	if from == "" || to == "" || from == to || d.Crosses(from, to) != nil {
		return nil
	}
	name := clipped(d.Title(from)) + " to " + clipped(d.Title(to))
	for _, kind := range []struct{ does, words string }{
		{design.CrossingOneWay, "one way"}, {design.CrossingOpen, "open"},
	} {
		o := &design.Object{
			ID: design.IDFor(design.KindCrossing, name), Kind: design.KindCrossing, Name: name,
			Body: &design.Crossing{From: from, To: to, Does: kind.does, At: []design.Ref{stop.At.ID}},
		}
		m := x.at(d.Get(stop.At.ID), "a crossing from "+name+", "+kind.words, design.PutEdit(o))
		m.change.Stage = translate.Routes
		out = append(out, m)
	}
	return out
}

// segmentOfEnd is the segment of the first thing for which an end of an intent stands.
func segmentOfEnd(d *design.Design, end design.ID) design.ID {
	for _, id := range d.StandsFor(end) {
		return d.SegmentOf(id)
	}
	return ""
}
