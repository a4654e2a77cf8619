package rehearsal

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
)

// Role is what a namespace stands for.
type Role string

// The roles.
const (
	OwnBox   Role = "box"      // one's own: it has the files that are handed over
	Player   Role = "player"   // a cloud's gateway or a hub, which follows its instructions
	Network  Role = "network"  // a cloud's network, with its tables
	Router   Role = "router"   // an inner router of a site, or what stands before a box behind a NAT
	HostRole Role = "host"     // it answers what the design says
	World    Role = "world"    // the internet
	Switches Role = "switches" // the switches of all LANs
	Wires    Role = "wires"    // what stands for ESP
)

// Plan is what a rehearsal builds. Nodes are in the order in which they are made.
type Plan struct {
	Nodes  []*Node
	Cables []Cable
	Wires  []Wire
	Rows   []Row
	Leaves []string // what is not rehearsed, as sentences

	// What is proven, and is held against what comes of it.
	Sessions []Session
	Tables   []Table
	Flows    []Flow
	Intents  []Intent // in canonical order

	Keys handover.Keys // that files and players have, made up
}

// Node is one namespace.
type Node struct {
	Name   string    // short, and its alone
	ID     design.ID // what it stands for; empty for what no design has
	Party  design.ID
	Title  string
	Role   Role
	Before []string // commands of the shell: what is there before anything is handed over
	After  []string // and what is known to be wrong with it, once it has booted
	// Rulesets are of nftables, by those for whom the node stands, each with tables of its own.
	Rulesets []string
	Files    []handover.File // below its /etc
	// Addresses are a host's, and Answers what it answers; none: whatever it is asked.
	Addresses []netip.Addr
	Answers   []design.Service
	Place     design.ID // of a host: its LAN, inner route or subnet
	devices   int
	filters   int
	asks      bool
}

func (n *Node) do(format string, args ...any) {
	n.Before = append(n.Before, fmt.Sprintf(format, args...))
}

// Port is an end of a cable.
type Port struct{ Node, Device string }

// Cable joins two namespaces.
type Cable struct {
	Ends  [2]Port
	Joint design.ID // the circuit, peering or attachment that it stands for; empty if for none
	Cut   bool      // it is not there yet
}

// Wire stands for the ESP of one tunnel: what is sent into one of its ends comes out of the other
// while both daemons hold a child SA whose selectors it fits.
type Wire struct {
	Tunnel   design.ID
	Link     design.ID
	Name     string // the tunnel's, with its link's
	Policies bool   // selectors decide what enters it
	Ends     [2]WireEnd
	Up       bool   // as it is proven
	Why      string // it is not
	Renews   int    // the end at which a renewal is forced; -1: none
}

// WireEnd is one end of a wire.
type WireEnd struct {
	Node    string
	Device  string // at the node
	Inner   string // the other end of that cable, among the wires
	Address netip.Addr
	Peer    netip.Addr
	Asks    bool // its kernel asks selectors what enters the tunnel, and no route
	// Stay are the ranges between which selectors take nothing.
	Stay       []netip.Prefix
	Connection string // what the daemon there calls it
	Children   []string
	Starts     bool   // it begins
	DPD        int    // seconds of silence after which the daemon asks whether the far end lives
	Terms      []Term // to which one's own daemon must come, if it is proven to be up
}

// Row is a route that a player keeps in a table while what it needs is there.
type Row struct {
	Node   string
	Table  int // 0: the main one
	Prefix netip.Prefix
	Metric int
	Ways   []Way // the kernel shares among those that stand; none: what is for it is dropped
	Throw  bool  // the next table is asked
}

// Way is a next hop of a row.
type Way struct {
	Device string
	Via    netip.Addr // invalid: whoever is at the other end
	Tunnel design.ID  // it stands while this does; empty: always
	Known  Known      // it stands while somebody knows a route; zero: always
}

// Known is a route that a node has learned by BGP.
type Known struct {
	Node  string
	Table int
}

