package stage

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"dravin/core/design"
	"dravin/core/rehearsal"
)

// answering are the sockets of hosts: each answers what it is asked with who it is, and what it saw.
type answering struct {
	mu   sync.Mutex
	open map[string]io.Closer
}

func (a *answering) close() {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, c := range a.open {
		_ = c.Close()
	}
}

// only lets a host answer some services at all of its addresses, and nothing else any more.
func (a *answering) only(n *node, list []design.Service) error {
	asked := map[string]bool{}
	for _, s := range list {
		for _, at := range n.Addresses {
			asked[key(n, at, s)] = true
		}
	}
	a.mu.Lock()
	for k, c := range a.open {
		if strings.HasPrefix(k, n.Name+" ") && !asked[k] {
			_ = c.Close()
			delete(a.open, k)
		}
	}
	a.mu.Unlock()
	var errs []error
	for _, s := range list {
		if s.Port != 0 {
			errs = append(errs, a.answers(n, s))
		}
	}
	return errors.Join(errs...)
}

func key(n *node, at netip.Addr, s design.Service) string { return fmt.Sprint(n.Name, " ", at, " ", s) }

// answers lets a host answer a service at all of its addresses.
func (a *answering) answers(n *node, s design.Service) error {
	var errs []error
	for _, at := range n.Addresses {
		errs = append(errs, a.answersAt(n, at, s))
	}
	return errors.Join(errs...)
}

func (a *answering) answersAt(n *node, at netip.Addr, s design.Service) error {
	key := key(n, at, s)
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.open == nil {
		a.open = map[string]io.Closer{}
	}
	if a.open[key] != nil || s.Proto != "tcp" && s.Proto != "udp" {
		return nil
	}
	return n.within(func() error {
		local := netip.AddrPortFrom(at, s.Port)
		if s.Proto == "udp" {
			u, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(local))
			if err != nil {
				return err
			}
			a.open[key] = u
			go answerUDP(n, u, at)
			return nil
		}
		t, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(local))
		if err != nil {
			return err
		}
		a.open[key] = t
		go answerTCP(n, t)
		return nil
	})
}

// says is what a host answers: its name, whom it saw, under which address it was asked, and the largest segment of TCP
// of which it was told, in bytes.
func says(n *node, from, at netip.Addr, segment int) string {
	return fmt.Sprintf("%s %s %s %d\n", n.Name, from.Unmap(), at.Unmap(), segment)
}

// largest is the largest segment that a connection may send, in bytes; 0 if its kernel does not say.
func largest(c *net.TCPConn) (out int) {
	raw, err := c.SyscallConn()
	if err != nil {
		return 0
	}
	_ = raw.Control(func(fd uintptr) { out, _ = unix.GetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_MAXSEG) })
	return out
}

func answerUDP(n *node, u *net.UDPConn, at netip.Addr) {
	buf := make([]byte, 512)
	for {
		_, from, err := u.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		_, _ = u.WriteToUDPAddrPort([]byte(says(n, from.Addr(), at, 0)), from)
	}
}

func answerTCP(n *node, t *net.TCPListener) {
	for {
		c, err := t.AcceptTCP()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			_ = c.SetDeadline(time.Now().Add(longest))
			buf := make([]byte, 64)
			if _, err := c.Read(buf); err == nil {
				from, at := c.RemoteAddr().(*net.TCPAddr).AddrPort(), c.LocalAddr().(*net.TCPAddr).AddrPort()
				_, _ = io.WriteString(c, says(n, from.Addr(), at.Addr(), largest(c)))
			}
		}()
	}
}

// How long an answer may take: one that is not meant to come, and one that is.
const (
	patience = 700 * time.Millisecond
	longest  = 4 * time.Second
)

// send sends a flow and tells what came of it.
func send(ctx context.Context, n *node, f rehearsal.Flow, patience time.Duration) (out rehearsal.Sent) {
	if f.Service.Proto == "icmp" {
		seconds := fmt.Sprint(1 + int(patience.Seconds()))
		text, err := n.command(
			ctx, "ping", "-n", "-c", "1", "-W", seconds, "-I", f.From.Address.String(), f.To.String(),
		).CombinedOutput()
		out.Answered, out.Error = err == nil, lastWords(string(text), err)
		return out
	}
	err := n.within(func() error {
		c, err := dial(ctx, f, patience)
		if err != nil {
			return err
		}
		defer c.Close()
		_ = c.SetDeadline(time.Now().Add(patience))
		if _, err := io.WriteString(c, "who are you"); err != nil {
			return err
		}
		buf := make([]byte, 256)
		k, err := c.Read(buf)
		if err != nil {
			return err
		}
		var from, at string
		if _, err := fmt.Sscan(string(buf[:k]), &out.By, &from, &at, &out.Largest); err != nil {
			return err
		}
		out.Answered = true
		out.Source, _ = netip.ParseAddr(from)
		out.Asked, _ = netip.ParseAddr(at)
		return nil
	})
	if err != nil {
		out.Error = err.Error()
	}
	return out
}

func dial(ctx context.Context, f rehearsal.Flow, patience time.Duration) (net.Conn, error) {
	local := netip.AddrPortFrom(f.From.Address, 0)
	d := net.Dialer{
		Timeout: patience, LocalAddr: net.UDPAddrFromAddrPort(local),
		Control: func(_, _ string, c syscall.RawConn) error {
			return c.Control(func(fd uintptr) { _ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1) })
		},
	}
	if f.Service.Proto == "tcp" {
		d.LocalAddr = net.TCPAddrFromAddrPort(local)
	}
	return d.DialContext(ctx, f.Service.Proto, netip.AddrPortFrom(f.To, f.Service.Port).String())
}

// lastWords are what a program said last, where it failed.
func lastWords(text string, err error) string {
	if err == nil {
		return ""
	}
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}
