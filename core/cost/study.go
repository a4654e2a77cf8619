package cost

import (
	"fmt"
	"strings"

	"dravin/core/provider"
)

// What a study counts between, networks.
const (
	StudyFrom = 3
	StudyTo   = 50
)

// Assumptions is what is studied: n networks of one cloud that all talk with all.
type Assumptions struct {
	Tables   uint32 // route tables of each network
	GB       uint32 // what each network sends to the others together, a month
	Present  uint32 // how many networks there are now
	Regional bool   // they are in different regions
}

// Shape is how networks are joined.
type Shape string

// The shapes.
const (
	Pairwise Shape = "pairwise peering"
	OneHub   Shape = "one hub"
	TwoHubs  Shape = "two hubs"
)

// Point is what a shape takes for n networks.
type Point struct {
	Objects uint32         `json:"objects"` // things to make: halves of peerings, hubs, attachments
	Entries uint32         `json:"entries"` // entries in route tables
	Steps   uint32         `json:"steps"`   // what the next network takes: objects and entries, at every party
	Monthly provider.Money `json:"monthly"`
}

// Size is one size of the estate. A shape that the profile or its limits do not
// allow has no point.
type Size struct {
	N      uint32           `json:"n"`
	Points map[Shape]*Point `json:"points"`
}

// Study compares the shapes from [StudyFrom] to [StudyTo] networks.
type Study struct {
	Shapes    []Shape  `json:"shapes"`
	Out       []string `json:"out"` // why shapes are missing
	Present   Size     `json:"present"`
	Sizes     []Size   `json:"sizes"`
	Sentences []string `json:"sentences"` // where the shapes cross, in words
}

// Compare makes a study under a profile.
func Compare(p *provider.Profile, q Assumptions) Study {
	s := Study{Shapes: []Shape{}, Out: []string{}, Sizes: []Size{}, Sentences: []string{}}
	switch {
	case p.Peering == nil:
		s.Out = append(s.Out, "this cloud has no peering")
	case q.Regional && !p.Peering.BetweenRegions:
		s.Out = append(s.Out, "this cloud has no peering between regions")
	default:
		s.Shapes = append(s.Shapes, Pairwise)
	}
	if p.Hub == nil {
		s.Out = append(s.Out, "this cloud has no hub")
	} else {
		s.Shapes = append(s.Shapes, OneHub)
		if p.Hub.ToHub == "" {
			s.Out = append(s.Out, "this cloud does not join hubs")
		} else {
			s.Shapes = append(s.Shapes, TwoHubs)
		}
	}
	for n := uint32(StudyFrom); n <= StudyTo; n++ {
		s.Sizes = append(s.Sizes, size(p, q, n, s.Shapes))
	}
	s.Present = size(p, q, q.Present, s.Shapes)
	s.Sentences = s.sentences()
	return s
}

func size(p *provider.Profile, q Assumptions, n uint32, shapes []Shape) Size {
	r := Size{N: n, Points: map[Shape]*Point{}}
	for _, shape := range shapes {
		r.Points[shape] = point(p, q, n, shape)
	}
	return r
}

func point(p *provider.Profile, q Assumptions, n uint32, shape Shape) *Point {
	traffic := q.GB * n
	if shape == Pairwise {
		return pairwise(p, q, n, traffic)
	}
	hubs := uint32(1)
	if shape == TwoHubs {
		hubs = 2
	}
	if p.Limits.Attachments > 0 && n > hubs*p.Limits.Attachments {
		return nil
	}
	pt := &Point{}
	joins := hubs - 1
	pt.Objects = hubs + n + 2*joins // each hub is attached to the other
	perNetwork := q.Tables          // one entry for the summary of everything
	if p.Hub.AutomaticRoutes {
		perNetwork = 0
	}
	pt.Entries = n * perNetwork
	pt.Steps = 1 + perNetwork
	crossing := uint32(0)
	if hubs == 2 {
		crossing = traffic / 2 // half of what is sent ends at the other hub
		if p.Hub.ToHub == "static" {
			pt.Entries += n // each hub holds the other's ranges
			pt.Steps++
		}
	}
	pt.Monthly = Sum([]Item{
		{Amount: Monthly(p.Prices.HubHour) * provider.Money(hubs)},
		{Amount: Monthly(p.Prices.AttachmentHour) * provider.Money(n+2*joins)},
		{Amount: Volume(p.Prices.HubGB, traffic+crossing)},
	})
	return pt
}

