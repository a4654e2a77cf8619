package stage

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"golang.org/x/sys/unix"

	"dravin/core/rehearsal"
)

// mostCaptured is how many flows are captured at most, those that differ before the others.
const mostCaptured = 24

// sight is a frame as a kernel shows it to who captures at a device of a node.
type sight struct {
	at    time.Time
	where string // the node's title and the device, as captures name it
	frame []byte
}

// captures sends some flows once more, one by one, and captures at every device that they may meet.
func (p *play) captures(ctx context.Context, flows []rehearsal.Flow, checks []rehearsal.Check) {
	if !p.options.Captures {
		return
	}
	var order []int
	for _, differs := range []bool{true, false} {
		for n, f := range flows {
			if checks[n].Same != differs && (differs || f.Intent != "") {
				order = append(order, n)
			}
		}
	}
	p.say(Event{Kind: StepEvent, Name: "capturing", Of: min(len(order), mostCaptured)})
	for _, n := range order[:min(len(order), mostCaptured)] {
		f := flows[n]
		file, err := p.captured(ctx, f, checks[n].Same)
		if err != nil || ctx.Err() != nil {
			p.say(Event{Kind: LogEvent, Name: f.Title, Text: fmt.Sprint("it was not captured: ", err)})
			continue
		}
		p.report.Captures = append(p.report.Captures, rehearsal.Captured{
			Flow: f.Title, From: p.titleOf(f.Node), To: f.To.String(), Service: f.Service.String(), File: file,
		})
	}
}

func (p *play) titleOf(node string) string { return p.node(node).Title }

// captured is the capture of one flow, as pcapng. Of one that fares as it is proven, what others send at the same time
// is left out; of another nobody knows what belongs to it.
func (p *play) captured(ctx context.Context, f rehearsal.Flow, same bool) ([]byte, error) {
	var mu sync.Mutex
	var all []sight
	listening, end := context.WithCancel(ctx)
	defer end()
	var wg sync.WaitGroup
	for _, n := range p.nodes {
		if n.Role == rehearsal.Switches || n.Role == rehearsal.Wires || n.Role == rehearsal.World {
			continue
		}
		fd, devices, err := n.listensAll()
		if err != nil {
			return nil, err
		}
		wg.Go(func() {
			defer unix.Close(fd)
			n.sees(listening, fd, devices, func(s sight) {
				mu.Lock()
				defer mu.Unlock()
				all = append(all, s)
			})
		})
	}
	send(ctx, p.node(f.Node), f, patience)
	select {
	case <-ctx.Done():
	case <-time.After(100 * time.Millisecond):
	}
	end()
	wg.Wait()
	known := addressesOf(f)
	all = slices.DeleteFunc(all, func(s sight) bool { return !of(s.frame, f) || same && !between(s.frame, known) })
	slices.SortStableFunc(all, func(a, b sight) int { return a.at.Compare(b.at) })
	return pcapng(all)
}

// listensAll is a socket that sees all frames of a node, and the names of its devices.
func (n *node) listensAll() (fd int, devices map[int]string, err error) {
	err = n.within(func() error {
		list, err := net.Interfaces()
		if err != nil {
			return err
		}
		devices = map[int]string{}
		for _, i := range list {
			devices[i.Index] = i.Name
		}
		fd, err = unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, int(htons(unix.ETH_P_ALL)))
		if err != nil {
			return err
		}
		return unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 50_000})
	})
	return fd, devices, err
}

func htons(v uint16) uint16 { return v<<8 | v>>8 }

func (n *node) sees(ctx context.Context, fd int, devices map[int]string, tell func(sight)) {
	buf := make([]byte, 4096)
	for ctx.Err() == nil {
		k, from, err := unix.Recvfrom(fd, buf, 0)
		if err != nil {
			continue // nothing came within the time
		}
		if l, ok := from.(*unix.SockaddrLinklayer); ok && devices[l.Ifindex] != "lo" {
			tell(sight{time.Now(), n.Title + ": " + devices[l.Ifindex], slices.Clone(buf[:k])})
		}
	}
}

// addressesOf are all addresses that a flow has on its way.
func addressesOf(f rehearsal.Flow) []netip.Addr {
	out := []netip.Addr{f.From.Address, f.To}
	for _, s := range slices.Concat(f.Proof.Forward, f.Proof.Reply) {
		out = append(out, s.Header.Src, s.Header.Dst)
	}
	return out
}

// between reports whether both ends of a frame are among some addresses.
func between(frame []byte, known []netip.Addr) bool {
	packet := gopacket.NewPacket(frame, layers.LinkTypeEthernet, gopacket.NoCopy)
	if packet.NetworkLayer() == nil {
		return false
	}
	src, dst := packet.NetworkLayer().NetworkFlow().Endpoints()
	a, _ := netip.AddrFromSlice(src.Raw())
	b, _ := netip.AddrFromSlice(dst.Raw())
	return slices.Contains(known, a) && slices.Contains(known, b)
}

// of reports whether a frame may belong to a flow: it carries its protocol to or from its port, whatever its
// addresses are on the way.
func of(frame []byte, f rehearsal.Flow) bool {
	packet := gopacket.NewPacket(frame, layers.LinkTypeEthernet, gopacket.NoCopy)
	switch t := packet.TransportLayer().(type) {
	case *layers.TCP:
		return f.Service.Proto == "tcp" && (uint16(t.DstPort) == f.Service.Port || uint16(t.SrcPort) == f.Service.Port)
	case *layers.UDP:
		return f.Service.Proto == "udp" && (uint16(t.DstPort) == f.Service.Port || uint16(t.SrcPort) == f.Service.Port)
	}
	if l := packet.Layer(layers.LayerTypeICMPv6); l != nil {
		kind := l.(*layers.ICMPv6).TypeCode.Type()
		return f.Service.Proto == "icmp" && kind < layers.ICMPv6TypeRouterSolicitation
	}
	return f.Service.Proto == "icmp" && packet.Layer(layers.LayerTypeICMPv4) != nil
}

// pcapng is a capture file with an interface for each device.
func pcapng(all []sight) ([]byte, error) {
	var out bytes.Buffer
	var names []string
	for _, s := range all {
		if !slices.Contains(names, s.where) {
			names = append(names, s.where)
		}
	}
	if len(names) == 0 {
		names = []string{"nothing was seen"}
	}
	device := func(name string) pcapgo.NgInterface {
		return pcapgo.NgInterface{Name: name, LinkType: layers.LinkTypeEthernet, SnapLength: 4096, TimestampResolution: 9}
	}
	ng, err := pcapgo.NewNgWriterInterface(&out, device(names[0]), pcapgo.NgWriterOptions{
		SectionInfo: pcapgo.NgSectionInfo{Application: "Dravin", Comment: "Captured in a rehearsal."},
	})
	if err != nil {
		return nil, err
	}
	for _, name := range names[1:] {
		if _, err := ng.AddInterface(device(name)); err != nil {
			return nil, err
		}
	}
	for _, s := range all {
		info := gopacket.CaptureInfo{
			Timestamp: s.at, CaptureLength: len(s.frame), Length: len(s.frame),
			InterfaceIndex: slices.Index(names, s.where),
		}
		if err := ng.WritePacket(info, s.frame); err != nil {
			return nil, err
		}
	}
	err = ng.Flush()
	return out.Bytes(), err
}
