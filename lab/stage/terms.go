package stage

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/strongswan/govici/vici"

	"dravin/core/rehearsal"
)

// holdTerms forces a renewal of every tunnel's keys, and holds what one's own daemons have agreed on and are set to.
func (p *play) holdTerms(ctx context.Context) {
	up := make([]bool, len(p.plan.Wires))
	for k, w := range p.plan.Wires {
		up[k] = p.live.carries(w.Tunnel)
	}
	renewals := p.renewAll(ctx)
	p.carriesAgain(ctx, up)
	for k, w := range p.plan.Wires {
		for _, e := range w.Ends {
			if len(e.Terms) == 0 || !up[k] {
				continue
			}
			n := p.node(e.Node)
			got, err := n.tunnelTerms(ctx, e)
			if err != nil {
				p.say(Event{Kind: LogEvent, Node: n.Name, Name: n.Title, Text: err.Error()})
			}
			got[rehearsal.Renewal] = renewals[k]
			c := rehearsal.HoldTerms(w.Tunnel, w.Name+", at "+n.Title, e.Terms, got)
			p.report.Checks = append(p.report.Checks, c)
			if !c.Same {
				p.daemonSays(n)
			}
		}
	}
	for _, s := range p.plan.Sessions {
		for _, e := range s.Ends {
			if len(e.Terms) == 0 || !p.live.speaks(s.ID) {
				continue
			}
			n := p.node(e.Node)
			p.report.Checks = append(
				p.report.Checks, rehearsal.HoldTerms(s.ID, s.Name+", at "+n.Title, e.Terms, n.sessionTerms(e.Protocol)),
			)
		}
	}
}

// carriesAgain waits until the wires carry what the renewed SAs let pass.
func (p *play) carriesAgain(ctx context.Context, up []bool) {
	for begun := time.Now(); ctx.Err() == nil && time.Since(begun) < renewWithin; {
		time.Sleep(beat)
		again := true
		for k, w := range p.plan.Wires {
			again = again && (!up[k] || p.live.carries(w.Tunnel))
		}
		if again {
			return
		}
	}
}

// renewWithin is how long a renewal may take: an exchange and the next one's, should a packet be lost.
const renewWithin = 12 * time.Second

// renewAll forces a renewal of the ESP SAs of every tunnel that carries, a few at a time, and says of each what came.
func (p *play) renewAll(ctx context.Context) []string {
	out := make([]string, len(p.plan.Wires))
	limit := make(chan struct{}, 8)
	var wg sync.WaitGroup
	for k, w := range p.plan.Wires {
		if w.Renews < 0 || !p.live.carries(w.Tunnel) {
			continue
		}
		wg.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			e := w.Ends[w.Renews]
			out[k] = rehearsal.Renewed[p.node(e.Node).renews(ctx, e)]
		})
	}
	wg.Wait()
	return out
}

// renews forces a renewal at one end of a tunnel (RFC 7296 section 2.8), and reports whether other SAs came of it.
func (n *node) renews(ctx context.Context, e rehearsal.WireEnd) bool {
	spis := func() (out []string) {
		all, _ := n.children()
		for _, c := range all[e.Connection] {
			out = append(out, c.in)
		}
		return out
	}
	before := spis()
	asked := map[string]bool{}
	for begun := time.Now(); ctx.Err() == nil && time.Since(begun) < renewWithin; {
		for _, child := range e.Children {
			// A daemon that is busy with the SA passes it over, and says that it found none.
			if asked[child] {
				continue
			}
			if m, err := n.asksIPsec("rekey", map[string]string{"child": child}); err == nil {
				asked[child] = text(m, "matches") != "0"
			}
		}
		now := spis()
		if len(now) > 0 && !slices.ContainsFunc(now, func(s string) bool { return slices.Contains(before, s) }) {
			return true
		}
		time.Sleep(beat / 2)
	}
	return false
}

// asksIPsec asks a node's IPsec daemon by its socket.
func (n *node) asksIPsec(command string, args map[string]string) (*vici.Message, error) {
	s, err := vici.NewSession(vici.WithAddr("unix", n.root("/run/charon.vici")))
	if err != nil {
		return nil, err
	}
	defer s.Close()
	m := vici.NewMessage()
	for key, value := range args {
		if err := m.Set(key, value); err != nil {
			return nil, err
		}
	}
	return s.CommandRequest(command, m)
}

// streams are the sections that a node's IPsec daemon answers one after the other, by their names.
func (n *node) streams(command, event string, args map[string]string) (map[string]*vici.Message, error) {
	s, err := vici.NewSession(vici.WithAddr("unix", n.root("/run/charon.vici")))
	if err != nil {
		return nil, err
	}
	defer s.Close()
	m := vici.NewMessage()
	for key, value := range args {
		if err := m.Set(key, value); err != nil {
			return nil, err
		}
	}
	list, err := s.StreamedCommandRequest(command, event, m)
	out := map[string]*vici.Message{}
	for _, x := range list {
		for _, name := range x.Keys() {
			if section, ok := x.Get(name).(*vici.Message); ok {
				out[name] = section
			}
		}
	}
	return out, err
}

