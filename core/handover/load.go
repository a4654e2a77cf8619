package handover

import (
	"path"
	"slices"
	"strings"
)

// Load are the lines for the shell of a box of one's own that put files into use that are others than before, by their
// paths below /etc: what is new is enabled. Lines that would do nothing are left out. Each may be run again.
func Load(changed, fresh []string) (out []string) {
	any := func(prefix string, list []string) bool {
		return slices.ContainsFunc(list, func(p string) bool { return strings.HasPrefix(p, prefix) })
	}
	if any("nftables.d/", changed) {
		out = append(out, "nft -f /etc/"+Ruleset)
	}
	if any("dravin/routes.sh", changed) || any("dravin/ports", changed) {
		out = append(out, "sh /etc/dravin/routes.sh")
	}
	if any("strongswan.d/", changed) || any("swanctl/", fresh) {
		out = append(out, "systemctl restart strongswan.service")
	} else if any("swanctl/", changed) {
		out = append(out, "swanctl --load-all --noprompt")
	}
	if any("bird/", fresh) {
		out = append(out, "systemctl restart bird.service")
	} else if any("bird/", changed) {
		out = append(out, "birdc configure")
	}
	if any("systemd/", changed) {
		out = append(out, "systemctl daemon-reload")
	}
	for _, p := range changed {
		unit, isUnit := strings.CutPrefix(p, "systemd/system/")
		switch {
		case isUnit && slices.Contains(fresh, p):
			out = append(out, "systemctl enable --now "+unit)
		case isUnit && unit != start:
			out = append(out, "systemctl restart "+unit)
		}
	}
	if any("dravin/watch.sh", changed) && !slices.Contains(fresh, "systemd/system/dravin-watch.service") {
		out = append(out, "systemctl restart dravin-watch.service")
	}
	return slices.Compact(out)
}

// Ruleset is the path of a box's ruleset below /etc.
const Ruleset = "nftables.d/dravin.nft"

// Unload are the lines that put the files of before into use again: kept are those that a box has had, by their paths
// below /etc, and fresh those that it has not.
func Unload(kept, fresh []string) (out []string) {
	out = Load(kept, nil)
	for _, p := range fresh {
		switch {
		case strings.HasPrefix(p, "swanctl/") && !slices.ContainsFunc(kept, func(k string) bool {
			return strings.HasPrefix(k, "swanctl/") || strings.HasPrefix(k, "strongswan.d/")
		}):
			out = append(out, "swanctl --load-all --noprompt")
		case strings.HasPrefix(p, "bird/"):
			out = append(out, "systemctl restart bird.service")
		case strings.HasPrefix(p, "systemd/"):
			out = append(out, "systemctl daemon-reload")
		}
	}
	return slices.Compact(out)
}

// Of are the files of one box of one's own, with their paths below its /etc.
func Of(files []File, box string) (out []File) {
	for _, f := range files {
		if rest, ok := strings.CutPrefix(f.Path, folders.name(box)+"/"); ok && path.Dir(rest) != "." {
			f.Path = rest
			out = append(out, f)
		}
	}
	return out
}
