package lab_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/walk"
	"dravin/core/wire"
	"dravin/lab"
)

// sighting is a packet as the kernel shows it to who captures at a node.
type sighting struct {
	node   design.ID
	at     time.Duration
	leaves bool
	what   string
	header walk.Header
}

// watchers capture at nodes, all of them with the kernel's own time.
type watchers struct {
	mu   sync.Mutex
	all  []sighting
	stop []func()
}

func (x *watchers) watch(n *lab.Node, id design.ID) error {
	return n.Do(func() error {
		fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW, unix.ETH_P_ALL<<8)
		if err != nil {
			return err
		}
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1)
		_ = unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 50_000})
		var wg sync.WaitGroup
		ended := make(chan struct{})
		wg.Go(func() { x.read(fd, id, ended) })
		x.stop = append(x.stop, func() { close(ended); wg.Wait(); _ = unix.Close(fd) })
		return nil
	})
}

func (x *watchers) read(fd int, id design.ID, ended chan struct{}) {
	buf, oob := make([]byte, 2048), make([]byte, 128)
	for {
		select {
		case <-ended:
			return
		default:
		}
		n, k, _, from, err := unix.Recvmsg(fd, buf, oob, 0)
		if err != nil {
			continue // nothing came within the time
		}
		link, ok := from.(*unix.SockaddrLinklayer)
		if !ok || link.Ifindex == 1 {
			continue
		}
		s := sighting{node: id, leaves: link.Pkttype == unix.PACKET_OUTGOING, at: stamp(oob[:k])}
		if s.dissect(buf[:n]) {
			x.mu.Lock()
			x.all = append(x.all, s)
			x.mu.Unlock()
		}
	}
}

func stamp(oob []byte) time.Duration {
	list, _ := unix.ParseSocketControlMessage(oob)
	for _, m := range list {
		if m.Header.Type == unix.SCM_TIMESTAMPNS && len(m.Data) >= 16 {
			return time.Duration(binary.NativeEndian.Uint64(m.Data))*time.Second +
				time.Duration(binary.NativeEndian.Uint64(m.Data[8:]))
		}
	}
	return 0
}

// dissect takes what a walk speaks of out of a frame; false for what is no datagram and opens no connection.
func (s *sighting) dissect(frame []byte) bool {
	p := gopacket.NewPacket(frame, layers.LinkTypeEthernet, gopacket.NoCopy)
	switch ip := p.NetworkLayer().(type) {
	case *layers.IPv4:
		s.header.Src, _ = netip.AddrFromSlice(ip.SrcIP.To4())
		s.header.Dst, _ = netip.AddrFromSlice(ip.DstIP.To4())
	case *layers.IPv6:
		s.header.Src, _ = netip.AddrFromSlice(ip.SrcIP)
		s.header.Dst, _ = netip.AddrFromSlice(ip.DstIP)
	default:
		return false
	}
	switch l := p.TransportLayer().(type) {
	case *layers.TCP:
		s.header.Proto, s.header.SPort, s.header.DPort = "tcp", uint16(l.SrcPort), uint16(l.DstPort)
		s.what = "SYN"
		if l.ACK {
			s.what = "SYN ACK"
		}
		return l.SYN && !l.RST
	case *layers.UDP:
		s.header.Proto, s.header.SPort, s.header.DPort = "udp", uint16(l.SrcPort), uint16(l.DstPort)
		s.what = "datagram"
		return true
	}
	return false
}

// words are a sighting as it is compared: the client's port is any.
func sightWords(d *design.Design, node design.ID, leaves bool, what string, h walk.Header, back bool) string {
	port := h.DPort
	if back {
		port = h.SPort
	}
	return fmt.Sprintf("%s leaves=%v %s %s %s > %s service %d", d.Path(node), leaves, what, h.Proto, h.Src, h.Dst, port)
}

