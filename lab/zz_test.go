package lab_test

import (
	"fmt"
	"os"
	"strconv"
	"testing"

	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/standing"
	"dravin/core/walk"
	"dravin/core/design"
	"dravin/core/prefix"
)

func TestZZ(t *testing.T) {
	seed, _ := strconv.Atoi(os.Getenv("SEED"))
	d, gateways, lans := joinedSites(t, uint64(seed))
	text, _ := d.Write()
	fmt.Println(string(text))
	tables := route.Solve(d, standing.Condition{})
	for _, s := range d.Of(design.KindTunnel) {
		fmt.Println(d.Path(s.ID), tables.Standing.Of(s.ID))
	}
	for _, g := range gateways {
		fmt.Println("== ", d.Title(g))
		for _, r := range tables.Point(g).Routes {
			fmt.Println("  ", r.Prefix, r.Via, r.Strands, r.Source, r.Learned != nil, r.Unusable)
		}
		for _, f := range handover.Render(tables, d.Party(g).ID, nil) {
			if os.Getenv("FILES") != "" { fmt.Println("--", f.Path); fmt.Println(f.Content) }
		}
	}
	a, b := lans[0], lans[len(lans)-1]
	p := walk.Prove(tables, walk.Flow{From: walk.Host{Place: a, Address: prefix.FirstHost(d.Ranges(a)[0]).Next()}, To: prefix.FirstHost(d.Ranges(b)[0]).Next(), Service: design.Service{Proto: "icmp"}})
	fmt.Println(p.Works, p.Stop)
	for _, s := range append(p.Forward, p.Reply...) { fmt.Printf("%+v\n", s) }
}
