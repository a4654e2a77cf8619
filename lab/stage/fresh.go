package stage

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// A box that begins without files is a fresh Debian machine: of /etc it has what base packages bring, and of programs
// those of the packages that every Debian has. What it needs beside them the order of work must say.

// programs is where a fresh machine finds programs, and machine where the files of this one are seen from it.
const (
	programs = standIns + "/bin"
	machine  = "/run/machine"
)

// standInApt is apt-get where there is no archive: what a package brings is taken from this machine, which has it.
const standInApt = `#!/bin/sh
PATH=/usr/sbin:/usr/bin:/sbin:/bin
if [ "${1-}" != install ]; then
	echo "nothing stands for apt-get ${1-}" >&2
	exit 1
fi
shift
for p; do
	case "$p" in -*) continue ;; esac
	if ! needs=$(dpkg-query -W -f '${Depends}' "$p"); then
		echo "E: Unable to locate package $p" >&2
		exit 100
	fi
	for q in "$p" $(echo "$needs" | tr ',|' '\n\n' | awk '{ print $1 }'); do
		dpkg-query -L "$q" 2>/dev/null | while read -r f; do
			case "$f" in
			/etc/*)
				if [ -d "/run/machine$f" ]; then
					mkdir -p "$f"
				elif [ -e "/run/machine$f" ] && ! [ -e "$f" ]; then
					cp -p "/run/machine$f" "$f"
				fi
				;;
			/bin/?* | /sbin/?* | /usr/bin/?* | /usr/sbin/?*)
				if [ -f "$f" ]; then ln -sf "$f" /run/stand-in/bin/; fi
				;;
			esac
		done
	done
done
`

// everyDebian are the paths of the programs that every Debian has: those of packages without which there is none.
var everyDebian = sync.OnceValues(func() ([]string, error) {
	list, err := exec.Command("dpkg-query", "-W", "-f", "${Package} ${Essential} ${Priority}\n").Output()
	if err != nil {
		return nil, err
	}
	ask := []string{"-L"}
	for _, l := range strings.Split(string(list), "\n") {
		if f := strings.Fields(l); len(f) == 3 && (f[1] == "yes" || f[2] == "required") {
			ask = append(ask, f[0])
		}
	}
	files, err := exec.Command("dpkg-query", ask...).Output()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, f := range strings.Split(string(files), "\n") {
		if slices.Contains([]string{"/bin", "/sbin", "/usr/bin", "/usr/sbin"}, filepath.Dir(f)) {
			out = append(out, f)
		}
	}
	alternatives, _ := filepath.Glob("/etc/alternatives/*")
	for _, a := range alternatives {
		if to, err := os.Readlink(a); err == nil && slices.Contains(out, to) {
			out = append(out, filepath.Join("/usr/bin", filepath.Base(a)))
		}
	}
	return out, nil
})

// begins gives a fresh machine its programs.
func (n *node) begins() error {
	list, err := everyDebian()
	if err != nil {
		return err
	}
	errs := []error{
		os.MkdirAll(n.root(programs), 0o755),
		os.WriteFile(n.root(standIns+"/apt-get"), []byte(standInApt), 0o755),
	}
	for _, f := range list {
		if err := os.Symlink(f, filepath.Join(n.root(programs), filepath.Base(f))); !errors.Is(err, os.ErrExist) {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// asAdmin lets a command see what its machine has, and no more.
func (n *node) asAdmin(cmd *exec.Cmd) *exec.Cmd {
	if n.fresh {
		cmd.Env = append(cmd.Env, "PATH="+standIns+":"+programs)
	}
	return cmd
}