// expectedSights are what a capture that Dravin writes has at the nodes of hosts and of boxes of one's own, but for the
// last packet of a handshake, which a host answers nothing to.
func expectedSights(d *design.Design, tables *route.Tables, p walk.Proof) (out []string) {
	c := wire.Of(tables, p)
	for _, x := range c.Packets {
		if x.Outer != nil || x.What == "ACK" {
			continue // wires stand for tunnels here
		}
		at := homeOf(d, c.Interfaces[x.Interface].At.ID)
		line := sightWords(d, at, x.Leaves, x.What, x.Header, x.Way == "back")
		// Nobody captures behind inner routers.
		if d.Get(at).Kind != design.KindInnerRoute && !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	return out
}

// plainly reports whether a walk can be compared packet for packet here: nothing but routes decides what enters its
// links, since selectors are rules that send packets past the places where one captures, no relay is on it, and it
// leaves its LAN.
func plainly(tables *route.Tables, p walk.Proof) bool {
	d := tables.Design
	if s := p.Stop; s != nil && s.Decided != nil && !tables.Filter(s.Decided.Filter).Manner.Own {
		return false // a cloud drops it before its host, which here has the cloud's filter itself
	}
	for _, s := range slices.Concat(p.Forward, p.Reply) {
		if s.Act == walk.Selects || s.Act == walk.Proxies || topology.Selects(d.Get(s.At.ID)) {
			return false
		}
		if o := d.Get(s.At.ID); o == nil || o.Kind == design.KindInnerRoute {
			return false // an inner router is no box of the design's
		}
	}
	return len(p.Forward) > 2
}

// outOfNowhere reports whether a packet is lost at a gateway to which a world gives a way out, since it has selectors,
// and the design none.
func outOfNowhere(tables *route.Tables, p walk.Proof) bool {
	if p.Stop == nil {
		return false
	}
	at := tables.Point(p.Stop.At.ID)
	return at != nil && at.Kind == design.KindGateway && len(at.Selectors) > 0
}

// TestTruthOfSights holds captures that Dravin writes against captures that are taken: packet for packet, as to
// addresses, ports and the order of places.
func TestTruthOfSights(t *testing.T) {
	t.Parallel()
	needs(t, "ip", "nft")
	compared := 0
	var wrong []string
	for n := range number("DRAVIN_TRUTH_SIGHTS", 2) {
		e := newEstate(uint64(n+firstSeed), false)
		tables := route.Solve(e.d.On(e.side), status.Condition{})
		w := build(t, e, nil)
		a := listening(t, w, e)
		x := &watchers{}
		for _, k := range []design.Kind{design.KindGateway, design.KindLAN, design.KindSubnet} {
			for _, o := range e.d.Of(k) {
				if w.nodes[o.ID] != nil && (k != design.KindGateway || e.d.Party(o.ID).Kind == design.KindSite) {
					require.NoError(t, x.watch(w.nodes[o.ID], o.ID))
				}
			}
		}
		for _, f := range e.flows(20) {
			p := walk.Prove(tables, flowOf(f))
			again := f.proto == "tcp" && p.Stop != nil && p.Stop.Way == "reply" // its answer is sent again, for long
			if again || lives(e.d, f.from.Place, f.to) || !plainly(tables, p) || outOfNowhere(tables, p) || f.proto == "icmp" ||
				len(slices.Collect(walk.Ways(tables, flowOf(f)))) > 1 || !sole(e, p) {
				continue
			}
			if says := x.differs(e, w, tables, f, p); says != "" {
				wrong = append(wrong, fmt.Sprintf(
					"estate %d: %s %s > %s, %s:\n%s", n, f.proto, f.from.Address, f.to, stopWords(p), says,
				))
			}
			compared++
		}
		for _, stop := range x.stop {
			stop()
		}
		a.end()
	}
	t.Logf("%d flows compared", compared)
	assert.Positive(t, compared)
	assert.Empty(t, wrong, strings.Join(wrong, "\n"))
}

// sole reports whether the packet of a proof comes to somebody, and not to a namespace that has the address for
// another.
func sole(e *estate, p walk.Proof) bool {
	last := lastStage(p)
	return last.Act != walk.Delivers || delivers(e, p) && !lives(e.d, last.At.ID, last.Header.Src)
}

// differs says how what is captured of a flow differs from what Dravin writes.
func (x *watchers) differs(e *estate, w *world, tables *route.Tables, f flow, p walk.Proof) string {
	expected := expectedSights(e.d, tables, p)
	c := wire.Of(tables, p)
	strays := len(c.Packets) > 0 && c.Interfaces[c.Packets[len(c.Packets)-1].Interface].What == "outside"
	var got []string
	for range 5 {
		x.mu.Lock()
		x.all = nil
		x.mu.Unlock()
		send(w.nodes[f.from.Place], f, patience)
		time.Sleep(60 * time.Millisecond)
		x.mu.Lock()
		got = x.words(e.d, f)
		x.mu.Unlock()
		if slices.Equal(got, expected) || strays && slices.Equal(got, expected[:len(expected)-1]) {
			return "" // most gateways of worlds have no way out by which something could stray
		}
	}
	return "written:\n  " + strings.Join(expected, "\n  ") + "\ntaken:\n  " + strings.Join(got, "\n  ")
}

// words are what was captured, in the order of time, each packet at each place once: what is sent again is left out.
func (x *watchers) words(d *design.Design, f flow) (out []string) {
	slices.SortStableFunc(x.all, func(a, b sighting) int { return int(a.at - b.at) })
	for _, s := range x.all {
		back := s.what == "SYN ACK" || s.header.Proto == "udp" && s.header.SPort == f.port
		line := sightWords(d, s.node, s.leaves, s.what, s.header, back)
		if s.header.Proto == f.proto && !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	return out
}

// listening are answerers at all hosts of a world.
func listening(t *testing.T, w *world, e *estate) *answerers {
	a := &answerers{got: map[string]seen{}}
	for _, host := range e.d.Of(design.KindEndpoint) {
		for _, at := range addressesOf(host) {
			require.NoError(t, a.listen(w.nodes[host.Parent], host.Parent, at))
		}
	}
	return a
}

func (a *answerers) end() {
	for _, c := range a.close {
		c()
	}
}

// TestTruthOfSizes sends packets of 1,500 bytes that may not be divided through tunnels that take less, and holds what
// becomes of them against what is measured: whether they fit, whether who sent them is told, and what.
func TestTruthOfSizes(t *testing.T) {
	t.Parallel()
	needs(t, "ip", "nft")
	compared := map[string]int{}
	var wrong []string
	count := number("DRAVIN_TRUTH_SIZES", 3)
	for n := 0; n < count || n < 5*count && compared["told"] == 0; n++ { // of few no sender may be told
		e := newEstate(uint64(n+firstSeed), false)
		tables := route.Solve(e.d.On(e.side), status.Condition{})
		w := build(t, e, nil)
		narrow(t, w, e, tables)
		a := listening(t, w, e)
		for _, f := range e.flows(40) {
			if f.proto = "udp"; f.port != port {
				continue
			}
			p := walk.Prove(tables, flowOf(f))
			if !plainly(tables, p) || !delivers(e, p) || !sole(e, p) ||
				len(slices.Collect(walk.Ways(tables, flowOf(f)))) > 1 {
				continue
			}
			m := walk.MeasureOf(tables, flowOf(f), p).There
			kind, says := e.tooLarge(w, a, f, m)
			compared[kind]++
			if says != "" {
				wrong = append(
					wrong, fmt.Sprintf("estate %d: %s > %s: %s (%s)", n, f.from.Address, f.to, says, m.Large.Why),
				)
			}
		}
		a.end()
	}
	t.Logf("%v", compared)
	assert.Positive(t, compared["told"])
	assert.Empty(t, wrong, strings.Join(wrong, "\n"))
}

// narrow gives the wires that stand for tunnels the MTU that fits inside.
func narrow(t *testing.T, w *world, e *estate, tables *route.Tables) {
	for key, device := range w.devices {
		o := e.d.Get(key[0])
		if o == nil || o.Kind != design.KindTunnel || topology.Selects(e.d.Get(o.Parent)) {
			continue
		}
		if fits, _ := walk.Inside(tables, o.ID); fits > 0 {
			require.NoError(t, w.nodes[key[1]].Script(fmt.Sprintf("ip link set %s mtu %d", device, fits)))
		}
	}
}

// tooLarge sends a large packet twice: of one that does not fit the second is refused at once, if its sender was told.
func (e *estate) tooLarge(w *world, a *answerers, f flow, m walk.Way) (kind, says string) {
	told, arrived := 0, false
	for range 4 { // a neighbour may have to be found first
		_ = w.nodes[f.from.Place].Do(func() error { told, arrived = sendLarge(f, a); return nil })
		if told > 0 || arrived {
			break
		}
	}
	switch {
	case m.Large.Fits && !arrived:
		return "fits", fmt.Sprintf("it should fit, and does not arrive; told %d", told)
	case m.Large.Fits:
		return "fits", ""
	case arrived:
		return "large", fmt.Sprintf("it arrives, and only %d bytes should fit", m.MTU)
	}
	cloud := e.d.Party(m.Large.At.ID).Kind != design.KindSite
	switch {
	case cloud:
		return "cloud", ""
	case m.Large.Home != (told > 0):
		return "told", fmt.Sprintf("home=%v, and the sender was told %d", m.Large.Home, told)
	case told > 0 && told != firstNarrow(m):
		return "told", fmt.Sprintf("the sender was told %d, and %d fit", told, firstNarrow(m))
	}
	return map[bool]string{true: "told", false: "lost"}[told > 0], ""
}

func firstNarrow(m walk.Way) int {
	for _, l := range m.Legs {
		if l.MTU < 1500 {
			return l.MTU
		}
	}
	return 1500
}

// sendLarge sends 1,500 bytes that may not be divided, in the node that it runs in; told is the MTU that the kernel
// has heard of for the path since, 0 if it has heard of none.
func sendLarge(f flow, a *answerers) (told int, arrived bool) {
	six := f.to.Is6()
	set := func(_, _ string, c syscall.RawConn) error {
		return c.Control(func(fd uintptr) {
			if six {
				_ = unix.SetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_MTU_DISCOVER, unix.IPV6_PMTUDISC_DO)
				_ = unix.SetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_DONTFRAG, 1)
			} else {
				_ = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, unix.IP_PMTUDISC_DO)
			}
		})
	}
	d := net.Dialer{Control: set, LocalAddr: net.UDPAddrFromAddrPort(netip.AddrPortFrom(f.from.Address, 0))}
	c, err := d.DialContext(context.Background(), "udp", netip.AddrPortFrom(f.to, f.port).String())
	if err != nil {
		return 0, false
	}
	defer c.Close()
	size := 1500 - 28
	if six {
		size = 1500 - 48
	}
	id := f.id + "-large"
	payload := []byte(id + strings.Repeat(" ", size-len(id)))
	for range 3 {
		_, _ = c.Write(payload)
		time.Sleep(80 * time.Millisecond)
	}
	if raw, err := c.(*net.UDPConn).SyscallConn(); err == nil {
		_ = raw.Control(func(fd uintptr) {
			if six {
				told, _ = unix.GetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_MTU)
			} else {
				told, _ = unix.GetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_MTU)
			}
		})
	}
	if told >= 1500 {
		told = 0
	}
	return told, a.saw(id).place != ""
}