// Of plans the rehearsal of a design: tables are those that are proven, sample is how many flows are
// sent beside those of intents and published services. Every tunnel gets a key that is made up.
func Of(t *route.Tables, sample int) (*Plan, error) { return At(t, t, sample) }

// At plans the rehearsal of a design that is on its way to another: the namespaces and cables are those of the whole
// as it will be, with what is not there yet cut, and files, routes and what is proven are those of now. Plans of one
// whole at different times differ in nothing else.
func At(whole, now *route.Tables, sample int) (*Plan, error) {
	frame, err := obeyed(whole)
	if err != nil {
		return nil, err
	}
	tables, built, played := frame, now, frame
	if now != whole {
		if played, err = obeyed(built); err != nil {
			return nil, err
		}
		now = standing(whole, now)
		if tables, err = obeyed(now); err != nil {
			return nil, err
		}
	}
	b := &builder{
		whole: whole, frame: frame, proven: now, built: built, played: played, tables: tables, design: tables.Design,
		plan:  &Plan{},
		nodes: map[design.ID]*Node{}, keys: handover.Keys{}, devices: map[[2]design.ID]string{},
		boxes: map[design.ID]*box.Box{}, given: map[string]netip.Addr{},
	}
	b.plan.Keys = b.keys
	for n, x := range b.design.Of(design.KindTunnel) {
		b.keys[x.ID] = fmt.Sprintf("rehearsed key number %d", n+1)
	}
	b.choose(sample)
	b.build()
	b.unplug()
	b.expect()
	return b.plan, nil
}

// unplug cuts the cables of boxes of one's own that are not there: yet, or any more.
func (b *builder) unplug() {
	absent := map[string]bool{}
	for _, n := range b.plan.Nodes {
		absent[n.Name] = n.Role == OwnBox && b.built.Design.Get(n.ID) == nil
	}
	for k, c := range b.plan.Cables {
		if absent[c.Ends[0].Node] || absent[c.Ends[1].Node] {
			b.plan.Cables[k].Cut = true
		}
	}
}

// obeyed are the tables of the design that the instructions make, which is all that players know.
func obeyed(t *route.Tables) (*route.Tables, error) {
	told, err := box.Rebuilt(t.Design, box.Told(t))
	if err != nil {
		return nil, fmt.Errorf("what the instructions say makes no design: %w", err)
	}
	if t.Design.Side() == design.Built { // an address that was not given yet is none there
		told = told.WithBuilt(told).Built()
	}
	return route.Solve(told, t.Status.Condition()), nil
}

// builder is a plan on its way.
type builder struct {
	whole   *route.Tables  // what is proven of the estate as it will be
	frame   *route.Tables  // the same of the design that the instructions make
	built   *route.Tables  // what is proven now, from which files are rendered
	played  *route.Tables  // and of the design that the instructions make, which is what players do
	proven  *route.Tables  // what is built now, with all that stands there besides
	tables  *route.Tables  // and of the design that the instructions make now
	design  *design.Design // which that is
	plan    *Plan
	nodes   map[design.ID]*Node
	keys    handover.Keys
	boxes   map[design.ID]*box.Box
	devices map[[2]design.ID]string // of a place or joint at a node's object
	world   *Node
	lans    *Node
	ether   *Node
	given   map[string]netip.Addr // addresses that no design gives, by place, range and who has them
}

func (b *builder) build() {
	b.lans = b.add(Switches, "", "switches")
	b.world = b.add(World, "", "the internet")
	b.ether = b.add(Wires, "", "wires")
	b.ether.do("sysctl -qw net.ipv4.ip_forward=0 net.ipv6.conf.all.forwarding=0")
	for _, s := range b.design.Of(design.KindSite) {
		b.site(s)
	}
	for _, e := range b.design.Of(design.KindEdgeRouter) {
		b.own(e.ID)
	}
	for _, n := range b.design.Of(design.KindNetwork) {
		b.network(n)
	}
	for _, h := range b.design.Of(design.KindHub) {
		b.hub(h)
	}
	b.links()
	b.circuits()
	b.peerings()
	b.attachments()
	b.players()
	b.filters()
	b.rows()
}

