package stage

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"dravin/core/rehearsal"
	"dravin/lab/netns"
)

// node is a namespace of the plan.
type node struct {
	*rehearsal.Node
	dir    string
	holder *os.Process // keeps the mounts of a node with daemons; nil of others
	fresh  bool        // it begins without files, as a Debian machine that was just installed

	mu       sync.Mutex
	services []*service
}

// has reports whether a file is among those of the node.
func (n *node) has(path string) bool {
	_, err := os.Stat(filepath.Join(n.dir, "etc", path))
	return err == nil
}

// within calls f on a thread that is in the node's network namespace.
func (n *node) within(f func() error) error {
	return netns.Do(n.Name, f)
}

// command is one that runs in the node.
func (n *node) command(ctx context.Context, program string, args ...string) *exec.Cmd {
	enter := []string{"--net=" + filepath.Join(netns.Dir, n.Name)}
	if n.holder != nil {
		enter = []string{"--target", fmt.Sprint(n.holder.Pid), "--mount", "--net"}
	}
	enter = append(append(enter, networkOnly...), program)
	cmd := exec.CommandContext(ctx, "nsenter", append(enter, args...)...)
	cmd.Env = []string{"PATH=" + standIns + ":/usr/sbin:/usr/bin:/sbin:/bin", "LANG=C"}
	cmd.Dir = "/"
	return cmd
}

// script runs shell commands in the node; the first that fails ends them.
func (n *node) script(ctx context.Context, lines ...string) (string, error) {
	return n.runs(n.command(ctx, "/bin/sh", "-e"), lines...)
}

func (n *node) runs(cmd *exec.Cmd, lines ...string) (string, error) {
	cmd.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil {
		return out.String(), fmt.Errorf("%s: %w: %s", n.Title, err, strings.TrimSpace(out.String()))
	}
	return out.String(), nil
}

// tableOf finds the head of each table in a ruleset.
var tableOf = regexp.MustCompile(`(?m)^\s*table (\S+ \S+) \{`)

// rules puts rulesets of nftables in the place of others, all at once.
func (n *node) rules(ctx context.Context, was, now []string) error {
	if slices.Equal(was, now) {
		return nil
	}
	var text strings.Builder
	for _, m := range tableOf.FindAllStringSubmatch(strings.Join(was, ""), -1) {
		fmt.Fprintf(&text, "table %[1]s {}\ndelete table %[1]s\n", m[1])
	}
	cmd := n.command(ctx, "nft", "-f", "-")
	cmd.Stdin = strings.NewReader(text.String() + strings.Join(now, ""))
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: rules: %w: %s", n.Title, err, out)
	}
	return nil
}

// make makes the namespace itself.
func (n *node) make() error {
	path := filepath.Join(netns.Dir, n.Name)
	if err := os.WriteFile(path, nil, 0o444); err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // it is in the new namespace, and ends with the goroutine
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			done <- err
			return
		}
		done <- unix.Mount("/proc/thread-self/ns/net", path, "", unix.MS_BIND, "")
	}()
	return <-done
}

// begin is how a node begins: it learns addresses of IPv6 at once. A box of one's own has Debian's defaults, which the
// files must change where they need it: it forwards nothing, and its reverse-path filter is loose. What stands for
// others forwards.
func (n *node) begin() []string {
	kernel := "net.ipv4.ip_forward=1 net.ipv6.conf.all.forwarding=1 net.ipv4.conf.all.rp_filter=0 " +
		"net.ipv4.conf.default.rp_filter=0"
	if n.Role == rehearsal.OwnBox {
		kernel = "net.ipv4.ip_forward=0 net.ipv6.conf.all.forwarding=0 net.ipv4.conf.all.rp_filter=2 " +
			"net.ipv4.conf.default.rp_filter=2"
	}
	return []string{
		"ip link set lo up",
		"sysctl -qw " + kernel + " net.ipv6.conf.default.accept_dad=0 net.ipv6.conf.all.accept_dad=0",
		"for f in /proc/sys/net/ipv6/conf/*/accept_dad; do echo 0 >$f; done",
	}
}

// packaged are the files of /etc that are there on a machine before anything is handed over.
var packaged = []string{
	"passwd", "group", "nsswitch.conf", "hosts", "host.conf", "protocols", "services", "ld.so.cache", "ld.so.conf",
	"localtime", "ssl/openssl.cnf",
}

// brought are those that the daemons' packages bring.
var brought = []string{"bird/envvars", "swanctl/swanctl.conf"}

// packagedFolders are those of which the IPsec daemon's command looks for more in each.
var packagedFolders = []string{
	"swanctl/x509", "swanctl/x509ca", "swanctl/x509ocsp", "swanctl/x509aa", "swanctl/x509ac", "swanctl/x509crl",
	"swanctl/pubkey", "swanctl/private", "swanctl/rsa", "swanctl/ecdsa", "swanctl/bliss", "swanctl/pkcs8",
	"swanctl/pkcs12", "strongswan.d",
}