// tunnelTerms are what one end of a tunnel has agreed on and is set to: the daemon says most, the kernel the rest.
func (n *node) tunnelTerms(ctx context.Context, e rehearsal.WireEnd) (map[string]string, error) {
	out := map[string]string{}
	sas, err := n.streams("list-sas", "list-sa", map[string]string{"ike": e.Connection})
	if err != nil {
		return out, err
	}
	conns, err := n.streams("list-conns", "list-conn", map[string]string{"ike": e.Connection})
	if err != nil {
		return out, err
	}
	if ike := sas[e.Connection]; ike != nil {
		out[rehearsal.IKEVersion], out[rehearsal.IKESA] = text(ike, "version"), algorithms(ike)
		out[rehearsal.OwnIdentity], out[rehearsal.FarIdentity] = text(ike, "local-id"), text(ike, "remote-id")
		stand := slices.DeleteFunc(
			sections(ike, "child-sas"), func(c *vici.Message) bool { return text(c, "state") != "INSTALLED" },
		)
		out[rehearsal.ESPSA] = each(stand, algorithms)
		out[rehearsal.InterfaceIDs] = each(stand, func(c *vici.Message) string { return n.interfaceIDs(c, e.Device) })
		out[rehearsal.Selectors] = each(stand, func(c *vici.Message) string {
			return rehearsal.PairsOf(selectors(c.Get("local-ts")), selectors(c.Get("remote-ts")))
		})
	}
	if conn := conns[e.Connection]; conn != nil {
		out[rehearsal.IKELifetime] = text(conn, "rekey_time") + " s"
		out[rehearsal.DeadAfter] = cmp.Or(text(conn, "dpd_delay"), "0") + " s"
		all := sections(conn, "children")
		out[rehearsal.ESPLifetime] = each(all, func(c *vici.Message) string { return text(c, "rekey_time") + " s" })
		out[rehearsal.OnSilence] = each(all, func(c *vici.Message) string { return text(c, "dpd_action") })
		out[rehearsal.OnClose] = each(all, func(c *vici.Message) string { return text(c, "close_action") })
	}
	size, _ := n.script(ctx, "cat /sys/class/net/"+e.Device+"/mtu")
	out[rehearsal.InterfaceMTU] = strings.TrimSpace(size)
	return out, nil
}

// interfaceIDs are those of an SA in and out, and that with which the script has made its interface.
func (n *node) interfaceIDs(child *vici.Message, device string) string {
	of, _ := os.ReadFile(n.root(filepath.Join(made, device)))
	in, out := hexadecimal(text(child, "if-id-in")), hexadecimal(text(child, "if-id-out"))
	if in+out+string(of) == "" {
		return rehearsal.None
	}
	either := func(s string) string { return cmp.Or(strings.TrimSpace(s), rehearsal.None) }
	return fmt.Sprintf("%s, %s, %s", either(in), either(out), either(string(of)))
}

// each is what is said of several SAs or children: once what is the same of all.
func each(list []*vici.Message, of func(*vici.Message) string) string {
	var out []string
	for _, m := range list {
		out = append(out, of(m))
	}
	slices.Sort(out)
	return strings.Join(slices.Compact(out), ", ")
}

func hexadecimal(text string) string {
	v, err := strconv.ParseUint(text, 16, 32)
	if err != nil {
		return ""
	}
	return fmt.Sprint(v)
}

func text(m *vici.Message, key string) string {
	s, _ := m.Get(key).(string)
	return s
}

func sections(m *vici.Message, key string) (out []*vici.Message) {
	all, _ := m.Get(key).(*vici.Message)
	if all == nil {
		return nil
	}
	for _, name := range all.Keys() {
		if s, ok := all.Get(name).(*vici.Message); ok {
			out = append(out, s)
		}
	}
	return out
}

// algorithms are those of an SA, in the manner of [negotiate.Chosen].
func algorithms(sa *vici.Message) string {
	cipher := text(sa, "encr-alg")
	if size := text(sa, "encr-keysize"); size != "" && !strings.HasPrefix(cipher, "CHACHA20") {
		cipher += "-" + size
	}
	return strings.Join(slices.DeleteFunc(
		[]string{cipher, text(sa, "integ-alg"), text(sa, "prf-alg"), text(sa, "dh-group")},
		func(s string) bool { return s == "" },
	), ", ")
}

// sessionTerms are what one end of a session has agreed on and is set to.
func (n *node) sessionTerms(protocol string) map[string]string {
	out := map[string]string{}
	lines, _ := n.asksBird("show protocols all " + protocol)
	channel, up := "", false
	var families, limits []string
	for _, l := range lines {
		if f := strings.Fields(l); len(f) == 2 && f[0] == "Channel" {
			channel, up = f[1], false
			continue
		}
		name, value, ok := strings.Cut(strings.TrimSpace(l), ":")
		if value = strings.TrimSpace(value); !ok {
			continue
		}
		_, last, _ := strings.Cut(value, "/")
		switch {
		case name == "Local AS":
			out[rehearsal.OwnASN] = value
		case name == "Neighbor AS":
			out[rehearsal.FarASN] = value
		case name == "Hold timer":
			out[rehearsal.HoldTime] = cmp.Or(last, "0") + " s"
		case name == "Keepalive timer":
			out[rehearsal.Keepalive] = cmp.Or(last, "0") + " s"
		case name == "State" && channel != "" && value == "UP":
			up = true
			families = append(families, channel)
		case name == "Import limit" && up:
			limits = append(limits, channel+" "+value)
		}
	}
	slices.Sort(families)
	slices.Sort(limits)
	out[rehearsal.Families], out[rehearsal.Limits] = strings.Join(families, ", "), strings.Join(limits, ", ")
	return out
}
