package lab_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/lab"
)

// number is what a variable of the environment says, else what is usual.
func number(variable string, usual int) int {
	if n, err := strconv.Atoi(os.Getenv(variable)); err == nil {
		return n
	}
	return usual
}

// firstSeed is that of the first random estate of each kind: drawn anew in each run, so that what a few seeds hide
// comes out in days. DRAVIN_TRUTH_SEED fixes it. Kinds of estates follow from a seed's last bits, so it is a multiple
// of 8.
var firstSeed = number("DRAVIN_TRUTH_SEED", 8*rand.IntN(1<<20))

func TestMain(m *testing.M) {
	fmt.Printf("random estates begin with DRAVIN_TRUTH_SEED=%d\n", firstSeed)
	os.Exit(m.Run())
}

// port is where every host listens.
const port = 7001

// seen is what a host has got of a flow.
type seen struct {
	place design.ID
	at    netip.Addr
	from  netip.AddrPort
}

// answerers listen on every address of every host, note what arrives and answer
// from where they were asked.
type answerers struct {
	mu    sync.Mutex
	got   map[string]seen
	close []func()
}

func (a *answerers) note(flow string, s seen) {
	flow = strings.TrimRight(flow, " ") // of a large one
	a.mu.Lock()
	defer a.mu.Unlock()
	if _, again := a.got[flow]; !again {
		a.got[flow] = s
	}
}

func (a *answerers) saw(flow string) seen {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.got[flow]
}

func (a *answerers) listen(n *lab.Node, place design.ID, at netip.Addr) error {
	return n.Do(func() error {
		u, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(at, port)))
		if err != nil {
			return err
		}
		t, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(netip.AddrPortFrom(at, port)))
		if err != nil {
			return err
		}
		a.close = append(a.close, func() { _ = u.Close(); _ = t.Close() })
		go func() {
			buf := make([]byte, 64)
			for {
				n, from, err := u.ReadFromUDPAddrPort(buf)
				if err != nil {
					return
				}
				a.note(string(buf[:n]), seen{place, at, netip.AddrPortFrom(from.Addr().Unmap(), from.Port())})
				_, _ = u.WriteToUDPAddrPort(buf[:n], from)
			}
		}()
		go func() {
			for {
				c, err := t.AcceptTCP()
				if err != nil {
					return
				}
				go func() {
					defer c.Close()
					_ = c.SetDeadline(time.Now().Add(2 * time.Second))
					buf := make([]byte, 64)
					n, err := c.Read(buf)
					from := c.RemoteAddr().(*net.TCPAddr).AddrPort()
					if err == nil {
						a.note(string(buf[:n]), seen{place, at, netip.AddrPortFrom(from.Addr().Unmap(), from.Port())})
						_, _ = c.Write(buf[:n])
					}
				}()
			}
		}()
		return nil
	})
}

// flow is one packet to be sent.
type flow struct {
	id    string
	from  walk.Host
	to    netip.Addr
	proto string
	port  uint16
}

func flowOf(f flow) walk.Flow {
	return walk.Flow{From: f.from, To: f.to, Service: design.Service{Proto: f.proto, Port: f.port}}
}

// patience is how long an answer may take, longest what a walk says must come.
const patience, longest = 400 * time.Millisecond, 3 * time.Second

// send sends a flow and tells whether an answer came back to it in time.
func send(n *lab.Node, f flow, patience time.Duration) (answered bool) {
	if f.proto == "icmp" {
		_, err := n.Output(fmt.Sprintf("ping -n -c 1 -W %d -I %s %s", 1+int(patience.Seconds()), f.from.Address, f.to))
		return err == nil
	}
	_ = n.Do(func() error {
		local := netip.AddrPortFrom(f.from.Address, 0)
		d := net.Dialer{
			Timeout:   patience,
			LocalAddr: net.UDPAddrFromAddrPort(local),
			Control: func(_, _ string, c syscall.RawConn) error {
				return c.Control(
					func(fd uintptr) { _ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1) },
				)
			},
		}
		if f.proto == "tcp" {
			d.LocalAddr = net.TCPAddrFromAddrPort(local)
		}
		c, err := d.DialContext(context.Background(), f.proto, netip.AddrPortFrom(f.to, f.port).String())
		if err != nil {
			return err
		}
		defer c.Close()
		_ = c.SetDeadline(time.Now().Add(patience))
		if _, err := c.Write([]byte(f.id)); err != nil {
			return err
		}
		buf := make([]byte, 64)
		k, err := c.Read(buf)
		answered = err == nil && string(buf[:k]) == f.id
		return err
	})
	return answered
}

