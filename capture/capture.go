// Package capture writes what one would see of a flow as a capture file, and reads captures: pcapng and pcap.
package capture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net"
	"net/netip"
	"time"
	"unicode/utf8"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"dravin/core/wire"
)

// step is how much later each packet is than the one before.
const step = 200 * time.Microsecond

// Write writes a capture as pcapng, with an interface for each that there is. begin is when the first packet is seen.
func Write(w io.Writer, c wire.Capture, begin time.Time) error {
	if len(c.Interfaces) == 0 {
		return errors.New("nothing can be captured of this flow: it meets no host and no box of one's own")
	}
	intf := func(i wire.Interface) pcapgo.NgInterface {
		return pcapgo.NgInterface{
			Name: i.At.Title + ": " + i.Name, Comment: i.Filter, LinkType: layers.LinkTypeEthernet, SnapLength: 262144,
			TimestampResolution: 9, OS: "made by a walk, not captured",
		}
	}
	options := pcapgo.NgWriterOptions{SectionInfo: pcapgo.NgSectionInfo{
		Application: "Dravin", Comment: "What a walk says will be seen.",
	}}
	ng, err := pcapgo.NewNgWriterInterface(w, intf(c.Interfaces[0]), options)
	if err != nil {
		return err
	}
	for _, i := range c.Interfaces[1:] {
		if _, err := ng.AddInterface(intf(i)); err != nil {
			return err
		}
	}
	for n, p := range c.Packets {
		frame, err := frameOf(c.Interfaces[p.Interface], p)
		if err != nil {
			return fmt.Errorf("packet %d: %w", n+1, err)
		}
		info := gopacket.CaptureInfo{
			Timestamp: begin.Add(time.Duration(n) * step), CaptureLength: len(frame), Length: len(frame),
			InterfaceIndex: p.Interface,
		}
		if err := ng.WritePacket(info, frame); err != nil {
			return err
		}
	}
	return ng.Flush()
}

// frameOf is a packet as it is on the wire.
func frameOf(i wire.Interface, p wire.Packet) ([]byte, error) {
	src, dst := p.Header.Src, p.Header.Dst
	if p.Outer != nil {
		src, dst = p.Outer.Src, p.Outer.Dst
	}
	kind := layers.EthernetTypeIPv4
	if src.Is6() {
		kind = layers.EthernetTypeIPv6
	}
	eth := &layers.Ethernet{SrcMAC: hardware(i.At.Title), DstMAC: hardware(i.Name), EthernetType: kind}
	if !p.Leaves {
		eth.SrcMAC, eth.DstMAC = eth.DstMAC, eth.SrcMAC
	}
	stack := []gopacket.SerializableLayer{eth}
	if i.VLAN != 0 {
		eth.EthernetType = layers.EthernetTypeDot1Q
		stack = append(stack, &layers.Dot1Q{VLANIdentifier: i.VLAN, Type: kind})
	}
	upper, proto, err := transport(p, src.Is6())
	if err != nil {
		return nil, err
	}
	network := networkLayer(src, dst, proto)
	for _, l := range upper {
		switch l := l.(type) {
		case *layers.TCP:
			_ = l.SetNetworkLayerForChecksum(network.(gopacket.NetworkLayer))
		case *layers.UDP:
			_ = l.SetNetworkLayerForChecksum(network.(gopacket.NetworkLayer))
		case *layers.ICMPv6:
			_ = l.SetNetworkLayerForChecksum(network.(gopacket.NetworkLayer))
		}
	}
	buf := gopacket.NewSerializeBuffer()
	err = gopacket.SerializeLayers(
		buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, append(
			append(stack, network), upper...,
		)...,
	)
	return buf.Bytes(), err
}

func networkLayer(src, dst netip.Addr, proto layers.IPProtocol) gopacket.SerializableLayer {
	if src.Is6() {
		return &layers.IPv6{
			Version: 6, NextHeader: proto, HopLimit: 64, SrcIP: net.IP(src.AsSlice()), DstIP: net.IP(dst.AsSlice()),
		}
	}
	return &layers.IPv4{
		Version: 4, TTL: 64, Protocol: proto, Flags: layers.IPv4DontFragment, SrcIP: net.IP(src.AsSlice()),
		DstIP: net.IP(dst.AsSlice()),
	}
}

