package ingest

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// The columns of what routers say.
var routerHeader = []string{string(ColumnKind), string(ColumnName), string(ColumnPrefix), string(ColumnVia), string(ColumnNote)}

// maxRouterBytes bounds router output, which is read as a whole.
const maxRouterBytes = 64 << 20

// readJSON reads what routers say of themselves: ip -j address, ip -j route, or
// a routing table of the BGP daemon as JSON (by prefix, a list of routes each).
func readJSON(ctx context.Context, r io.Reader) (*Table, error) {
	text, err := io.ReadAll(io.LimitReader(r, maxRouterBytes+1))
	if err != nil {
		return nil, err
	}
	if len(text) > maxRouterBytes {
		return nil, &Error{Why: fmt.Sprintf("the JSON is larger than %d MiB", maxRouterBytes>>20), Want: "split it"}
	}
	var links []ipLink
	var routes []ipRoute
	var daemon map[string]json.RawMessage
	t := &Table{Header: routerHeader}
	switch {
	case json.Unmarshal(text, &links) == nil && slices.ContainsFunc(links, func(l ipLink) bool { return l.Addresses != nil }):
		t.Format = "addresses of a Linux box"
		t.addresses(links)
	case json.Unmarshal(text, &routes) == nil && slices.ContainsFunc(routes, func(r ipRoute) bool { return r.Dst != "" }):
		t.Format = "routes of a Linux box"
		t.routes(routes)
	case json.Unmarshal(text, &daemon) == nil:
		t.Format = "routing table of a BGP daemon"
		if err := t.daemon(daemon); err != nil {
			return nil, err
		}
	default:
		var any any
		if err := json.Unmarshal(text, &any); err != nil {
			return nil, jsonError(text, err)
		}
	}
	if len(t.Rows) == 0 {
		return nil, &Error{Why: "this JSON holds no addresses or routes that Dravin knows", Want: "give the output of ip -j address, ip -j route, or the BGP daemon's show ip route json"}
	}
	return t, ctx.Err()
}

func jsonError(text []byte, err error) error {
	at := len(text)
	var syntax *json.SyntaxError
	if s, ok := err.(*json.SyntaxError); ok {
		syntax = s
		at = min(int(syntax.Offset), len(text))
	}
	line := strings.Count(string(text[:at]), "\n") + 1
	return &Error{Line: line, Column: at - strings.LastIndexByte(string(text[:at]), '\n'), Why: "this is not JSON: " + err.Error(), Want: "give the whole output"}
}

// row adds a row; the line is its number, since JSON has no lines that matter.
func (t *Table) row(cells ...string) {
	t.Rows = append(t.Rows, Row{len(t.Rows) + 1, cells})
}

type ipLink struct {
	Name      string `json:"ifname"`
	Addresses []struct {
		Family string `json:"family"`
		Local  string `json:"local"`
		Length int    `json:"prefixlen"`
		Scope  string `json:"scope"`
	} `json:"addr_info"`
}

func (t *Table) addresses(links []ipLink) {
	for _, l := range links {
		for _, a := range l.Addresses {
			if a.Scope != "global" {
				continue
			}
			text := a.Local + "/" + strconv.Itoa(a.Length)
			if p, err := netip.ParsePrefix(text); err == nil {
				text = p.Masked().String()
			}
			t.row("lan", l.Name, text, "", "interface "+l.Name+" has "+a.Local)
		}
	}
}

type ipRoute struct {
	Dst      string `json:"dst"`
	Gateway  string `json:"gateway"`
	Device   string `json:"dev"`
	Protocol string `json:"protocol"`
	Scope    string `json:"scope"`
	Type     string `json:"type"`
}

func (t *Table) routes(routes []ipRoute) {
	for _, r := range routes {
		switch {
		case r.Dst == "default" || r.Type != "" && r.Type != "unicast":
			continue
		case r.Scope == "link":
			t.row("lan", r.Device, single(r.Dst), "", "connected on "+r.Device)
		default:
			t.row("inner-route", "", single(r.Dst), r.Gateway, "route of protocol "+r.Protocol)
		}
	}
}

// single writes an address as the prefix of one.
func single(text string) string {
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a, a.BitLen()).String()
	}
	return text
}

type daemonRoute struct {
	Prefix   string `json:"prefix"`
	Protocol string `json:"protocol"`
	Selected bool   `json:"selected"` // of all sources
	Best     bool   `json:"bestpath"` // of BGP's paths
	Hops     []struct {
		IP        string `json:"ip"`
		Interface string `json:"interfaceName"`
		Nowhere   bool   `json:"unreachable"` // a black hole, or a rejection
	} `json:"nexthops"`
}

func (t *Table) daemon(table map[string]json.RawMessage) error {
	if inner, ok := table["routes"]; ok { // as show bgp json wraps it
		var wrapped map[string]json.RawMessage
		if json.Unmarshal(inner, &wrapped) == nil {
			table = wrapped
		}
	}
	keys := make([]string, 0, len(table))
	for k := range table {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		if _, err := netip.ParsePrefix(k); err != nil {
			continue
		}
		var routes []daemonRoute
		if err := json.Unmarshal(table[k], &routes); err != nil || len(routes) == 0 {
			return &Error{Why: fmt.Sprintf("the entry of %s is not a list of routes", k), Want: "give the BGP daemon's show ip route json, or show bgp json"}
		}
		t.daemonRow(k, routes)
	}
	return nil
}

func (t *Table) daemonRow(p string, routes []daemonRoute) {
	best := routes[0]
	for _, r := range routes {
		if r.Selected || r.Best {
			best = r
		}
	}
	via, device := "", ""
	if len(best.Hops) > 0 && best.Hops[0].Nowhere {
		return
	}
	if len(best.Hops) > 0 {
		via, device = best.Hops[0].IP, best.Hops[0].Interface
	}
	if a, err := netip.ParseAddr(via); err == nil && a.IsUnspecified() { // its own announcement
		via = ""
	}
	switch {
	case strings.HasSuffix(p, "/0") || best.Protocol == "kernel" || best.Protocol == "local":
	case best.Protocol == "connected":
		t.row("lan", device, p, "", "connected on "+device)
	default:
		protocol := best.Protocol
		if protocol == "" {
			protocol = "bgp"
		}
		t.row("inner-route", "", p, via, "learned by "+protocol)
	}
}
