package plan

import (
	"context"
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/translate"
	"dravin/core/words"
)

// Wish is what makes one option better than another, of those that are answers.
type Wish string

// The wishes.
const (
	LeastToDo   Wish = "least-to-do"  // either side can start, callers are told apart, little is touched
	Cheapest    Wish = "cheapest"     // least a month
	FewestBoxes Wish = "fewest-boxes" // boxes and tables that are touched
	NextEasy    Wish = "next-easy"    // fewest steps for the next party or service
	Surviving   Wish = "surviving"    // all in scope survive any single failure
)

// Wishes are all, with what they mean.
var Wishes = []words.Coded[Wish]{
	{
		Code: LeastToDo, Title: "least to do",
		Doc: "either side can start, callers are told apart, and little is touched",
	},
	{Code: Cheapest, Title: "cheapest", Doc: "what it adds to the bill of a month"},
	{Code: FewestBoxes, Title: "fewest boxes", Doc: "how many boxes and tables are touched"},
	{Code: NextEasy, Title: "next is easy", Doc: "steps for the next party, and entries for the next service"},
	{
		Code: Surviving, Title: "survives any failure",
		Doc: "all that must talk does after any single failure on its way",
	},
}

// grade is what an option is measured by; the smaller goes first.
func (w Wish) grade(o *Option) []int {
	refused := 0
	if o.Refused != "" {
		refused = 1 + len(o.Breaks)*100 + len(o.Stays)
	}
	usual := []int{
		no(o.Both), no(o.Tells), no(o.Remedy != translate.Renumber), o.PerServe, len(o.Boxes), int(
			min(o.Addresses, 1<<30),
		),
		o.Ranges6, len(o.Changes), int(o.Month),
	}
	first := map[Wish][]int{
		Cheapest: {no(o.Unpriced == ""), int(o.Month)}, FewestBoxes: {len(o.Boxes)},
		NextEasy: {o.Additions + o.PerServe + o.PerHost}, Surviving: {no(o.Survives)},
	}[w]
	return slices.Concat([]int{refused}, first, usual)
}

// why says in a sentence why an option is the first.
func (w Wish) why(o *Option) string {
	by := map[Wish]string{
		Cheapest:    fmt.Sprintf("it adds least to the bill: %s a month", o.Month),
		FewestBoxes: "it touches fewest: " + words.Count(len(o.Boxes), "box or table", "boxes and tables"),
		NextEasy:    "the next takes least: " + words.Count(o.Additions+o.PerServe+o.PerHost, "step", "steps"),
		Surviving:   "all in scope survive any single failure on their way",
	}[w]
	if w == Surviving && !o.Survives {
		by = "none survives every single failure; of those that work it is the simplest"
	}
	out := "First, since everything in scope works and nothing else breaks"
	if by != "" {
		out += ", and " + by
	}
	var virtues []string
	if o.Both {
		virtues = append(virtues, "either side can start")
	}
	if o.Tells {
		virtues = append(virtues, "the far end can tell callers apart")
	}
	virtues = append(virtues, words.Count(len(o.Boxes), "box or table is touched", "boxes and tables are touched"))
	return out + "; " + words.List(virtues) + "."
}

func no(b bool) int {
	if b {
		return 0
	}
	return 1
}

// rank puts options in order and says why the first is it.
func (pl *planner) rank() {
	for n := range pl.plan.Options {
		pl.afford(&pl.plan.Options[n])
	}
	w := pl.question.Wish
	slices.SortStableFunc(pl.plan.Options, func(a, b Option) int { return slices.Compare(w.grade(&a), w.grade(&b)) })
	seen := map[string]int{}
	for n := range pl.plan.Options {
		o := &pl.plan.Options[n]
		if seen[o.Key]++; seen[o.Key] > 1 {
			o.Key = fmt.Sprintf("%s-%d", o.Key, seen[o.Key])
		}
		o.First = ""
	}
	if len(pl.plan.Options) > 0 && pl.plan.Options[0].Refused == "" {
		pl.plan.Options[0].First = w.why(&pl.plan.Options[0])
	}
}

// afford refuses what costs more than was allowed.
func (pl *planner) afford(o *Option) {
	if b := pl.question.Budget; b > 0 && o.Refused == "" && o.Month > b {
		o.Refused = fmt.Sprintf("it adds %s to the bill of a month, and %s was allowed", o.Month, b)
	}
}

// survives asks of every intent in scope whether it holds after any single failure on its way.
func (pl *planner) survives(ctx context.Context, s state) (bool, string) {
	var edits []design.Edit
	d := s.design()
	for _, id := range pl.scope.order {
		if in := d.Get(id).Body.(*design.Intent); !in.Survives {
			edits = append(
				edits, design.PutEdit(design.Edited(d.Get(id), func(b *design.Intent) { b.Survives = true })),
			)
		}
	}
	if len(pl.scope.order) == 0 || len(pl.scope.order) > mostSurvive && pl.question.Wish != Surviving {
		return false, ""
	}
	next, _, err := d.Apply(edits)
	if err != nil {
		return false, ""
	}
	proofs := following(s.built, next, d.ChangedBy(edits, next))
	for _, id := range pl.scope.order {
		if ctx.Err() != nil {
			return false, ""
		}
		if r := proofs.Intent(id); !r.Holds {
			return false, weakest(r)
		}
	}
	return true, ""
}

// mostSurvive is up to how many intents are walked without each thing on their way although nobody
// wished for it.
const mostSurvive = 12

func weakest(r proof.Result) string {
	if r.WithoutTitle != "" {
		return r.WithoutTitle
	}
	return ""
}