// flows draws what is sent: from any host to an address that a host has, really
// or mapped.
func (e *estate) flows(n int) (out []flow) {
	hosts := e.d.Of(design.KindEndpoint)
	for k := 0; len(out) < n && k < 20*n; k++ {
		a, b := pick(e.r, hosts), pick(e.r, hosts)
		f := flow{
			id:    fmt.Sprintf("flow-%d", k),
			proto: pick(e.r, []string{"tcp", "udp"}),
			port:  port,
			to:    addressesOf(b)[0],
			from:  walk.Host{Place: a.Parent, Endpoint: a.ID, Address: addressesOf(a)[0]},
		}
		for _, o := range e.d.Of(design.KindMapping) {
			m := o.Body.(*design.Mapping)
			if m.Real.Contains(f.to) && e.d.Party(m.Gateway) == e.d.Party(b.ID) && e.chance(50) {
				f.to = translated(f.to, m.Real, m.Mapped)
				break
			}
		}
		elsewhere := a.Parent != b.Parent
		if all := e.d.Of(design.KindListener); len(all) > 0 && e.chance(40) {
			l := pick(e.r, all).Body.(*design.Listener)
			f.to, f.port, f.proto, elsewhere = l.Address, l.Service.Port, l.Service.Proto, true
		} else if pools := e.intos(); len(pools) > 0 && e.chance(30) {
			f.to, f.port = nth(pick(e.r, pools), int(f.to.AsSlice()[3])), pick(e.r, []uint16{port, 7003})
		}
		if len(e.d.Of(design.KindFilter)) > 0 && f.port == port && e.chance(15) { // rules tell messages of ICMP apart
			f.proto, f.port = "icmp", 0
		}
		if f.to.Is4() == f.from.Address.Is4() && elsewhere {
			out = append(out, f)
		}
	}
	return out
}

// intos are the ranges that rules of gateways and boxes map into.
func (e *estate) intos() (out []netip.Prefix) {
	for _, k := range []design.Kind{design.KindGateway, design.KindBox} {
		for _, o := range e.d.Of(k) {
			for _, r := range design.RulesOf(o) {
				if r.Into.IsValid() && r.Into.Addr().Is4() {
					out = append(out, netip.PrefixFrom(r.Into.Addr(), 24).Masked())
				}
			}
		}
	}
	return out
}

// translated keeps the host part, slowly.
func translated(a netip.Addr, real, mapped netip.Prefix) netip.Addr {
	x, y := a.AsSlice(), mapped.Masked().Addr().AsSlice()
	for bit := real.Bits(); bit < a.BitLen(); bit++ {
		mask := byte(0x80 >> (bit % 8))
		y[bit/8] = y[bit/8]&^mask | x[bit/8]&mask
	}
	out, _ := netip.AddrFromSlice(y)
	return out
}