func pairwise(p *provider.Profile, q Assumptions, n, traffic uint32) *Point {
	if p.Limits.Peerings > 0 && n-1 > p.Limits.Peerings || n == 0 {
		return nil
	}
	entries := q.Tables
	if p.Peering.AutomaticRoutes {
		entries = 0
	} else if p.Limits.RoutesPerTable > 0 && n-1 > p.Limits.RoutesPerTable {
		return nil
	}
	price := p.Prices.PeeringGB
	if q.Regional {
		price = p.Prices.PeeringFarGB
	}
	return &Point{
		Objects: n * (n - 1), // two halves for each pair
		Entries: n * (n - 1) * entries,
		Steps:   2*n + 2*n*entries,
		Monthly: Volume(price, 2*traffic).Round(), // charged at both ends
	}
}

// measure is something that shapes are compared by.
type measure struct {
	less  string // "a ... b", where a has less of it
	equal string // "a and b ...", where they have as much
	of    func(*Point) int64
}

var measures = []measure{
	{
		"take fewer steps for the next network than", "take equally many steps for the next network",
		func(p *Point) int64 { return int64(p.Steps) },
	},
	{"cost less a month than", "cost the same a month", func(p *Point) int64 { return int64(p.Monthly) }},
}

// sentences say where the shapes cross in steps and in money.
func (s Study) sentences() []string {
	out := []string{}
	for a := range s.Shapes {
		for b := a + 1; b < len(s.Shapes); b++ {
			for _, m := range measures {
				out = append(out, upper(s.crossing(s.Shapes[a], s.Shapes[b], m)))
			}
		}
	}
	if b := s.bargain(); b != "" {
		out = append(out, b)
	}
	return out
}

// crossing tells from where on which of two shapes has less.
func (s Study) crossing(a, b Shape, m measure) string {
	var parts []string
	last := ""
	say := func(n uint32, what string) {
		if what == last {
			return
		}
		last = what
		if len(parts) == 0 && n == StudyFrom {
			parts = append(parts, what)
			return
		}
		parts = append(parts, fmt.Sprintf("from %d networks on %s", n, what))
	}
	for _, r := range s.Sizes {
		x, y := r.Points[a], r.Points[b]
		switch {
		case x == nil && y == nil:
			say(r.N, "neither is within the cloud's limits")
		case x == nil:
			say(r.N, does(a, "be beyond the cloud's limits"))
		case y == nil:
			say(r.N, does(b, "be beyond the cloud's limits"))
		case m.of(x) < m.of(y):
			say(r.N, fmt.Sprintf("%s %s", does(a, m.less), b))
		case m.of(y) < m.of(x):
			say(r.N, fmt.Sprintf("%s %s", does(b, m.less), a))
		default:
			say(r.N, fmt.Sprintf("%s and %s %s", a, b, m.equal))
		}
	}
	if len(parts) == 1 {
		return fmt.Sprintf("%s, for any number from %d to %d", parts[0], StudyFrom, StudyTo)
	}
	return strings.Join(parts, "; ")
}

// does puts a shape and what it does into one phrase; two hubs are many.
func does(s Shape, what string) string {
	verb, rest, _ := strings.Cut(what, " ")
	switch {
	case verb == "be" && s == TwoHubs:
		verb = "are"
	case verb == "be":
		verb = "is"
	case s != TwoHubs:
		verb += "s"
	}
	return fmt.Sprintf("%s %s %s", s, verb, rest)
}

// bargain says what a hub costs for the steps it saves, where it costs more.
func (s Study) bargain() string {
	for _, r := range s.Sizes {
		peering, hub := r.Points[Pairwise], r.Points[OneHub]
		if r.N != bargainAt || peering == nil || hub == nil || hub.Monthly <= peering.Monthly ||
			hub.Steps >= peering.Steps {
			continue
		}
		return fmt.Sprintf(
			"At %d networks a hub saves %d steps with each addition and costs %s more a month", r.N,
			peering.Steps-hub.Steps, hub.Monthly-peering.Monthly,
		)
	}
	return ""
}

// bargainAt is the size at which the bargain is told: more than anybody joins
// pair by pair without thinking, fewer than need a hub in any case.
const bargainAt = 10

func upper(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
