package stage

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync/atomic"

	"dravin/core/design"
	"dravin/core/rehearsal"
	"dravin/core/route"
	"dravin/core/status"
)

// Inside is the argument with which this program plays a rehearsal: it is told what on its standard input, and says
// what happens on its standard output.
const Inside = "rehearse-inside"

// Order is what is to be rehearsed.
type Order struct {
	Design  string      `json:"design"` // a design file
	Side    design.Side `json:"side"`
	Options Options     `json:"options"`
	// Tampered are changes to files before they are handed over: the rehearsal is to notice them.
	Tampered []rehearsal.Tampering `json:"tampered,omitempty"`
}

// Begins is what counts as done when it begins: who does the steps begins with what there is today.
func (o Order) Begins() design.Side {
	if o.Options.Steps {
		return design.Built
	}
	return o.Side
}

// said is one line of what the inner process says.
type said struct {
	Event  *Event            `json:"event,omitempty"`
	Report *rehearsal.Report `json:"report,omitempty"`
	Error  string            `json:"error,omitempty"`
}

// Rehearse plays a rehearsal in a process of its own and tells what happens. reported, if not nil, hears what was found
// before anything is kept running. The error is why it could not be played, or that of the context; what was found
// until then is in the report, if there is one.
func Rehearse(
	ctx context.Context, o Order, tell func(Event), reported func(*rehearsal.Report),
) (*rehearsal.Report, error) {
	if err := Possible(); err != nil {
		return nil, err
	}
	in, err := json.Marshal(o)
	if err != nil {
		return nil, err
	}
	r, w := io.Pipe()
	last, read := said{}, make(chan struct{})
	var pid atomic.Int64
	go func() {
		defer close(read)
		scan := bufio.NewScanner(r)
		scan.Buffer(nil, 64<<20)
		for scan.Scan() {
			var l said
			if json.Unmarshal(scan.Bytes(), &l) != nil {
				continue
			}
			switch {
			case l.Error != "":
				last.Error = l.Error
			case l.Event == nil:
				last.Report = l.Report
				if reported != nil && l.Report != nil {
					reported(l.Report)
				}
			case l.Event.Kind == KeptEvent:
				l.Event.Text = fmt.Sprintf("nsenter --target %d --mount --pid nsenter %s", pid.Load(), l.Event.Text)
				tell(*l.Event)
			default:
				tell(*l.Event)
			}
		}
		_, _ = io.Copy(io.Discard, r)
	}()
	var errs bytes.Buffer
	err = Alone(ctx, bytes.NewReader(in), w, &errs, func(p int) { pid.Store(int64(p)) }, Inside)
	_ = w.Close()
	<-read
	switch {
	case ctx.Err() != nil:
		return last.Report, ctx.Err()
	case last.Error != "":
		return last.Report, errors.New(last.Error)
	case err != nil:
		return last.Report, errors.Join(err, errors.New(errs.String()))
	}
	return last.Report, nil
}

// PlayInside is what the inner process does.
func PlayInside(ctx context.Context, in io.Reader, out io.Writer) error {
	var o Order
	if err := json.NewDecoder(in).Decode(&o); err != nil {
		return err
	}
	d, err := design.Read([]byte(o.Design))
	if err != nil {
		return err
	}
	lent := []string{}                               // lists of a report are never null
	if o.Options.Steps || o.Side == design.Planned { // who does the steps comes to be told the addresses by the cloud
		next, told, err := rehearsal.Addressed(d)
		if err != nil {
			return err
		}
		d, lent = next, append(lent, told...)
	}
	lines := json.NewEncoder(out)
	err = Play(
		ctx, route.Solve(d.On(o.Begins()), status.Condition{}), d, o.Options, o.Tampered,
		func(e Event) { _ = lines.Encode(said{Event: &e}) },
		func(r *rehearsal.Report) {
			r.Leaves = append(lent, r.Leaves...)
			_ = lines.Encode(said{Report: r})
		},
	)
	if err != nil {
		return lines.Encode(said{Error: err.Error()})
	}
	return nil
}