// differences sends random flows through a world and holds what happens against
// the walk.
func differences(t *testing.T, e *estate, name string, rendered bool, flows int) (out []string) {
	tables := route.Solve(e.d.On(e.side), status.Condition{})
	var files func(design.ID) (map[design.ID]string, []string)
	if rendered {
		files = func(g design.ID) (map[design.ID]string, []string) { return renderedFiles(t, tables, g) }
	}
	w := build(t, e, files)
	a := &answerers{got: map[string]seen{}}
	defer func() {
		for _, c := range a.close {
			c()
		}
	}()
	for _, host := range e.d.Of(design.KindEndpoint) {
		for _, at := range addressesOf(host) {
			require.NoError(t, a.listen(w.nodes[host.Parent], host.Parent, at))
		}
	}
	relays(t, w, tables)
	list := append(e.first, e.flows(flows)...)
	answered := make([]bool, len(list))
	var wg sync.WaitGroup
	for n, f := range list {
		wg.Go(func() { answered[n] = send(w.nodes[f.from.Place], f, patience) })
	}
	wg.Wait()
	for n, f := range list { // a busy machine may be late: what should have come asks again
		p := walk.Prove(tables, flowOf(f))
		for range 10 {
			if !answered[n] && delivers(e, p) && differs(e, tables, f, a.saw(f.id), false) != "" {
				answered[n] = send(w.nodes[f.from.Place], f, longest)
			}
		}
	}
	works := 0
	for n, f := range list {
		p := walk.Prove(tables, flowOf(f))
		if p.Works {
			works++
		}
		if says := differs(e, tables, f, a.saw(f.id), answered[n]); says != "" {
			out = append(
				out,
				fmt.Sprintf(
					"%s, %s: %s %s at %s dials %s port %d: %s", name, f.id, f.proto, e.d.Title(f.from.Place),
					f.from.Address, f.to, f.port, says,
				),
			)
		}
	}
	t.Logf("%d flows, %d work by their walks", len(list), works)
	return out
}

// differs says how what happened differs from all ways of a flow, empty if one is as it happened:
// nobody can say which of equal routes the kernel takes.
func differs(e *estate, tables *route.Tables, f flow, got seen, answered bool) (says string) {
	for way := range walk.Ways(tables, flowOf(f)) {
		if says = disagree(e, f, way, got, answered); says == "" {
			break
		}
	}
	return says
}

// disagree says how a proof and what happened differ, empty if they do not.
func disagree(e *estate, f flow, p walk.Proof, got seen, answered bool) string {
	last := lastStage(p)
	delivered := delivers(e, p)
	if delivered && last.Header.Src != last.Header.Dst && lives(e.d, last.At.ID, last.Header.Src) {
		return "" // the hosts of a place share a namespace, which takes no source that is its own
	}
	if len(e.d.Of(design.KindFilter)) > 0 && lives(e.d, f.from.Place, f.to) {
		return "" // and what stays within it passes no filter
	}
	works := p.Works && delivered
	if !works && !answered && p.Stop != nil && p.Stop.Way == "reply" && proxied(p) {
		return "" // who can not answer the caller does not dial on; the walk tells both ways of it
	}
	switch {
	case works != answered:
		return fmt.Sprintf(
			"the walk says works=%v (%s), and the answer came=%v (seen at %s %s)", works, stopWords(p), answered,
			e.d.Title(got.place), got.at,
		)
	case f.proto == "icmp":
		return "" // nobody notes what comes
	case f.proto == "tcp" && !answered:
		return "" // a handshake that fails does not tell how far it came
	case delivered != (got.place != ""):
		return fmt.Sprintf(
			"the walk says delivered=%v (%s), and it was seen at %q", delivered, stopWords(p), e.d.Title(got.place),
		)
	case delivered && (got.at != last.Header.Dst || !sameSource(e.d, got.from.Addr(), last.Header.Src) || homeOf(e.d,
		last.At.ID) != got.place):
		return fmt.Sprintf(
			"the walk delivers %s from %s at %s, and %s was seen from %s at %s", last.Header.Dst, last.Header.Src,
			last.At.Title, got.at, got.from.Addr(), e.d.Title(got.place),
		)
	}
	return ""
}

