package design

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Traffic is what a filter rule is for: a protocol with a range of destination ports, or with a kind
// of message. It is written tcp/502, tcp/8000-8100, udp, icmp, icmp/too-big or esp; icmp stands for
// ICMP of the packet's own family (RFC 792, RFC 4443). The zero Traffic is none.
type Traffic struct {
	Proto       string // tcp, udp, icmp or esp
	First, Last uint16 // ports of tcp and udp; both 0: all
	Message     string // of icmp, one of [Messages]; empty: all
}

// The kinds of messages of ICMP that rules tell apart.
const (
	EchoRequest  = "echo"          // RFC 792 type 8, RFC 4443 type 128
	EchoReply    = "echo-reply"    // type 0, type 129
	Unreachable  = "unreachable"   // type 3, type 1
	TooBig       = "too-big"       // type 3 code 4, type 2
	TimeExceeded = "time-exceeded" // type 11, type 3
)

// Messages are the kinds of messages of ICMP, in the order in which they are listed.
var Messages = []string{EchoRequest, EchoReply, Unreachable, TooBig, TimeExceeded}

// ParseTraffic reads what a filter rule is for.
func ParseTraffic(text string) (Traffic, error) {
	bad := func(why string) (Traffic, error) {
		return Traffic{}, fmt.Errorf(
			"%q %s; write tcp/502, tcp/8000-8100, udp, icmp, icmp/echo or esp", text, why,
		)
	}
	proto, rest, has := strings.Cut(strings.ToLower(strings.TrimSpace(text)), "/")
	switch proto {
	case "esp":
		if has {
			return bad("has a port, and esp has none")
		}
		return Traffic{Proto: proto}, nil
	case "icmp":
		if has && !slices.Contains(Messages, rest) {
			return bad("names no message of ICMP; there are " + strings.Join(Messages, ", "))
		}
		return Traffic{Proto: proto, Message: rest}, nil
	case "tcp", "udp":
	default:
		return bad("is no protocol that is known")
	}
	if !has {
		return Traffic{Proto: proto}, nil
	}
	first, last, ranged := strings.Cut(rest, "-")
	a, errA := strconv.ParseUint(first, 10, 16)
	b := a
	var errB error
	if ranged {
		b, errB = strconv.ParseUint(last, 10, 16)
	}
	if errA != nil || errB != nil || a == 0 || b < a {
		return bad("has no port or range of ports from 1 to 65535")
	}
	return Traffic{Proto: proto, First: uint16(a), Last: uint16(b)}, nil
}

// TrafficOf is a service as what a rule is for: of ICMP the request.
func TrafficOf(s Service) Traffic {
	if s.Proto == "icmp" {
		return Traffic{Proto: "icmp", Message: EchoRequest}
	}
	return Traffic{Proto: s.Proto, First: s.Port, Last: s.Port}
}

func (t Traffic) String() string {
	switch {
	case t.Message != "":
		return t.Proto + "/" + t.Message
	case t.First == 0:
		return t.Proto
	case t.First == t.Last:
		return t.Proto + "/" + strconv.Itoa(int(t.First))
	}
	return fmt.Sprintf("%s/%d-%d", t.Proto, t.First, t.Last)
}

// MarshalText writes it as in a design file.
func (t Traffic) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText is [ParseTraffic].
func (t *Traffic) UnmarshalText(text []byte) (err error) {
	*t, err = ParseTraffic(string(text))
	return err
}
