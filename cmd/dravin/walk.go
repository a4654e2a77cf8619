package main

import (
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"dravin/core/design"
	"dravin/core/walk"
)

func walkCommand() *cobra.Command {
	var out format
	var under condition
	var from, to, proto string
	var port uint16
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
			proof := walk.Prove(s.Tables, flow)
			if err := out.write(c, proof, func(w io.Writer) { printProof(w, proof) }); err != nil {
				return err
			}
			if !proof.Works {
				return errFound
			}
			return nil
		},
	}
	out.add(c)
	under.add(c)
	c.Flags().StringVar(&from, "from", "", "the party, LAN, subnet or host that starts (path or name)")
	c.Flags().StringVar(&to, "to", "", "the address or host that is dialled")
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

func printProof(w io.Writer, p walk.Proof) {
	if p.Works {
		fmt.Fprintf(
			w, "works %s: %s reaches %s at %s on %s, and the reply comes back\n", p.Horizon.Word(), p.From.Title,
			p.To.Title, p.Dialled, p.Service,
		)
	} else {
		fmt.Fprintf(
			w, "stopped %s (%s, %s): %s\nfix: %s\n", p.Horizon.Word(), p.Stop.Code, p.Stop.Way, p.Stop.Why, p.Stop.Fix,
		)
	}
	if len(p.Owners) > 1 {
		fmt.Fprintf(w, "%s is held by several parties:\n", p.Dialled)
		for _, o := range p.Owners {
			fmt.Fprintf(w, "  - %s\n", o.Title)
		}
	}
	printStages(w, "there", p.Forward)
	printStages(w, "back", p.Reply)
	for n, r := range p.Remembered {
		if n == 0 {
			fmt.Fprintln(w, "what the boxes remember")
		}
		fmt.Fprintf(w, "    %s: %s; its answer comes as %s\n", r.At.Title, headerWords(r.First), headerWords(r.Reply))
	}
}

func printStages(w io.Writer, way string, stages []walk.Stage) {
	if len(stages) == 0 {
		return
	}
	fmt.Fprintln(w, way)
	for n, s := range stages {
		fmt.Fprintf(w, "%3d %-17s %s\n    %-17s %s\n", n+1, s.Act, s.Text, s.Hook, headerWords(s.Header))
	}
}

func headerWords(h walk.Header) string {
	if h.DPort == 0 {
		return fmt.Sprintf("%s %s > %s", h.Proto, h.Src, h.Dst)
	}
	return fmt.Sprintf("%s %s:%d > %s:%d", h.Proto, h.Src, h.SPort, h.Dst, h.DPort)
}