// espLength is how many bytes stand for what is encrypted.
const espLength = 88

// transport is what is above IP.
func transport(p wire.Packet, six bool) ([]gopacket.SerializableLayer, layers.IPProtocol, error) {
	h := p.Header
	switch {
	case p.Outer != nil:
		esp := make([]byte, 8+espLength)
		binary.BigEndian.PutUint32(esp, 0xc0de0000|uint32(p.Interface)) // the SPI, made up
		binary.BigEndian.PutUint32(esp[4:], 1)
		if p.Outer.UDP {
			return []gopacket.SerializableLayer{&layers.UDP{SrcPort: 4500, DstPort: 4500}, gopacket.Payload(esp)},
				layers.IPProtocolUDP, nil
		}
		return []gopacket.SerializableLayer{gopacket.Payload(esp)}, layers.IPProtocolESP, nil
	case h.Proto == "tcp":
		return []gopacket.SerializableLayer{&layers.TCP{
			SrcPort: layers.TCPPort(h.SPort), DstPort: layers.TCPPort(h.DPort), Seq: sequence(p), Ack: acknowledges(p),
			SYN: p.What != "ACK", ACK: p.What != "SYN", Window: 64240,
		}}, layers.IPProtocolTCP, nil
	case h.Proto == "udp":
		return []gopacket.SerializableLayer{
			&layers.UDP{SrcPort: layers.UDPPort(h.SPort), DstPort: layers.UDPPort(h.DPort)}, gopacket.Payload("dravin"),
		}, layers.IPProtocolUDP, nil
	case h.Proto == "icmp" && six:
		kind := layers.CreateICMPv6TypeCode(layers.ICMPv6TypeEchoRequest, 0)
		if p.Way == "back" {
			kind = layers.CreateICMPv6TypeCode(layers.ICMPv6TypeEchoReply, 0)
		}
		return []gopacket.SerializableLayer{
			&layers.ICMPv6{TypeCode: kind}, &layers.ICMPv6Echo{Identifier: 1, SeqNumber: 1},
		}, layers.IPProtocolICMPv6, nil
	case h.Proto == "icmp":
		kind := layers.CreateICMPv4TypeCode(layers.ICMPv4TypeEchoRequest, 0)
		if p.Way == "back" {
			kind = layers.CreateICMPv4TypeCode(layers.ICMPv4TypeEchoReply, 0)
		}
		return []gopacket.SerializableLayer{&layers.ICMPv4{TypeCode: kind, Id: 1, Seq: 1}}, layers.IPProtocolICMPv4, nil
	}
	return nil, 0, fmt.Errorf("%s can not be written as a packet", h.Proto)
}

// sequence is the sequence number of a packet of a handshake (RFC 9293 section 3.5).
func sequence(p wire.Packet) uint32 {
	return map[string]uint32{"SYN": 1000, "SYN ACK": 5000, "ACK": 1001}[p.What]
}

func acknowledges(p wire.Packet) uint32 {
	return map[string]uint32{"SYN ACK": 1001, "ACK": 5001}[p.What]
}

// hardware is a locally administered address for a name.
func hardware(name string) net.HardwareAddr {
	h := fnv.New32a()
	_, _ = h.Write([]byte(name))
	out := net.HardwareAddr{0x02, 0xd7, 0, 0, 0, 0}
	binary.BigEndian.PutUint32(out[2:], h.Sum32())
	return out
}

// Most is how many packets of a capture are looked at, and MostBytes how large its file may be.
const (
	Most      = 100_000
	MostBytes = 64 << 20
)

