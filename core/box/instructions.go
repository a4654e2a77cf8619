package box

import (
	"fmt"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/topology"
)

// Instruction is one thing that somebody must enter, order, accept or build. Those of all
// parties together say everything on which a table or a walk depends.
type Instruction struct {
	ID     design.ID   `json:"id"`     // the object that it is about
	Kind   design.Kind `json:"kind"`   //
	Object string      `json:"object"` // its path in the design
	Parent design.ID   `json:"parent,omitempty"`
	Name   string      `json:"name"`
	Party  design.ID   `json:"party"`         // whose it is to do
	End    int         `json:"end,omitempty"` // of what has two ends: 1 or 2; 0 of what has none
	Who    string      `json:"who,omitempty"` // who answers for the party
	At     string      `json:"at"`            // where it is entered: the party, a box or a table
	Does   string      `json:"does"`          // as a sentence
	Lines  []string    `json:"lines"`         // what belongs to it, in order
	Why    string      `json:"why"`           // what it is for
	From   []string    `json:"from"`          // the paths of what it follows from
	Check  Check       `json:"check"`
	Done   bool        `json:"done"` // the design says that it is
	// Due says that it is part of the plan: what was refused, is gone or waits for an answer is
	// not to be entered.
	Due bool             `json:"due"`
	Set []design.Setting `json:"set"` // all values, as in a design file
}

// Instructions are those of one party, none of one that is not there, in the order in which they are done: what is
// there, then what joins it with others, then what routes by these.
func Instructions(t *route.Tables, party design.ID) []Instruction {
	d := t.Design
	p := d.Get(party)
	if p == nil {
		return []Instruction{}
	}
	w := &writer{tables: t, design: d, party: p, who: ownerName(d, p), out: []Instruction{}}
	for _, o := range order(d, party) {
		w.write(o)
	}
	return w.out
}

func ownerName(d *design.Design, party *design.Object) string {
	if o := d.Get(design.OwnerOf(party)); o != nil {
		return o.Name
	}
	return ""
}

// order lists what concerns a party: itself and what is asked of it, its places, its boxes each
// with what ends there, then what joins it otherwise, its tables and its hosts. What stands in
// something follows it.
func order(d *design.Design, party design.ID) []*design.Object {
	var out []*design.Object
	seen := map[design.ID]bool{}
	add := func(list ...*design.Object) {
		for _, o := range list {
			if !seen[o.ID] && len(endsAt(d, o, party)) > 0 {
				seen[o.ID] = true
				out = append(out, o)
			}
		}
	}
	joints := func(end design.ID) {
		for _, j := range topology.At(d, end) {
			if !topology.BetweenBoxes(j.Kind) {
				continue // it is listed after those
			}
			add(j)
			for _, carrier := range topology.CarriersOf(d, j) {
				add(carrier)
				add(d.Inside(carrier.ID, design.KindSession)...)
			}
		}
		add(design.InOrder(d.Referring(end, design.KindMapping))...)
		for o := range d.ListenersAt(end) {
			add(o)
		}
	}
	if p := d.Get(party); p.Kind != design.KindSite {
		add(p)
	}
	add(d.Of(design.KindRequest)...)
	add(d.Inside(party, design.KindLAN, design.KindInnerRoute)...)
	for _, o := range d.Inside(party, design.KindGateway, design.KindBox) {
		add(o)
		joints(o.ID)
	}
	joints(party)
	for j := range d.Joints() {
		add(j.Object) // those that are left
	}
	add(d.Inside(party, design.KindTable, design.KindHubTable, design.KindSubnet)...)
	for _, place := range d.Inside(party, design.HostPlaces...) {
		add(d.Inside(place.ID, design.KindEndpoint)...)
	}
	add(d.Of(design.KindGroup)...)
	add(d.Of(design.KindCrossing)...)
	add(d.Of(design.KindFilter)...)
	add(d.Of(design.KindNames)...)
	return out
}