// sameSource allows for a link of several tunnels: each conversation takes one of them,
// and the inside address of that one; and for a pool, of which each takes one of the addresses.
func sameSource(d *design.Design, got, told netip.Addr) bool {
	pooled := slices.ContainsFunc(d.Of(design.KindGateway), func(g *design.Object) bool {
		return slices.ContainsFunc(design.RulesOf(g), func(r design.Rule) bool {
			return r.Does == design.FromPool && r.Into.Contains(got) && r.Into.Contains(told)
		})
	})
	return got == told || pooled || slices.ContainsFunc(d.Of(design.KindLink), func(l *design.Object) bool {
		of := func(a netip.Addr) bool {
			return slices.ContainsFunc(d.Inside(l.ID, design.KindTunnel), func(t *design.Object) bool {
				return slices.ContainsFunc(
					t.Body.(*design.Tunnel).Inside, func(p netip.Prefix) bool { return p.Addr() == a },
				)
			})
		}
		return of(got) && of(told)
	})
}

// proxied says that a listener has ended the caller's connection on the way.
func proxied(p walk.Proof) bool {
	return slices.ContainsFunc(p.Forward, func(s walk.Stage) bool { return s.Act == walk.Proxies })
}

// delivers says that the first packet of a proof comes to who lives at its address,
// at the port where everybody listens.
func delivers(e *estate, p walk.Proof) bool {
	last := lastStage(p)
	told := last.Header.DPort == port || last.Header.Proto == "icmp"
	return last.Act == walk.Delivers && told && lives(e.d, last.At.ID, last.Header.Dst)
}

func lastStage(p walk.Proof) walk.Stage {
	if len(p.Forward) == 0 {
		return walk.Stage{}
	}
	return p.Forward[len(p.Forward)-1]
}

func stopWords(p walk.Proof) string {
	if p.Stop == nil {
		return "no stop"
	}
	return string(p.Stop.Code) + ": " + p.Stop.Why
}

func homeOf(d *design.Design, id design.ID) design.ID {
	if o := d.Get(id); o != nil && o.Kind == design.KindEndpoint {
		return o.Parent
	}
	return id
}

// lives tells whether a host of a place has an address.
func lives(d *design.Design, place design.ID, a netip.Addr) bool {
	for _, h := range d.Inside(homeOf(d, place), design.KindEndpoint) {
		if addressesOf(h)[0] == a {
			return true
		}
	}
	return false
}

// renderedFiles are the commands that load what is handed over for a gateway, as
// it is, and the devices that it expects.
func renderedFiles(t *testing.T, tables *route.Tables, g design.ID) (map[design.ID]string, []string) {
	dir := t.TempDir()
	var out []string
	own := handover.Folder(tables.Design.Get(g).Name) + "/"
	for _, f := range handover.Render(tables, tables.Design.Party(g).ID, nil) {
		for _, load := range []struct{ suffix, with string }{
			{"nftables.d/dravin.nft", "nft -f "}, {"dravin/routes.sh", "sh "},
		} {
			if f.Path == own+load.suffix {
				path := fmt.Sprintf("%s/%s-%d", dir, g, len(out))
				require.NoError(t, os.WriteFile(path, []byte(f.Content), 0o600))
				out = append(out, load.with+path)
			}
		}
	}
	return handover.Devices(tables, g), out
}

// TestTruth holds walks against the kernel: random estates in namespaces, random
// flows. DRAVIN_TRUTH is how many estates of the first kind, which `make truth` sets, and
// DRAVIN_TRUTH_SEED the first of them.
func TestTruth(t *testing.T) {
	t.Parallel()
	needs(t, "ip", "nft")
	built, first := number("DRAVIN_TRUTH", 9), firstSeed
	for _, kind := range []struct {
		name     string
		rendered bool
		estates  int
	}{{"built", false, built}, {"with rendered files", true, built * 2 / 3}} {
		t.Run(kind.name, func(t *testing.T) {
			var all []string
			for n := range kind.estates {
				seed := first + n
				t.Run(fmt.Sprint(seed), func(t *testing.T) {
					all = append(
						all,
						differences(
							t, newEstate(uint64(seed), kind.rendered), fmt.Sprint(kind.name, " ", seed), kind.rendered,
							20,
						)...,
					)
				})
			}
			assert.Empty(t, all, "%d differences:\n%s", len(all), strings.Join(all, "\n"))
		})
	}
}
