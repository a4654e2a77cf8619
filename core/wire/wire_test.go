package wire_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/core/wire"
	"dravin/demo"
)

func walked(t testing.TB, from, to, service string, changes ...string) (*route.Tables, walk.Proof) {
	d, err := design.Read([]byte(strings.NewReplacer(changes...).Replace(string(demo.Thistledown))))
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	s, err := design.ParseService(service)
	require.NoError(t, err)
	f, err := walk.ParseFlow(tables, from, to, s)
	require.NoError(t, err)
	return tables, walk.Prove(tables, f)
}

const (
	mast, plates = "thornfield-station/weather-room/weather-mast", "plate-store/plates/plate-server"
	desk, gauge  = "marrow-hill/data-room/controls-desk", "rowan-hut/hut/rain-gauge"
)

// lines are a capture in words: where, which way, what.
func lines(c wire.Capture) (out []string) {
	for _, p := range c.Packets {
		i := c.Interfaces[p.Interface]
		what := p.What + " " + p.Header.String()
		if p.Outer != nil {
			what = "ESP " + p.Outer.Src.String() + " > " + p.Outer.Dst.String()
		}
		out = append(out, i.At.Title+" "+i.Name+": "+what)
	}
	return out
}

// A flow through two relays is three connections, each with its handshake before the next begins.
func TestRelaysAreConnectionsOneAfterTheOther(t *testing.T) {
	tables, p := walked(t, desk, gauge, "tcp/502")
	require.True(t, p.Works)
	var order []string
	for _, line := range lines(wire.Of(tables, p)) {
		if strings.Contains(line, "ACK") && !strings.Contains(line, "SYN") && !strings.Contains(line, "desk") {
			order = append(order, line)
		}
	}
	require.NotEmpty(t, order)
	assert.Contains(t, order[0], "10.214.0.20:49152 > 10.214.1.250:502")
	assert.Contains(t, order[len(order)-1], "192.168.211.250:49152 > 192.168.211.40:502")
}

// What has no better route leaves by the way out, and is seen there.
func TestWhatStraysIsSeen(t *testing.T) {
	tables, p := walked(t, desk, "10.210.33.10", "tcp/443")
	require.Equal(t, walk.NoRoute, p.Stop.Code)
	all := lines(wire.Of(tables, p))
	assert.Equal(t, "Marrow Hill gateway way out: SYN tcp 10.214.0.20:49152 > 10.210.33.10:443", all[len(all)-1])
}

func TestCaptureFilters(t *testing.T) {
	tables, p := walked(t, mast, plates, "tcp/443")
	c := wire.Of(tables, p)
	by := map[string]string{}
	for _, i := range c.Interfaces {
		by[i.At.Title+" "+i.Name] = i.Filter
	}
	assert.Equal(t, "esp and host 192.0.2.60 and host 203.0.113.80", by["Thornfield Station gateway way out"])
	assert.Equal(
		t, "tcp and host 10.210.33.10 and host 10.215.16.15 and port 443", by["Thornfield Station gateway dravin1"],
	)
}

// seen is a capture of what the walk has, changed.
func seen(c wire.Capture, change func(n int, o *wire.Observed) bool) wire.Seen {
	s := wire.Seen{Kind: "capture"}
	for n, p := range c.Packets {
		o := wire.Observed{Header: p.Header, What: p.What}
		if p.Outer != nil {
			o = wire.Observed{ESP: true}
			o.Header.Src, o.Header.Dst = p.Outer.Src, p.Outer.Dst
		}
		if change(n, &o) {
			s.Packets = append(s.Packets, o)
		}
	}
	return s
}

func TestCapturesHeldAgainstTheWalk(t *testing.T) {
	tables, p := walked(t, mast, plates, "tcp/443")
	c := wire.Of(tables, p)
	whole := wire.Against(tables, p, seen(c, func(int, *wire.Observed) bool { return true }))
	assert.True(t, whole.Agrees, whole.Parts)
	assert.Equal(t, "plate store plates plate server, host", whole.Reached)

	talk := seen(c, func(int, *wire.Observed) bool { return true })
	for _, o := range talk.Packets {
		if o.What == "SYN ACK" { // the server's first words go the same way
			o.What = "ACK"
			talk.Packets = append(talk.Packets, o)
		}
	}
	assert.True(t, wire.Against(tables, p, talk).Agrees, "a conversation goes on after its handshake")

	half := wire.Against(tables, p, seen(c, func(n int, _ *wire.Observed) bool { return n < 3 }))
	assert.False(t, half.Agrees)
	assert.Contains(t, half.Reached, "Thornfield Station gateway")
	assert.Contains(t, half.Parts, "Thornfield Station gateway, way out")
	assert.Contains(t, half.Next, "esp and host 192.0.2.60 and host 203.0.113.80")

	other := wire.Against(tables, p, seen(c, func(_ int, o *wire.Observed) bool {
		o.Header.Src = netip.MustParseAddr("10.215.16.99")
		return !o.ESP
	}))
	assert.False(t, other.Agrees)
	assert.Contains(t, other.Parts, "it comes from 10.215.16.15, and not 10.215.16.99")
}