// endsAt are the ends of an object that are a party's to enter: 0 where it has none.
func endsAt(d *design.Design, o *design.Object, party design.ID) []int {
	at := func(id design.ID) bool { p := d.Party(id); return p != nil && p.ID == party }
	either := func(a, b design.ID) []int {
		var out []int
		for n, id := range []design.ID{a, b} {
			if at(id) {
				out = append(out, n+1)
			}
		}
		return out
	}
	one := func(id design.ID) []int {
		if at(id) {
			return []int{0}
		}
		return nil
	}
	any := func(ids ...design.ID) []int {
		if slices.ContainsFunc(ids, at) {
			return []int{0}
		}
		return nil
	}
	switch b := o.Body.(type) {
	case *design.Attachment:
		if at(o.ID) || at(b.What) {
			return []int{0}
		}
		return nil
	case *design.Tunnel:
		return endsAt(d, d.Get(o.Parent), party)
	case *design.Session:
		return endsAt(d, d.Get(o.Parent), party)
	case *design.Mapping:
		return one(b.Gateway)
	case *design.Listener:
		return one(b.At)
	case *design.Group:
		return any(b.Members...)
	case *design.Names:
		return any(b.For...)
	case *design.PacketFilter:
		if m := d.MembersOf(b.At); len(m) > 0 {
			return any(m...)
		}
		return any(append(route.CrossedAt(d, b.At), b.At)...)
	case *design.Crossing:
		return any(route.CrossedAt(d, o.ID)...)
	case *design.Request:
		if len(endsAt(d, d.Get(b.For), party)) > 0 {
			return []int{0}
		}
		return nil
	}
	if j, ok := design.JointOf(o); ok {
		return either(j.Ends[0], j.Ends[1])
	}
	return one(o.ID)
}

// writer writes the instructions of one party.
type writer struct {
	tables *route.Tables
	design *design.Design
	party  *design.Object
	who    string
	out    []Instruction
}

func (w *writer) write(o *design.Object) {
	for _, end := range endsAt(w.design, o, w.party.ID) {
		i := Instruction{
			ID: o.ID, Kind: o.Kind, Object: w.design.Path(o.ID), Parent: o.Parent, Name: o.Name, Party: w.party.ID, End: end,
			Who: w.who, At: w.place(o, end), Lines: []string{}, From: []string{}, Done: w.design.StateOf(o.ID) == design.Ready,
			Due: w.due(o, end),
		}
		for _, id := range design.RefsOf(o) {
			if path := w.design.Path(id); path != "" && !slices.Contains(i.From, path) &&
				w.design.Get(id).Kind != design.KindOwner {
				i.From = append(i.From, path)
			}
		}
		slices.Sort(i.From)
		set := w.design.Settings(o.With(resolved(w.design, o)))
		i.Set = slices.DeleteFunc(set, func(s design.Setting) bool { return !entered(o.Kind, s.Key, end) })
		says := saysOf(w, o, end)
		i.Does, i.Why, i.Check = says.does, says.why, checkOf(o, w.party.ID, end, says.check)
		i.Lines = append(append(i.Lines, says.lines...), rest(w.design, i.Set, says.covers)...)
		if linux(w.design, o) {
			for _, l := range prepare(w.design, o) {
				i.Lines = append(i.Lines, "once, as root on a fresh Debian: "+l)
			}
			i.Lines = append(i.Lines, Bound)
		}
		w.out = append(w.out, i)
	}
}

// due reports whether something is to be entered at an end: links and what is on them once they are
// meant at the horizon, else all that was neither refused nor is gone. A tunnel that is gone at an end is in no box's
// files; a cloud has its own end of it whether the far one is set up or not.
func (w *writer) due(o *design.Object, end int) bool {
	switch o.Kind {
	case design.KindSession:
		return w.due(w.design.Get(o.Parent), end)
	case design.KindTunnel:
		gone := design.GoneAtAnEnd(o)
		if ends := o.Body.(*design.Tunnel).Ends; gone && w.party.Kind != design.KindSite {
			gone = len(ends) >= end && ends[end-1].State == design.Gone
		}
		return w.due(w.design.Get(o.Parent), end) && !gone
	case design.KindLink:
		return w.tables.Status.Intended(o)
	case design.KindRequest:
		return o.Body.(*design.Request).Answer == ""
	}
	return status.Exists(o)
}

