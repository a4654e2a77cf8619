package stage

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"syscall"
	"time"

	"github.com/strongswan/govici/vici"
)

// child is a child SA as a daemon holds it (RFC 7296 section 1.3).
type child struct {
	in, out       string // SPIs
	local, remote []netip.Prefix
}

// asking bounds how long a daemon may take to answer.
const asking = 3 * time.Second

// gone reports whether a daemon that was asked does not run.
func gone(err error) bool {
	return errors.Is(err, syscall.ENOENT) || errors.Is(err, syscall.ECONNREFUSED)
}

// children are the installed child SAs of a node's IPsec daemon by the name of their connection.
func (n *node) children() (map[string][]child, error) {
	s, err := vici.NewSession(vici.WithAddr("unix", n.root("/run/charon.vici")))
	if err != nil {
		return nil, err
	}
	defer s.Close()
	out := map[string][]child{}
	list, err := s.StreamedCommandRequest("list-sas", "list-sa", nil)
	if err != nil {
		return nil, err
	}
	for _, m := range list {
		for _, name := range m.Keys() {
			ike, ok := m.Get(name).(*vici.Message)
			if !ok {
				continue
			}
			all, _ := ike.Get("child-sas").(*vici.Message)
			if all == nil || ike.Get("state") != "ESTABLISHED" {
				continue
			}
			for _, key := range all.Keys() {
				if c, ok := all.Get(key).(*vici.Message); ok && c.Get("state") == "INSTALLED" {
					out[name] = append(out[name], child{
						in: fmt.Sprint(c.Get("spi-in")), out: fmt.Sprint(c.Get("spi-out")),
						local: selectors(c.Get("local-ts")), remote: selectors(c.Get("remote-ts")),
					})
				}
			}
		}
	}
	return out, nil
}

func selectors(v any) (out []netip.Prefix) {
	list, _ := v.([]string)
	for _, text := range list {
		text, _, _ = strings.Cut(text, "[")
		if p, err := netip.ParsePrefix(text); err == nil {
			out = append(out, p)
		} else if a, err := netip.ParseAddr(text); err == nil {
			out = append(out, netip.PrefixFrom(a, a.BitLen()))
		}
	}
	return out
}

// sessions are the states of a node's BGP sessions by protocol (RFC 4271 section 8.2.2).
func (n *node) sessions() (map[string]string, error) {
	lines, err := n.asksBird("show protocols")
	out := map[string]string{}
	for _, l := range lines {
		if f := strings.Fields(l); len(f) >= 4 && f[1] == "BGP" {
			out[f[0]] = f[len(f)-1]
			if f[3] == "up" && f[len(f)-1] == "Established" {
				out[f[0]] = established
			}
		}
	}
	return out, err
}

const established = "Established"

// asksBird asks a node's BGP daemon by its socket.
func (n *node) asksBird(question string) (out []string, err error) {
	c, err := net.DialTimeout("unix", n.root("/run/bird/bird.ctl"), asking)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(asking))
	if _, err := fmt.Fprintln(c, question); err != nil {
		return nil, err
	}
	scan := bufio.NewScanner(c)
	for scan.Scan() {
		// A line is a code of four digits, then a hyphen if more follow, or a blank at a line like the one before.
		line := scan.Text()
		switch {
		case strings.HasPrefix(line, "0001"):
		case strings.HasPrefix(line, " "):
			out = append(out, line[1:])
		case len(line) > 4 && line[4] == '-':
			out = append(out, line[5:])
		default:
			return out, nil
		}
	}
	return out, scan.Err()
}
