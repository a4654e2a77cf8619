package translate_test

import (
	"dravin/core/design"
	"dravin/core/overlap"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/standing"
	"dravin/core/translate"
	"fmt"
	"os"
	"testing"
)

func TestZZ(t *testing.T) {
	f, err := os.ReadFile(os.Getenv("ZF"))
	if err != nil {
		t.Skip()
	}
	d, err := design.Read(f)
	if err != nil {
		t.Fatal(err)
	}
	p := proof.Of(route.Solve(d, standing.Condition{}))
	for _, r := range p.All() {
		why := ""
		if r.Proof.Stop != nil {
			why = r.Proof.Stop.Why
		}
		fmt.Println("intent", r.Name, r.Holds, why)
	}
	for _, g := range overlap.Find(d) {
		fmt.Println("GROUP", g.Sentence, g.Weight)
		q := translate.OfGroup(g)
		if len(q.Places) < 2 {
			continue
		}
		pl := translate.For(p, q)
		fmt.Printf("least %+v\n", pl.Least)
		for _, x := range pl.Excluded {
			fmt.Println("  excluded:", x)
		}
		for _, o := range pl.Options {
			fmt.Printf("- [%s] %s: %d/%d both=%v tells=%v addr=%d serve=%d boxes=%d month=%s refused=%q\n   first=%q next=%q why=%q\n", o.Remedy, o.Title, o.Holding, o.Total, o.Both, o.Tells, o.Addresses, o.PerServe, len(o.Boxes), o.Month, o.Refused, o.First, o.Next, o.Why)
			if os.Getenv("ZV") != "" {
				for _, c := range o.Changes {
					fmt.Println("     ", c.Stage, c.Where, ":", c.Text)
				}
			}
			for _, w := range o.WhyMore {
				fmt.Println("   WHY", w)
			}
			if os.Getenv("ZV") != "" {
				for _, r := range o.After {
					if !r.Holds && r.Proof.Stop != nil {
						for _, s := range append(r.Proof.Forward, r.Proof.Reply...) {
							fmt.Println("        .", s.Text)
						}
					}
				}
			}
		}
	}
}