// place is where something is entered.
func (w *writer) place(o *design.Object, end int) string {
	if end > 0 {
		at := o
		for at.Kind == design.KindTunnel || at.Kind == design.KindSession {
			at = w.design.Get(at.Parent)
		}
		if j, ok := design.JointOf(at); ok {
			return w.design.Get(j.Ends[end-1]).Name
		}
	}
	switch b := o.Body.(type) {
	case *design.Mapping:
		return w.design.Get(b.Gateway).Name
	case *design.Listener:
		return w.design.Get(b.At).Name
	case *design.PacketFilter:
		return w.design.Get(b.At).Name
	case *design.Gateway, *design.Box:
		return o.Name
	}
	return w.party.Name
}

// unentered are fields that nobody enters anywhere: who answers, notes, and what only the
// design itself asks.
var unentered = map[design.Kind][]string{
	design.KindLAN: {"fixed"}, design.KindInnerRoute: {"fixed"}, design.KindCircuit: {"expires"},
	design.KindRequest: {"reason", "from", "to"},
}

// entered reports whether a party enters a value of an object: not what is the far end's
// alone.
func entered(k design.Kind, key string, end int) bool {
	if key == "note" || key == "owner" || strings.HasSuffix(key, "/for") || strings.HasSuffix(key, "/note") ||
		slices.Contains(unentered[k], key) {
		return false
	}
	for _, list := range []string{"ends/", "halves/"} {
		if rest, ok := strings.CutPrefix(key, list); ok && end > 0 {
			return strings.HasPrefix(rest, fmt.Sprintf("%d/", end-1))
		}
	}
	return true
}

// rest are the values that a sentence does not tell, a line each.
func rest(d *design.Design, set []design.Setting, covers []string) []string {
	var out []string
	for _, s := range set {
		if slices.ContainsFunc(covers, func(c string) bool { return s.Key == c || strings.HasPrefix(s.Key, c+"/") }) {
			continue
		}
		value := strings.Join(s.Values, ", ")
		if s.Key == "state" {
			value = design.StateWord(value)
		}
		out = append(out, label(s.Key)+": "+value)
	}
	return out
}

// labels are the fields whose keys do not say it.
var labels = map[string]string{
	"asn": "ASN", "router_id": "BGP identifier", "vpn": "kind of VPN gateway", "ike": "IKE proposals",
	"esp":  "ESP proposals",
	"vlan": "VLAN tag", "mtu": "MTU, bytes", "dpd": "asks whether the far end lives, every so many " +
		"seconds", "mbps": "Mbit/s",
	"nat": "stands behind a NAT", "encapsulate": "puts ESP into UDP always (RFC 3948)", "stands": "addresses " +
		"beside hosts",
	"enters": "what comes in is routed by", "source_pool": "source pool", "hub_routes": "knows what the hubs know",
	"allow_own": "own ASN in a path, so often", "client": "the far end is its client (RFC 4456)",
	"keep_next_hop": "keeps next hops", "max_prefixes": "most routes taken", "password": "signs with the session's " +
		"password",
	"learns": "learns of gateways and hubs", "public": "its hosts are reached from the internet", "state": "status",
	"code_zone": "zone of the order code", "code": "order code", "exchange": "exchange", "list": "announces",
	"dials": "dials", "hides": "callers are hidden behind its own address", "what": "attaches",
	"faults": "known to be wrong",
}

func label(key string) string {
	last := key[strings.LastIndexByte(key, '/')+1:]
	if l := labels[last]; l != "" {
		return l
	}
	return strings.ReplaceAll(last, "_", " ")
}
