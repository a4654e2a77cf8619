package main

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"dravin/capture"
	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/walk"
	"dravin/core/wire"
)

// walkAnswer is what dravin walk answers.
type walkAnswer struct {
	walk.Proof
	Measure walk.Measure   `json:"measure"`
	Wire    *wire.Capture  `json:"wire,omitempty"`
	Hops    []wire.Hop     `json:"hops,omitempty"`
	Logs    []wire.LogLine `json:"logs,omitempty"`
	Held    *wire.Held     `json:"held,omitempty"`
}

func (a *walkAnswer) wire(t *route.Tables) {
	c := wire.Of(t, a.Proof)
	a.Wire, a.Hops, a.Logs = &c, wire.Trace(t, a.Proof), wire.Logs(t, a.Proof)
}

// writeCapture writes a capture file, whole or not at all.
func writeCapture(path string, c wire.Capture) error {
	var out bytes.Buffer
	if err := capture.Write(&out, c, time.Now()); err != nil {
		return badInput(err)
	}
	if err := os.WriteFile(path, out.Bytes(), 0o644); err != nil {
		return badInput(fmt.Errorf("--capture: %w", err))
	}
	return nil
}

// heldAgainst holds a file against a walk: a capture, or text.
func heldAgainst(t *route.Tables, p walk.Proof, path string) (*wire.Held, error) {
	file, err := readUpTo(path, capture.MostBytes)
	if err == nil && len(file) > capture.MostBytes {
		err = fmt.Errorf(
			"%s has more than %d MiB; capture with one of the filters that --wire tells", path, capture.MostBytes>>20,
		)
	}
	if err != nil {
		return nil, badInput(fmt.Errorf("--seen: %w", err))
	}
	seen, err := capture.ReadAny(file)
	if err != nil {
		return nil, badInput(fmt.Errorf("--seen: %s: %w", path, err))
	}
	held := wire.Against(t, p, seen)
	return &held, nil
}

func walkCommand() *cobra.Command {
	var out format
	var under condition
	var from, to, proto string
	var port uint16
	var more bool
	var capturePath, seen string
	c := &cobra.Command{
		Use:   "walk FILE.yaml --from PARTY-OR-HOST --to ADDRESS-OR-HOST --proto tcp --port 502",
		Short: "Carry one packet there and back; exit 1 if it is stopped",
		Args:  exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			if from == "" || to == "" {
				return badInput(errors.New("--from or --to is missing; say who starts and whom they dial"))
			}
			service, err := serviceOf(proto, port)
			if err != nil {
				return badInput(err)
			}
			s, err := under.read(args[0])
			if err != nil {
				return err
			}
			flow, err := walk.ParseFlow(s.Tables, from, to, service)
			if err != nil {
				return badInput(err)
			}
			answer := walkAnswer{Proof: walk.Prove(s.Tables, flow)}
			answer.Measure = walk.MeasureOf(s.Tables, flow, answer.Proof)
			if more {
				answer.wire(s.Tables)
			}
			if capturePath != "" {
				if err := writeCapture(capturePath, wire.Of(s.Tables, answer.Proof)); err != nil {
					return err
				}
			}
			if seen != "" {
				held, err := heldAgainst(s.Tables, answer.Proof, seen)
				if err != nil {
					return badInput(err)
				}
				answer.Held = held
			}
			if err := out.write(c, answer, func(w io.Writer) { printWalk(w, answer) }); err != nil {
				return err
			}
			if !answer.Works || answer.Held != nil && !answer.Held.Agrees {
				return errFound
			}
			return nil
		},
	}
	out.add(c)
	under.add(c)
	c.Flags().StringVar(
		&from, "from", "", "who starts: a party, LAN, subnet or host, a box itself (also \"BOX via LINK\"), "+
			"a published service, "+
			"or the internet (path or name)",
	)
	c.Flags().StringVar(&to, "to", "", "the address, host, box or published service that is dialled")
	c.Flags().StringVar(&capturePath, "capture", "", "write what one would see on the wire to this file, as pcapng")
	c.Flags().StringVar(
		&seen, "seen", "", "hold this against the walk: a capture, or the output of ping, traceroute, conntrack -L, "+
			"swanctl --list-sas or birdc show protocols; - is standard input",
	)
	c.Flags().BoolVar(
		&more, "wire", false, "tell what one would see: captures by interface, the hops of a trace, log lines",
	)
	c.Flags().StringVar(&proto, "proto", "tcp", "tcp, udp or icmp")
	c.Flags().Uint16Var(&port, "port", 0, "destination port, for tcp and udp")
	return c
}

