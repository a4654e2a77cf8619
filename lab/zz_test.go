package lab_test
import ("testing";"fmt";"os";"strconv";"net/netip"
"dravin/core/design";"dravin/core/route";"dravin/core/standing";"dravin/core/walk")
func TestZZ(t *testing.T){
 seed,_:=strconv.Atoi(os.Getenv("ZZ")); e:=newTranslating(uint64(seed))
 b,_:=e.d.Write(); fmt.Println(string(b))
 tb:=route.Solve(e.d,standing.Condition{Horizon:e.horizon})
 from:=netip.MustParseAddr(os.Getenv("ZF")); to:=netip.MustParseAddr(os.Getenv("ZT")); s,_:=design.ParseService(os.Getenv("ZS"))
 for _,h:=range e.d.Of(design.KindEndpoint){ if addressesOf(h)[0]==from && (os.Getenv("ZL")=="" || e.d.Get(h.Parent).Name==os.Getenv("ZL")) {
  p:=walk.Prove(tb, walk.Flow{From: walk.Host{Place:h.Parent,Endpoint:h.ID,Address:from},To:to,Service:s})
  fmt.Println("==",e.d.Title(h.ID)); for _,x:=range p.Forward{fmt.Println("  >",x.Text,x.Header)}; for _,x:=range p.Reply{fmt.Println("  <",x.Text,x.Header)}; fmt.Println(p.Stop)
 }}
}
