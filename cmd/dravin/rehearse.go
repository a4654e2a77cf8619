package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/rehearsal"
	"dravin/core/status"
	"dravin/core/words"
	"dravin/lab/stage"
)

func rehearseCommand() *cobra.Command {
	var out format
	var today, verbose bool
	var folder string
	var o stage.Options
	c := &cobra.Command{
		Use:   "rehearse FILE.yaml [--drill THING]... [--out DIR] [--keep]",
		Short: "Run the whole design for real on this machine, against what is proven; exit 1 if anything differs",
		Long: "Every box becomes a namespace with the files that are handed over for it and nothing else, booted as its\n" +
			"units say, with real daemons; clouds and whoever gets no file follow their instructions. Nothing leaves\n" +
			"this machine, and nothing is left of it when the command ends, however it ends. It needs root.",
		Args: exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			text, err := readRehearsed(args[0], o.Drills)
			if err != nil {
				return err
			}
			if err := stage.Possible(); err != nil {
				return badInput(fmt.Errorf("nothing can be rehearsed here: %w", err))
			}
			if folder != "" {
				if err := os.Mkdir(folder, 0o755); err != nil {
					return badInput(fmt.Errorf("--out: %w; give the name of a folder that does not exist yet", err))
				}
				defer func() { _ = os.Remove(folder) }() // which it only does while nothing is in it
			}
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			order := stage.Order{Design: text, Side: design.Planned, Options: o}
			if today {
				order.Side = design.Built
			}
			told := &teller{to: c.ErrOrStderr(), verbose: verbose, logs: map[string][]string{}}
			var report *rehearsal.Report
			var unkept error
			_, err = stage.Rehearse(ctx, order, told.tell, func(r *rehearsal.Report) {
				report = r
				if folder != "" {
					unkept = keepReport(folder, order, r, told.logs)
				}
				_ = out.write(c, r, func(w io.Writer) { printRehearsal(w, r, folder) })
			})
			kept := o.Keep && report != nil && errors.Is(err, context.Canceled)
			switch {
			case err != nil && !kept:
				return fmt.Errorf("the rehearsal was broken off: %w", err)
			case unkept != nil:
				return fmt.Errorf("the report was not kept: %w", unkept)
			case len(report.Differences()) > 0:
				return errFound
			}
			return nil
		},
	}
	out.add(c)
	c.Flags().BoolVar(&today, "today", false, "as it is today; otherwise as it will be when all is built")
	c.Flags().BoolVarP(&verbose, "verbose", "v", false, "tell what the boxes' own programs say, too")
	c.Flags().IntVar(&o.Sample, "sample", 150, "how many flows of the matrix are sent beside those of intents")
	c.Flags().DurationVar(&o.Settle, "settle", 0, "how long tunnels, sessions and tables may take (default 75s)")
	c.Flags().DurationVar(&o.Limit, "limit", 0, "how long all of it may take (default 15m)")
	c.Flags().StringArrayVar(&o.Drills, "drill", nil, "take this away once all is up: a path, address or zone; may be "+
		"repeated")
	c.Flags().IntVar(&o.Likely, "drills", 0, "carry out so many drills, chosen by what intents go by")
	c.Flags().BoolVar(
		&o.Back, "back", false, "with --steps: go the way back of each step, look whether what worked works again, "+
			"and do it again",
	)
	c.Flags().BoolVar(&o.Steps, "steps", false, "begin with what there is today, do the steps of the runbook and "+
		"run each of their checks")
	c.Flags().BoolVar(&o.Captures, "capture", false, "capture the flows of intents and what differs, with --out")
	c.Flags().StringVar(&folder, "out", "", "write the report, logs and captures to this new folder")
	c.Flags().BoolVar(&o.Keep, "keep", false, "leave it running and tell how to get a shell at each box; Ctrl-C ends it")
	return c
}

// readRehearsed reads a design file that can be rehearsed, and what is to be taken away of it.
func readRehearsed(path string, drills []string) (string, error) {
	d, err := readDesign(path)
	if err != nil {
		return "", err
	}
	if _, err := status.ParseThings(d, drills); err != nil {
		return "", badInput(fmt.Errorf("--drill: %w", err))
	}
	text, err := os.ReadFile(path)
	return string(text), err
}

// teller tells people how a rehearsal goes on.
type teller struct {
	to      io.Writer
	verbose bool
	logs    map[string][]string // by box
}