func serviceOf(proto string, port uint16) (design.Service, error) {
	text := proto
	if port != 0 {
		text = fmt.Sprintf("%s/%d", proto, port)
	}
	return design.ParseService(text)
}

func printWalk(w io.Writer, a walkAnswer) {
	fmt.Fprint(w, walk.Text(a.Proof))
	printMeasure(w, a.Measure)
	if a.Wire != nil {
		printWire(w, a)
	}
	if a.Held != nil {
		printHeld(w, *a.Held)
	}
}

func printMeasure(w io.Writer, m walk.Measure) {
	if len(m.There.Legs)+len(m.Back.Legs) == 0 {
		return
	}
	fmt.Fprintln(w, "on the way")
	for _, l := range m.There.Legs {
		rtt := fmt.Sprintf("%g ms there and back, by %s", l.RTT, l.RTTFrom)
		if l.RTTFrom == "unknown" {
			rtt = "nobody says how long"
		}
		mbps := ""
		if l.Mbps > 0 {
			mbps = fmt.Sprintf(", %d Mbit/s", l.Mbps)
		}
		fmt.Fprintf(w, "    %s: %d bytes (%s), %s%s\n", l.Title, l.MTU, l.MTUWhy, rtt, mbps)
	}
	fmt.Fprintf(w, "    %d bytes fit there and %d back; %g ms of which is known\n", m.There.MTU, m.Back.MTU, m.RTT)
	for _, x := range []struct {
		way string
		walk.Large
	}{{"there", m.There.Large}, {"back", m.Back.Large}} {
		if !x.Fits && x.Why != "" {
			clamped := "TCP is told what fits"
			if !x.Clamped {
				clamped = "nobody tells TCP what fits"
			}
			fmt.Fprintf(w, "    %s: %s; %s (%d)\n", x.way, x.Why, clamped, x.MSS)
		}
	}
}

func printWire(w io.Writer, a walkAnswer) {
	fmt.Fprintln(w, "where one can capture, and what")
	for n, i := range a.Wire.Interfaces {
		fmt.Fprintf(w, "%3d %s, %s: %s\n", n+1, i.At.Title, i.Name, i.Filter)
	}
	for _, p := range a.Wire.Packets {
		what := p.What + " " + p.Header.String()
		if p.Outer != nil {
			what = fmt.Sprintf("ESP %s > %s", p.Outer.Src, p.Outer.Dst)
		}
		fmt.Fprintf(w, "    %-5s at %d %s\n", p.Way, p.Interface+1, what)
	}
	fmt.Fprintln(w, "a trace")
	for _, h := range a.Hops {
		address := h.Address.String()
		if !h.Address.IsValid() {
			address = "* (" + h.Why + ")"
		}
		fmt.Fprintf(w, "%3d %s  %s\n", h.N, address, h.At.Title)
	}
	for n, l := range a.Logs {
		if n == 0 {
			fmt.Fprintln(w, "what a log of the filters would say")
		}
		fmt.Fprintf(w, "    %s: %s\n", l.At.Title, l.Line)
	}
}

func printHeld(w io.Writer, h wire.Held) {
	word := "parts from"
	if h.Agrees {
		word = "agrees with"
	}
	fmt.Fprintf(w, "what was seen (%s) %s the walk\n", h.Kind, word)
	if h.Reached != "" {
		fmt.Fprintf(w, "    seen up to: %s\n", h.Reached)
	}
	for _, line := range []string{h.Parts, h.Says, h.Next} {
		if line != "" {
			fmt.Fprintf(w, "    %s\n", line)
		}
	}
}
