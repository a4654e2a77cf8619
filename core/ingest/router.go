package ingest

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// The columns of what routers say.
var routerHeader = []string{
	string(ColumnKind), string(ColumnName), string(ColumnPrefix), string(ColumnVia), string(ColumnNote),
}

// What router output may at most hold. It is read element by element.
const (
	maxRouterBytes = 32 << 20
	maxElement     = 4 << 20 // bytes of one interface or prefix
	maxInside      = 1000    // addresses of an interface, routes of a prefix
)

// readJSON reads what routers say of themselves: ip -j address, ip -j route, or
// a routing table of the BGP daemon as JSON (by prefix, a list of routes each).
func readJSON(ctx context.Context, r io.Reader) (*Table, error) {
	t := &Table{Header: routerHeader}
	source := &elements{
		filling: filling{ctx: ctx, table: t}, counted: &counted{reader: io.LimitReader(r, maxRouterBytes+1)},
	}
	source.dec = json.NewDecoder(source.counted)
	err := source.router()
	var own *Error
	switch {
	case source.counted.count > maxRouterBytes:
		return nil, &Error{Why: fmt.Sprintf("the JSON is larger than %d MiB", maxRouterBytes>>20), Want: "split it"}
	case errors.As(err, &own):
		return nil, own
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case err != nil:
		line, column := source.counted.place(source.dec.InputOffset())
		return nil, &Error{
			Line: line, Column: column, Why: "this is not JSON: " + err.Error(), Want: "give the whole output",
		}
	case len(t.Rows) == 0:
		return nil, errNoRouter
	}
	return t, nil
}

var errNoRouter = &Error{
	Why:  "this JSON holds no addresses or routes that Dravin knows",
	Want: "give the output of ip -j address, ip -j route, or the BGP daemon's show ip route json",
}

// counted counts bytes and remembers where lines end, up to where one may ask.
type counted struct {
	reader io.Reader
	count  int64
	lines  []int64 // where each line after the first begins; the first ones
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.reader.Read(p)
	for i, b := range p[:n] {
		if b == '\n' && len(c.lines) < MaxRows*4 {
			c.lines = append(c.lines, c.count+int64(i)+1)
		}
	}
	c.count += int64(n)
	return n, err
}

// place is the line and column of an offset, from 1.
func (c *counted) place(at int64) (line, column int) {
	n, _ := slices.BinarySearch(c.lines, at+1)
	if n == 0 {
		return 1, int(at) + 1
	}
	return n + 1, int(at-c.lines[n-1]) + 1
}

// elements reads the elements of a JSON list or object one after another.
type elements struct {
	filling
	dec     *json.Decoder
	counted *counted
	read    int
	line    int // of text, from 1; 0 for JSON
}

// open reads the delimiter that a list or object begins with.
func (e *elements) open() (json.Delim, error) {
	t, err := e.dec.Token()
	if err != nil {
		return 0, err
	}
	d, ok := t.(json.Delim)
	if !ok {
		return 0, errNoRouter
	}
	return d, nil
}

// next reads an element as it stands.
func (e *elements) next() (raw json.RawMessage, err error) {
	if e.read++; e.read > 2*MaxRows {
		return nil, &Error{Why: fmt.Sprintf("there are more than %d elements", 2*MaxRows), Want: "split it"}
	}
	if e.read%each == 0 && e.ctx.Err() != nil {
		return nil, e.ctx.Err()
	}
	if err := e.dec.Decode(&raw); err != nil {
		return nil, err
	}
	if len(raw) > maxElement {
		return nil, &Error{
			Why:  fmt.Sprintf("element %d has more than %d MiB", e.read, maxElement>>20),
			Want: "give the output of the router as it is",
		}
	}
	return raw, nil
}

// some decodes the first elements of a JSON list, no more than maxInside.
func some[T any](raw json.RawMessage) (out []T, ok bool) {
	dec := json.NewDecoder(bytes.NewReader(raw))
	if d, err := dec.Token(); err != nil || d != json.Delim('[') {
		return nil, false
	}
	for dec.More() && len(out) < maxInside {
		var v T
		if dec.Decode(&v) != nil {
			return nil, false
		}
		out = append(out, v)
	}
	return out, true
}

func (e *elements) router() error {
	t := e.table
	d, err := e.open()
	if err != nil {
		return err
	}
	if d == '{' {
		t.Format = "routing table of a BGP daemon"
		return e.daemon()
	}
	for e.dec.More() {
		raw, err := e.next()
		if err != nil {
			return err
		}
		var x struct {
			ipLink
			ipRoute
		}
		if json.Unmarshal(raw, &x) != nil {
			return errNoRouter
		}
		switch {
		case x.Addresses != nil:
			t.Format = "addresses of a Linux box"
			err = e.addresses(x.ipLink)
		case x.Dst != "":
			t.Format = "routes of a Linux box"
			err = e.route(x.ipRoute)
		}
		if err != nil {
			return err
		}
	}
	_, err = e.dec.Token()
	return err
}

