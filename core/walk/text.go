package walk

import (
	"fmt"
	"strings"
)

// Text is a proof as plain text, for a mail or a terminal: what it comes to, then each stage there and back with the
// header that leaves it.
func Text(p Proof) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	if p.Works {
		line(
			"works %s: %s reaches %s at %s on %s, and the reply comes back", p.Side.Word(), p.From.Title, p.To.Title,
			p.Dialled, p.Service,
		)
	} else if p.Stop != nil {
		line("stopped %s (%s, %s): %s", p.Side.Word(), p.Stop.Code, p.Stop.Way, p.Stop.Why)
		line("fix: %s", p.Stop.Fix)
	}
	if len(p.Owners) > 1 {
		line("%s is held by several parties:", p.Dialled)
		for _, o := range p.Owners {
			line("  - %s", o.Title)
		}
	}
	for _, way := range []struct {
		word   string
		stages []Stage
	}{{"there", p.Forward}, {"back", p.Reply}} {
		if len(way.stages) > 0 {
			line("%s", way.word)
		}
		for n, s := range way.stages {
			line("%3d %-17s %s\n    %-17s %s", n+1, s.Act, s.Text, s.Hook, s.Header)
		}
	}
	for n, r := range p.Remembered {
		if n == 0 {
			line("what the boxes remember")
		}
		line("    %s: %s; its answer comes as %s", r.At.Title, r.First, r.Reply)
	}
	return b.String()
}

func (h Header) String() string {
	if h.DPort == 0 {
		return fmt.Sprintf("%s %s > %s", h.Proto, h.Src, h.Dst)
	}
	return fmt.Sprintf("%s %s:%d > %s:%d", h.Proto, h.Src, h.SPort, h.Dst, h.DPort)
}