// daemonSettings are those of the IPsec daemon's package, for a machine whose kernel has no ESP: it keeps SAs in user
// space, and the routes that this would bring are asked last. It gives up on what is silent after 16 s: by itself it
// takes ten times as long.
const daemonSettings = `charon {
    retransmit_timeout = 2.0
    retransmit_base = 1.5
    retransmit_tries = 3
    load = random nonce aes sha1 sha2 hmac kdf gcm openssl kernel-libipsec kernel-netlink socket-default vici
    routing_table_prio = 40000
    filelog {
        log {
            path = /run/charon.log
            default = 1
            flush_line = yes
        }
    }
}
swanctl {
    load = random openssl
}
include strongswan.d/*.conf
`

// furnish gives a node with daemons an /etc of its own, with what is packaged and what is handed over and nothing
// else, and a /run of its own.
func (n *node) furnish() error {
	if len(n.Files) == 0 && n.Role != rehearsal.Player && n.Role != rehearsal.OwnBox {
		return nil
	}
	n.fresh = n.Role == rehearsal.OwnBox && len(n.Files) == 0
	list := packaged
	if !n.fresh {
		list = slices.Concat(list, brought)
	}
	for _, name := range list {
		text, err := os.ReadFile(filepath.Join("/etc", name))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err == nil {
			err = n.put(name, text, 0o644)
		}
		if err != nil {
			return err
		}
	}
	for _, name := range packagedFolders {
		if n.fresh {
			break
		}
		if err := os.MkdirAll(filepath.Join(n.dir, "etc", name), 0o755); err != nil {
			return err
		}
	}
	if err := os.CopyFS(filepath.Join(n.dir, "etc/alternatives"), os.DirFS("/etc/alternatives")); err != nil {
		return err
	}
	if err := n.put("strongswan.conf", []byte(daemonSettings), 0o644); err != nil {
		return err
	}
	for _, f := range n.Files {
		mode := os.FileMode(0o644)
		if f.Secret {
			mode = 0o600
		}
		if err := n.put(f.Path, []byte(f.Content), mode); err != nil {
			return err
		}
	}
	if err := n.hold(); err != nil || !n.fresh {
		return err
	}
	return n.begins()
}

func (n *node) put(path string, text []byte, mode os.FileMode) error {
	full := filepath.Join(n.dir, "etc", path)
	return errors.Join(os.MkdirAll(filepath.Dir(full), 0o755), os.WriteFile(full, text, mode))
}

// standIns is where a node has programs that stand for others.
const standIns = "/run/stand-in"

// made is where a node notes, for each cable that stands for an interface of ESP, the if_id with which a script has
// made it.
const made = standIns + "/made"

// standInIP is ip where a cable stands for an interface that a script makes: it is there once the script has made it,
// and one that is deleted goes down and has no address.
const standInIP = `#!/bin/sh
PATH=/usr/sbin:/sbin:/usr/bin:/bin
made=/run/stand-in/made
case "$1 $2 $3" in
"link add dravin"* | "link delete dravin"* | "link show dravin"*)
	if ip -o link show dev "$3" type veth 2>/dev/null | grep -q .; then
		case "$2" in
		add)
			if [ "$4 $5 $6" != "type xfrm if_id" ]; then
				echo "no cable stands for this: $*" >&2
				exit 1
			fi
			if [ -e "$made/$3" ]; then
				echo "RTNETLINK answers: File exists" >&2
				exit 2
			fi
			mkdir -p "$made"
			echo "$7" >"$made/$3"
			exit
			;;
		delete)
			rm -f "$made/$3"
			ip address flush dev "$3"
			exec ip link set dev "$3" down group default
			;;
		show)
			if ! [ -e "$made/$3" ]; then
				echo "Device \"$3\" does not exist." >&2
				exit 1
			fi
			;;
		esac
	fi
	;;
"link delete circuit"*)
	ip address flush dev "$3"
	exec ip link set dev "$3" down group default
	;;
esac
exec ip "$@"
`

// hold starts the process that keeps the node's mounts.
func (n *node) hold() error {
	err := n.within(func() error {
		cmd := exec.Command("/bin/sh", "-ec", `
			mount --make-rprivate /
			mount --bind /etc /mnt
			mount --bind "$1" /etc
			mount -t tmpfs -o mode=0755 run /run
			mkdir -p "$4/etc"
			mount --move /mnt "$4/etc"
			mount -t sysfs sys /sys
			mount -t tmpfs -o mode=0700 root /root
			mkdir -p /run/lock "$2"
			printf %s "$3" >"$2/ip"
			chmod 0755 "$2/ip"
			echo held
			exec sleep infinity`, "sh", filepath.Join(n.dir, "etc"), standIns, standInIP, machine)
		cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNS}
		out, err := cmd.StdoutPipe()
		if err != nil {
			return err
		}
		var errs bytes.Buffer
		cmd.Stderr = &errs
		if err := cmd.Start(); err != nil {
			return err
		}
		word := make([]byte, 5)
		if _, err := out.Read(word); err != nil {
			_ = cmd.Wait()
			return fmt.Errorf("mounts: %w: %s", err, errs.String())
		}
		n.holder = cmd.Process
		return nil
	})
	return err
}

// root is where a file of the node's own mounts is found from outside.
func (n *node) root(path string) string { return fmt.Sprintf("/proc/%d/root%s", n.holder.Pid, path) }
