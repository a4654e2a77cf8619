package runbook

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"dravin/core/handover"
)

// What is done at a box of one's own is lines for its shell, in an order that loses nothing: what is there is kept
// before anything is copied over it, and the way back ends with what was there, and with nothing running, up or set
// that was not.

// Handed is the folder of a box into which what it is handed is copied before any of it is put into use.
func Handed(name string) string { return "/root/handed/" + handover.Folder(name) }

// before is the start of the names of what was there before a box was changed.
func before(name string) string { return "/root/dravin-before-" + handover.Folder(name) }

// kernelSettings are those of the kernel that the routes' script sets.
const kernelSettings = "net.ipv4.ip_forward net.ipv6.conf.all.forwarding net.ipv4.conf.all.rp_filter"

// script is the routes' script, below /etc.
const script = "dravin/routes.sh"

// terminates is the line that ends what a connection has set up.
func terminates(connection string) string {
	return "swanctl --terminate --ike " + connection + " || true"
}

// handedOver are the lines that put changed files of a box into use; fresh are those of them that it has not had. Files
// that its package has brought are kept, too, and what somebody filled in is not written over.
func handedOver(name string, old, now map[string]string, changed, fresh []string) (out []Command) {
	out = append(out, Command{
		"tar -C /etc --ignore-failed-read -cf " + before(name) + ".tar " + strings.Join(changed, " "),
		"keeps the files of before",
	})
	if slices.Contains(fresh, script) {
		out = append(out, Command{
			"sysctl " + kernelSettings + " >" + before(name) + ".sysctl", "keeps the kernel's settings",
		})
	}
	var filled, rest []string
	for _, p := range changed {
		if p == handover.Ports {
			filled = append(filled, p)
		} else {
			rest = append(rest, p)
		}
	}
	into := "cd " + Handed(name) + " && cp --parents --preserve=mode "
	if len(rest) > 0 {
		out = append(out, Command{Line: into + strings.Join(rest, " ") + " /etc/"})
	}
	if len(filled) > 0 {
		out = append(out, Command{into + "--no-clobber " + strings.Join(filled, " ") + " /etc/", "keeps what was filled in"})
	}
	for _, c := range gone(old, now) {
		out = append(out, Command{Line: terminates(c)})
	}
	for _, l := range handover.Load(changed, fresh) {
		out = append(out, Command{Line: l})
	}
	return out
}

// takenDown are the lines that leave nothing of what a box was handed running, up or set.
func takenDown(name string, had map[string]string) (out []Command) {
	if len(had) == 0 {
		return nil
	}
	fresh := slices.Sorted(maps.Keys(had))
	for _, l := range wayBack(name, nil, had, fresh, nil) {
		if !strings.Contains(l, before(name)) {
			out = append(out, Command{Line: l})
		}
	}
	return out
}

// wayBack are the lines that undo what [handedOver] does.
func wayBack(name string, old, now map[string]string, fresh, kept []string) (out []string) {
	for _, p := range fresh {
		if unit, ok := strings.CutPrefix(p, "systemd/system/"); ok {
			out = append(out, "systemctl disable --now "+unit)
		}
	}
	for _, c := range gone(now, old) {
		out = append(out, terminates(c))
	}
	if slices.Contains(fresh, script) {
		out = append(out, "sh /etc/"+script+" away")
	}
	if slices.Contains(fresh, handover.Ruleset) {
		out = append(out, "nft delete table ip dravin", "nft delete table ip6 dravin")
	}
	if len(fresh) > 0 {
		out = append(out, "cd /etc && rm -f "+strings.Join(fresh, " "))
	}
	out = append(out, "tar -C /etc -xf "+before(name)+".tar")
	if slices.Contains(fresh, script) {
		out = append(out, "sysctl -qp "+before(name)+".sysctl")
	}
	return append(out, handover.Unload(kept, fresh)...)
}

var connection = regexp.MustCompile(`(?m)^    ([^ #]\S*) \{$`)

// gone are the connections of the IPsec daemon in one set of a box's files that another has not.
func gone(from, to map[string]string) (out []string) {
	const path = "swanctl/conf.d/dravin.conf"
	left := connection.FindAllStringSubmatch(to[path], -1)
	for _, m := range connection.FindAllStringSubmatch(from[path], -1) {
		same := func(x []string) bool { return x[1] == m[1] }
		if !slices.ContainsFunc(left, same) && m[1] != handover.Bypass {
			out = append(out, m[1])
		}
	}
	return out
}