// Read reads a capture, pcapng or pcap: what its packets are, with the names of its interfaces.
func Read(r io.Reader) (wire.Seen, error) {
	out := wire.Seen{
		Kind: "capture", Packets: []wire.Observed{}, Lines: []wire.Line{}, Entries: []wire.Entry{},
		Hops: []wire.TracedHop{}, Stands: []wire.Stands{},
	}
	var head bytes.Buffer
	if _, err := io.CopyN(&head, r, 4); err != nil {
		return out, errors.New("it is no capture: it has less than four bytes")
	}
	all := io.MultiReader(&head, r)
	var next func() ([]byte, gopacket.CaptureInfo, error)
	var link func(n int) (layers.LinkType, string)
	if binary.LittleEndian.Uint32(head.Bytes()) == sectionHeader {
		ng, err := pcapgo.NewNgReader(all, pcapgo.NgReaderOptions{WantMixedLinkType: true})
		if err != nil {
			return out, fmt.Errorf("it begins as pcapng, and can not be read: %w", err)
		}
		next = ng.ReadPacketData
		link = func(n int) (layers.LinkType, string) {
			i, err := ng.Interface(n)
			if err != nil {
				return layers.LinkTypeEthernet, ""
			}
			return i.LinkType, i.Name
		}
	} else {
		old, err := pcapgo.NewReader(all)
		if err != nil {
			return out, fmt.Errorf("it is neither pcapng nor pcap: %w; capture with -w, or save as pcapng", err)
		}
		next = old.ReadPacketData
		link = func(int) (layers.LinkType, string) { return old.LinkType(), "" }
	}
	for range Most {
		data, info, err := next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return out, fmt.Errorf("packet %d can not be read: %w", len(out.Packets)+1, err)
		}
		kind, name := link(info.InterfaceIndex)
		if o, ok := observed(gopacket.NewPacket(data, kind, gopacket.NoCopy)); ok {
			o.Interface = name
			out.Packets = append(out.Packets, o)
		}
	}
	if len(out.Packets) == 0 {
		return out, errors.New("it holds no packet of IP")
	}
	return out, nil
}

// observed is what of a packet can be held against a walk.
func observed(p gopacket.Packet) (o wire.Observed, ok bool) {
	switch ip := p.NetworkLayer().(type) {
	case *layers.IPv4:
		o.Header.Src, _ = netip.AddrFromSlice(ip.SrcIP.To4())
		o.Header.Dst, _ = netip.AddrFromSlice(ip.DstIP.To4())
		o.ESP = ip.Protocol == layers.IPProtocolESP
	case *layers.IPv6:
		o.Header.Src, _ = netip.AddrFromSlice(ip.SrcIP)
		o.Header.Dst, _ = netip.AddrFromSlice(ip.DstIP)
		o.ESP = ip.NextHeader == layers.IPProtocolESP
	default:
		return o, false
	}
	for _, l := range p.Layers() {
		named(&o, l)
	}
	return o, true
}

func named(o *wire.Observed, l gopacket.Layer) {
	h := &o.Header
	switch l := l.(type) {
	case *layers.TCP:
		h.Proto, h.SPort, h.DPort = "tcp", uint16(l.SrcPort), uint16(l.DstPort)
		o.What = tcpWord(l)
	case *layers.UDP:
		h.Proto, h.SPort, h.DPort = "udp", uint16(l.SrcPort), uint16(l.DstPort)
		o.What, o.ESP = "datagram", o.ESP || l.SrcPort == 4500 && l.DstPort == 4500
	case *layers.ICMPv4:
		h.Proto, o.What = "icmp", echoWord(l.TypeCode.Type(), layers.ICMPv4TypeEchoRequest, layers.ICMPv4TypeEchoReply)
	case *layers.ICMPv6:
		h.Proto, o.What = "icmp", echoWord(l.TypeCode.Type(), layers.ICMPv6TypeEchoRequest, layers.ICMPv6TypeEchoReply)
	}
}

func tcpWord(l *layers.TCP) string {
	switch {
	case l.RST:
		return "RST"
	case l.SYN && l.ACK:
		return "SYN ACK"
	case l.SYN:
		return "SYN"
	}
	return "ACK"
}

func echoWord(kind, request, reply uint8) string {
	switch kind {
	case request:
		return "echo request"
	case reply:
		return "echo reply"
	}
	return "error"
}

// ReadAny reads a capture, or the text that a person has copied from a terminal.
func ReadAny(file []byte) (wire.Seen, error) {
	if len(file) >= 4 {
		switch binary.LittleEndian.Uint32(file) {
		case sectionHeader, 0xa1b2c3d4, 0xd4c3b2a1, 0xa1b23c4d, 0x4d3cb2a1:
			if err := intact(file); err != nil {
				return wire.Seen{}, err
			}
			return Read(bytes.NewReader(file))
		}
	}
	if !utf8.Valid(file) {
		return wire.Seen{}, errors.New("it is neither a capture (pcapng or pcap) nor text")
	}
	return wire.ReadText(string(file))
}
