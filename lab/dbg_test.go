package lab_test

import (
	"fmt"
	"os"
	"strconv"
	"testing"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/standing"
	"dravin/core/walk"
)

func TestDbg(t *testing.T) {
	seed, _ := strconv.Atoi(os.Getenv("SEED"))
	e := newEstate(uint64(seed), os.Getenv("R") != "")
	b, _ := e.d.Write()
	fmt.Println(string(b), e.horizon)
	tables := route.Solve(e.d, standing.Condition{Horizon: e.horizon})
	for _, f := range e.flows(20) {
		if f.id == os.Getenv("FLOW") {
			p := walk.Prove(tables, walk.Flow{From: f.from, To: f.to, Service: design.Service{Proto: f.proto, Port: port}})
			for _, s := range append(p.Forward, p.Reply...) {
				fmt.Println(s.Act, s.Text, s.Header)
			}
		}
	}
	for id, up := range e.up {
		fmt.Println(e.d.Path(id), up)
	}
}

func TestDbgFiles(t *testing.T) {
	seed, _ := strconv.Atoi(os.Getenv("SEED"))
	e := newEstate(uint64(seed), true)
	tables := route.Solve(e.d, standing.Condition{Horizon: e.horizon})
	for _, s := range e.d.Of(design.KindSite) {
		for _, f := range handover.Render(tables, s.ID, nil) {
			fmt.Println("==", s.Name, f.Path)
			fmt.Println(f.Content)
		}
	}
}