// add makes a node for an object of the design, or for what no design has.
func (b *builder) add(role Role, id design.ID, title string) *Node {
	n := &Node{Name: fmt.Sprintf("n%d", len(b.plan.Nodes)), ID: id, Title: title, Role: role}
	if id != "" {
		n.Title, n.Party = b.design.Title(id), b.design.Party(id).ID
		b.nodes[id] = n
	}
	b.plan.Nodes = append(b.plan.Nodes, n)
	return n
}

// device is a name for a device of a node.
func (n *Node) device(kind string) string {
	n.devices++
	return fmt.Sprintf("%s%d", kind, n.devices)
}

// cable joins two nodes by devices of these names; an empty one is made up.
func (b *builder) cable(a *Node, x string, z *Node, y string) (atA, atZ string) {
	if x == "" {
		x = a.device("e")
	}
	if y == "" {
		y = z.device("e")
	}
	b.plan.Cables = append(b.plan.Cables, Cable{Ends: [2]Port{{a.Name, x}, {z.Name, y}}})
	return x, y
}

// standsFor says which joint the cable that was laid last is.
func (b *builder) standsFor(joint design.ID) {
	c := &b.plan.Cables[len(b.plan.Cables)-1]
	c.Joint, c.Cut = joint, !b.tables.Status.Of(joint).Up
}

// WireMAC is that of both ends of what has no neighbours: whatever is sent into it is taken.
const WireMAC = "02:00:00:00:00:01"

// wire is a cable without neighbours.
func (b *builder) wire(a *Node, x string, z *Node, y string) (atA, atZ string) {
	x, y = b.cable(a, x, z, y)
	a.do("ip link set %s arp off addrgenmode none address %s up", x, WireMAC)
	z.do("ip link set %s arp off addrgenmode none address %s up", y, WireMAC)
	return x, y
}

// leaves notes what is not rehearsed, once.
func (b *builder) leaves(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	for _, l := range b.plan.Leaves {
		if l == text {
			return
		}
	}
	b.plan.Leaves = append(b.plan.Leaves, text)
}

// Parties are how many parties have something in the plan.
func (p *Plan) Parties() int {
	seen := map[design.ID]bool{}
	for _, n := range p.Nodes {
		if n.Party != "" {
			seen[n.Party] = true
		}
	}
	return len(seen)
}

// AskedOf are the services for which flows come to a host.
func (p *Plan) AskedOf(n *Node) (out []design.Service) {
	for _, f := range p.Flows {
		if len(f.Proof.Forward) == 0 {
			continue
		}
		h := f.Proof.Forward[len(f.Proof.Forward)-1].Header
		s := design.Service{Proto: h.Proto, Port: h.DPort}
		if slices.Contains(n.Addresses, h.Dst) && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// Tampering is a change to a file before it is handed over, by which one shows that a rehearsal notices.
type Tampering struct {
	Box  string `json:"box"`  // its title
	Path string `json:"path"` // below its /etc
	Old  string `json:"old"`  // a regular expression (RE2); what fits it first is replaced
	New  string `json:"new"`
}

// Tamper changes a file. The error says what is not there to be changed.
func (p *Plan) Tamper(x Tampering) error {
	old, err := regexp.Compile(x.Old)
	if err != nil {
		return err
	}
	for _, n := range p.Nodes {
		for k := range n.Files {
			f := &n.Files[k]
			if n.Title != x.Box || f.Path != x.Path {
				continue
			}
			at := old.FindStringIndex(f.Content)
			if at == nil {
				return fmt.Errorf("%s of %s has nothing that fits %s", x.Path, x.Box, x.Old)
			}
			f.Content = f.Content[:at[0]] + x.New + f.Content[at[1]:]
			return nil
		}
	}
	return fmt.Errorf("%s has no file %s", x.Box, x.Path)
}
