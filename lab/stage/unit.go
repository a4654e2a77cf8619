package stage

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	systemd "github.com/coreos/go-systemd/v22/unit"
)

// unit is a unit file of systemd: what of it decides when, whether and how a service is started (systemd.unit(5),
// systemd.service(5)).
type unit struct {
	name       string
	after      []string
	before     []string
	wants      []string
	enabled    bool // something of the system wants it at boot: WantedBy=
	conditions []condition
	kind       string // Type=
	pre        []string
	start      []string
	post       []string
	restart    string
	pause      time.Duration // RestartSec=
	environ    []string      // files
	variables  []string
}

// condition is one of the ConditionPath kind.
type condition struct{ what, value string }

// readUnit reads a unit file. What it can not follow is an error: nothing is started otherwise than systemd would.
func readUnit(name, text string) (*unit, error) {
	options, err := systemd.DeserializeOptions(strings.NewReader(text))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	u := &unit{name: name, kind: "simple", restart: "no", pause: 100 * time.Millisecond}
	for _, o := range options {
		if err := u.set(o); err != nil {
			return nil, fmt.Errorf("%s: %s: %w", name, o.Name, err)
		}
	}
	return u, nil
}

// passedOver are what does not decide when, whether or how a service is started here.
var passedOver = []string{
	"Description", "Documentation", "StartLimitIntervalSec", "RemainAfterExit", "ExecReload", "ExecStop",
	"DynamicUser", "AmbientCapabilities", "Alias", "StandardInput", "ProtectSystem", "ProtectHome",
	"DefaultDependencies", "Conflicts", "PartOf", "ReloadPropagatedFrom",
}

func (u *unit) set(o *systemd.UnitOption) error {
	list := map[string]*[]string{
		"After": &u.after, "Before": &u.before, "Wants": &u.wants, "ExecStartPre": &u.pre, "ExecStart": &u.start,
		"ExecStartPost":   &u.post,
		"EnvironmentFile": &u.environ, "Environment": &u.variables,
	}[o.Name]
	switch {
	case list != nil && o.Value == "":
		*list = nil // an empty one takes those before it back
	case o.Name == "WantedBy":
		u.enabled = true
	case o.Name == "After" || o.Name == "Before" || o.Name == "Wants":
		*list = append(*list, strings.Fields(o.Value)...)
	case list != nil:
		if strings.ContainsAny(o.Value, `"'\`) {
			return fmt.Errorf("quotes are not followed: %s", o.Value)
		}
		*list = append(*list, o.Value)
	case o.Name == "Type":
		u.kind = o.Value
	case o.Name == "Restart":
		u.restart = o.Value
	case o.Name == "RestartSec":
		text := o.Value
		if strings.Trim(text, "0123456789") == "" {
			text += "s"
		}
		d, err := time.ParseDuration(text)
		u.pause = d
		return err
	case strings.HasPrefix(o.Name, "Condition"):
		u.conditions = append(u.conditions, condition{o.Name, o.Value})
	case !slices.Contains(passedOver, o.Name):
		return fmt.Errorf("it is not known what this does to %s", u.name)
	}
	return nil
}

// met reports whether the conditions hold below a root.
func (u *unit) met(root string) (bool, error) {
	for _, c := range u.conditions {
		value, not := strings.CutPrefix(strings.TrimPrefix(c.value, "|"), "!")
		path := filepath.Join(root, value)
		info, err := os.Stat(path)
		var is bool
		switch c.what {
		case "ConditionPathExists":
			is = err == nil
		case "ConditionPathIsDirectory":
			is = err == nil && info.IsDir()
		case "ConditionFileNotEmpty":
			is = err == nil && info.Mode().IsRegular() && info.Size() > 0
		case "ConditionDirectoryNotEmpty":
			list, _ := os.ReadDir(path)
			is = len(list) > 0
		case "ConditionPathExistsGlob":
			list, _ := filepath.Glob(path)
			is = len(list) > 0
		default:
			return false, fmt.Errorf("%s: %s is not followed", u.name, c.what)
		}
		if is == not {
			return false, nil
		}
	}
	return true, nil
}

// started are those of some units that start at boot: what is enabled, and what that wants.
func started(units []*unit) []*unit {
	var out []*unit
	for {
		n := slices.IndexFunc(units, func(u *unit) bool {
			return !slices.Contains(out, u) && (u.enabled || slices.ContainsFunc(out, func(v *unit) bool {
				return slices.Contains(v.wants, u.name)
			}))
		})
		if n < 0 {
			return out
		}
		out = append(out, units[n])
	}
}

// ordered are units in the order in which systemd would start them one by one: each after those that it names and
// those that name it. Of two without order the one whose name is first goes first. Units that wait for each other
// are an error.
func ordered(units []*unit) ([]*unit, error) {
	slices.SortFunc(units, func(a, b *unit) int { return strings.Compare(a.name, b.name) })
	waits := func(a, b *unit) bool { return slices.Contains(a.after, b.name) || slices.Contains(b.before, a.name) }
	var out []*unit
	for len(out) < len(units) {
		n := slices.IndexFunc(units, func(u *unit) bool {
			return !slices.Contains(out, u) && !slices.ContainsFunc(units, func(v *unit) bool {
				return v != u && !slices.Contains(out, v) && waits(u, v)
			})
		})
		if n < 0 {
			return nil, fmt.Errorf("units wait for each other: %s", names(units, out))
		}
		out = append(out, units[n])
	}
	return out, nil
}

func names(units, without []*unit) string {
	var out []string
	for _, u := range units {
		if !slices.Contains(without, u) {
			out = append(out, u.name)
		}
	}
	return strings.Join(out, ", ")
}