// A trace that ends before the walk does agrees with it no more than one that comes by somebody else.
func TestATraceThatEndsEarly(t *testing.T) {
	tables, p := walked(t, "field-notes/notes-a/notes-server", mast, "tcp/443")
	require.NotNil(t, p.Stop)
	hops := wire.Trace(tables, p)
	require.Greater(t, len(hops), 1)
	traced := func(n int) wire.Seen {
		s := wire.Seen{Kind: "trace"}
		for _, h := range hops[:n] {
			s.Hops = append(s.Hops, wire.TracedHop{N: h.N, Address: netip.MustParseAddr("10.217.9.9")})
			if h.Address.IsValid() {
				s.Hops[h.N-1].Address = h.Address
			}
		}
		return s
	}
	early := wire.Against(tables, p, traced(len(hops)-1))
	assert.False(t, early.Agrees)
	assert.Contains(t, early.Parts, "nobody answers, and the walk goes on")
	assert.True(t, wire.Against(tables, p, traced(len(hops))).Agrees)
}

func TestTextsHeldAgainstTheWalk(t *testing.T) {
	tables, _ := walked(t, mast, plates, "tcp/443")
	down := ""
	for name, id := range handover.DaemonNames(tables, tables.Design.Find("thornfield-station/gateway")[0].ID) {
		if tables.Design.Path(id) == "thornfield-to-field-exchange/tunnel-1" {
			down = name + ": #3, CONNECTING, IKEv2, 0f0e"
		}
	}
	for _, c := range []struct {
		name, from, to, service, text string
		agrees                        bool
		parts                         string
	}{
		{"a ping of another address", mast, plates, "icmp",
			"PING 10.210.33.99 (10.210.33.99) 56(84) bytes of data.\n2 packets transmitted, 0 received", false,
			"was pinged"},
		{"a ping that the filter refuses", mast, plates, "icmp",
			"PING 10.210.33.10 (10.210.33.10) 56(84) bytes\n3 packets transmitted, 0 received, 100% packet loss", true,
			""},
		{"a ping that should not be answered", mast, plates, "icmp",
			"64 bytes from 10.210.33.10: icmp_seq=1 ttl=62 time=24.1 ms", false, "are answered, and the walk stops"},
		{"too large", mast, plates, "icmp",
			"PING 10.210.33.10 (10.210.33.10) 1472(1500) bytes of data.\n" +
				"From 10.215.16.1 icmp_seq=1 Frag needed and DF set (mtu = 1446)\n1 packets transmitted, 0 received",
			false, "1446 bytes fit"},
		{"a trace to the end", desk, gauge, "tcp/502",
			"traceroute to 10.214.1.250 (10.214.1.250), 30 hops max\n 1  10.214.1.250 (10.214.1.250)  0.4 ms", true, ""},
		{"a trace by somebody else", desk, gauge, "tcp/502",
			"traceroute to 10.214.1.250 (10.214.1.250), 30 hops max\n 1  192.168.216.1  0.4 ms\n 2  * * *", false,
			"which answers from 10.214.1.250"},
		{"an entry as it should be", desk, gauge, "tcp/502",
			"tcp 6 431999 ESTABLISHED src=10.214.0.20 dst=10.214.1.250 sport=51000 dport=502 src=169.254.140.18 " +
				"dst=169.254.140.17 sport=502 dport=51000 [ASSURED] mark=0 use=1", true, ""},
		{"an entry that nobody answers", mast, plates, "tcp/443",
			"tcp 6 119 SYN_SENT src=10.215.16.15 dst=10.210.33.10 sport=40000 dport=443 [UNREPLIED] src=10.210.33.10 " +
				"dst=10.215.16.15 sport=443 dport=40000", false, "has seen no answer"},
		{"an entry translated otherwise", mast, plates, "tcp/443",
			"tcp 6 119 SYN_SENT src=10.215.16.15 dst=10.210.33.10 sport=40000 dport=443 src=10.210.33.10 " +
				"dst=203.0.113.80 sport=443 dport=40000", false, "by the walk it comes as"},
		{"a tunnel that is not there", mast, plates, "tcp/443", down, false, "is CONNECTING, and the design has it up"},
	} {
		t.Run(c.name, func(t *testing.T) {
			tables, p := walked(t, c.from, c.to, c.service)
			s, err := wire.ReadText(c.text)
			require.NoError(t, err)
			h := wire.Against(tables, p, s)
			assert.Equal(t, c.agrees, h.Agrees, "%s; %s", h.Parts, h.Says)
			assert.Contains(t, h.Parts, c.parts)
			assert.NotEmpty(t, h.Says)
			assert.NotEmpty(t, h.Next)
		})
	}
}

func TestTextsThatAreNotUnderstood(t *testing.T) {
	for text, says := range map[string]string{
		"":                     "nothing of this is known",
		"a letter to a friend": "nothing of this is known",
		"64 bytes from 10.208.1.10: icmp_seq=1 ttl=62 time=1 ms\n" +
			"tcp 6 1 X src=10.208.1.10 dst=10.208.1.11 sport=1 dport=2 " +
			"src=10.208.1.11 dst=10.208.1.10 sport=2 dport=1": "line 2",
	} {
		_, err := wire.ReadText(text)
		assert.ErrorContains(t, err, says)
	}
}

// Whatever is pasted is read or refused, and what is read is held against a walk.
func FuzzReadText(f *testing.F) {
	tables, p := walked(f, mast, plates, "tcp/443")
	f.Add("64 bytes from 10.208.1.10: icmp_seq=1")
	f.Add("tcp 6 1 src=10.208.1.10 dst=10.208.1.11 sport=1 dport=2 src=1 dst=2")
	f.Add(" 1  * * *\n 2  10.208.1.10  1 ms")
	f.Fuzz(func(t *testing.T, text string) {
		if s, err := wire.ReadText(text); err == nil {
			assert.NotEmpty(t, wire.Against(tables, p, s).Says)
		}
	})
}