func (t *teller) tell(e stage.Event) {
	say := func(format string, args ...any) {
		fmt.Fprintf(t.to, "%6.1f s  "+format+"\n", append([]any{e.Seconds}, args...)...)
	}
	word := map[bool]string{true: "up", false: "down"}[e.Up]
	switch e.Kind {
	case stage.LogEvent:
		t.logs[e.Name] = append(t.logs[e.Name], fmt.Sprintf("%.3f %s", e.Seconds, e.Text))
		if t.verbose {
			say("%s: %s", e.Name, e.Text)
		}
	case stage.StepEvent:
		if e.Name != "settling" && e.Name != "sending" {
			say("%s %s", e.Name, e.Text)
		}
	case stage.TunnelEvent, stage.SessionEvent:
		if e.Up || e.Seconds > 2 {
			say("%s %s is %s", e.Kind, e.Name, word)
		}
	case stage.BoxEvent:
		if t.verbose || !e.Up {
			say("%s has booted", e.Name)
		}
	case stage.KeptEvent:
		say("a shell at %s: %s", e.Name, e.Text)
	case stage.FlowEvent:
		if t.verbose || !e.Up {
			say("%s: %s", e.Name, e.Text)
		}
	}
}

// keepReport writes all that somebody needs who looks into a difference.
func keepReport(folder string, o stage.Order, r *rehearsal.Report, logs map[string][]string) error {
	text, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	files := map[string][]byte{"design.yaml": []byte(o.Design), "report.json": append(text, '\n')}
	for name, lines := range logs {
		files["logs/"+handover.Folder(name)+".log"] = []byte(strings.Join(lines, "\n") + "\n")
	}
	for n, x := range r.Captures {
		files[fmt.Sprintf("captures/%02d-%s.pcapng", n+1, handover.Folder(x.Flow))] = x.File
	}
	for name, content := range files {
		path := filepath.Join(folder, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, content, 0o644)); err != nil {
			return err
		}
	}
	return nil
}

func printRehearsal(w io.Writer, r *rehearsal.Report, folder string) {
	differ := r.Differences()
	for _, k := range rehearsal.CheckKinds {
		all, wrong := 0, 0
		for _, c := range r.Checks {
			if c.Kind == k.Code {
				all++
				if !c.Same {
					wrong++
				}
			}
		}
		if all > 0 {
			fmt.Fprintf(w, "%-8s %4d held, %d differ: %s\n", k.Title, all, wrong, k.Doc)
		}
	}
	printSent(w, r.Intents)
	for _, a := range r.Again {
		fmt.Fprintf(w, "refused once at boot, and up once it was asked for again: %s\n", a)
	}
	for _, l := range r.Leaves {
		fmt.Fprintf(w, "not rehearsed: %s\n", l)
	}
	for _, c := range differ {
		fmt.Fprintf(w, "\n%s %s\n  proof:     %s\n  rehearsed: %s\n", c.Kind, title(c), c.Proof, c.Rehearsed)
	}
	fmt.Fprintf(
		w, "\n%s, %d namespaces, %d MiB, %.0f s: %s, %d of which %s\n", words.Count(r.Parties, "party", "parties"), r.Nodes,
		r.MemoryMiB, r.Seconds, words.Count(len(r.Checks), "check", "checks"), len(differ),
		words.Verb(len(differ), "differs", "differ"),
	)
	if len(differ) == 0 {
		return
	}
	fmt.Fprint(w, r.Means, " ")
	if folder == "" {
		fmt.Fprintln(w, "Rehearse again with --capture --out DIR, and send us the folder.")
	} else {
		fmt.Fprintf(w, "Send us %s.\n", folder)
	}
}

func title(c rehearsal.Check) string {
	if c.Without != "" {
		return c.Name + ", without " + c.Without
	}
	return c.Name
}

// printSent says of each intent what was sent for it and what came, in a line for each flow.
func printSent(w io.Writer, list []rehearsal.Intent) {
	for _, i := range list {
		for _, s := range i.Sent {
			fmt.Fprintf(
				w, "%s %s: %s to %s on %s: %s\n", map[bool]string{true: "same   ", false: "differs"}[s.Same], i.Name, s.From,
				s.To, s.Service, s.Rehearsed,
			)
		}
		for _, why := range i.Why {
			fmt.Fprintf(w, "unsent  %s: %s\n", i.Name, why)
		}
	}
}