// row adds a row; of JSON, which has no lines that matter, the line is its number.
func (e *elements) row(cells ...string) error {
	if e.line > 0 {
		return e.add(e.line, cells)
	}
	return e.add(len(e.table.Rows)+1, cells)
}

type ipLink struct {
	Name      string          `json:"ifname"`
	Addresses json.RawMessage `json:"addr_info"` // of ipAddress
}

type ipAddress struct {
	Local  string `json:"local"`
	Length int    `json:"prefixlen"`
	Scope  string `json:"scope"`
}

func (e *elements) addresses(l ipLink) error {
	list, _ := some[ipAddress](l.Addresses)
	for _, a := range list {
		if a.Scope != "global" {
			continue
		}
		text := a.Local + "/" + strconv.Itoa(a.Length)
		if p, err := netip.ParsePrefix(text); err == nil {
			text = p.Masked().String()
		}
		if err := e.row("lan", l.Name, text, "", "interface "+l.Name+" has "+a.Local); err != nil {
			return err
		}
	}
	return nil
}

type ipRoute struct {
	Dst      string `json:"dst"`
	Gateway  string `json:"gateway"`
	Device   string `json:"dev"`
	Protocol string `json:"protocol"`
	Scope    string `json:"scope"`
	Type     string `json:"type"`
}

func (e *elements) route(r ipRoute) error {
	switch {
	case r.Dst == "default" || r.Type != "" && r.Type != "unicast":
	case r.Scope == "link":
		return e.row("lan", r.Device, single(r.Dst), "", "connected on "+r.Device)
	default:
		return e.row("inner-route", "", single(r.Dst), r.Gateway, "route of protocol "+r.Protocol)
	}
	return nil
}

// single writes an address as the prefix of one.
func single(text string) string {
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a, a.BitLen()).String()
	}
	return text
}

type daemonRoute struct {
	Prefix   string          `json:"prefix"`
	Protocol string          `json:"protocol"`
	Selected bool            `json:"selected"` // of all sources
	Best     bool            `json:"bestpath"` // of BGP's paths
	Hops     json.RawMessage `json:"nexthops"` // of daemonHop
}

type daemonHop struct {
	IP        string `json:"ip"`
	Interface string `json:"interfaceName"`
	Nowhere   bool   `json:"unreachable"` // a black hole, or a rejection
}

// daemon reads the members of an object: prefixes with their routes, perhaps
// wrapped, as show bgp json does.
func (e *elements) daemon() error {
	best := map[string]daemonRoute{}
	if err := daemonMembers(e, best, true); err != nil {
		return err
	}
	keys := make([]string, 0, len(best))
	for k := range best {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		if err := e.daemonRow(k, best[k]); err != nil {
			return err
		}
	}
	return nil
}

func daemonMembers(e *elements, best map[string]daemonRoute, wrapped bool) error {
	for e.dec.More() {
		key, err := e.dec.Token()
		if err != nil {
			return err
		}
		name, _ := key.(string)
		if name == "routes" && wrapped {
			if d, err := e.open(); err != nil || d != '{' {
				return cmp.Or(err, error(errNoRouter))
			}
			if err := daemonMembers(e, best, false); err != nil {
				return err
			}
			continue
		}
		raw, err := e.next()
		if err != nil {
			return err
		}
		if _, err := netip.ParsePrefix(name); err != nil {
			continue
		}
		routes, ok := some[daemonRoute](raw)
		if !ok || len(routes) == 0 {
			return &Error{
				Why:  fmt.Sprintf("the entry of %s is not a list of routes", name),
				Want: "give the BGP daemon's show ip route json, or show bgp json",
			}
		}
		if best[name] = chosen(routes); len(best) > MaxRows {
			return &Error{Why: fmt.Sprintf("there are more than %d prefixes", MaxRows), Want: "split it"}
		}
	}
	_, err := e.dec.Token()
	return err
}

// chosen is the route that the daemon uses, with no more of it than is needed.
func chosen(routes []daemonRoute) daemonRoute {
	best := routes[0]
	for _, r := range routes {
		if r.Selected || r.Best {
			best = r
		}
	}
	return best
}

func (e *elements) daemonRow(p string, best daemonRoute) error {
	via, device := "", ""
	if hops, _ := some[daemonHop](best.Hops); len(hops) > 0 {
		if hops[0].Nowhere {
			return nil
		}
		via, device = hops[0].IP, hops[0].Interface
	}
	if a, err := netip.ParseAddr(via); err == nil && a.IsUnspecified() { // its own announcement
		via = ""
	}
	switch {
	case strings.HasSuffix(p, "/0") || best.Protocol == "kernel" || best.Protocol == "local":
	case best.Protocol == "connected":
		return e.row("lan", device, p, "", "connected on "+device)
	default:
		protocol := best.Protocol
		if protocol == "" {
			protocol = "bgp"
		}
		return e.row("inner-route", "", p, via, "learned by "+protocol)
	}
	return nil
}
