package stage

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"golang.org/x/sys/unix"
)

// readOnly lets nothing that runs in this mount namespace write to the machine's own files, root or not.
func readOnly() error {
	set := &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}
	if err := unix.MountSetattr(unix.AT_FDCWD, "/", unix.AT_RECURSIVE, set); err != nil {
		return fmt.Errorf("making all mounts read-only: %w", err)
	}
	return nil
}

// networkOnly is put before every program of a node: of root's capabilities it keeps those of the network, and those by
// which daemons own their files and give up being root.
var networkOnly = []string{
	"setpriv",
	"--bounding-set=-all,+net_admin,+net_raw,+net_bind_service,+net_broadcast," +
		"+chown,+fowner,+dac_override,+setuid,+setgid,+kill",
	"--inh-caps=-all",
}

// group is a control group of a rehearsal, which bounds its memory.
type group string

// groups are where control groups are made, what is there if they are, and the file that bounds memory in each: of
// version 2, and of version 1.
var groups = [][3]string{
	{"/sys/fs/cgroup", "cgroup.controllers", "memory.max"},
	{"/sys/fs/cgroup/memory", "cgroup.procs", "memory.limit_in_bytes"},
}

// confine puts a process, and all that it will start, into a control group that may take some KiB of memory. It is
// empty where the machine lets nobody make one: what all of it takes is watched then, and nothing more.
func confine(pid, most int) group {
	for _, g := range groups {
		dir := filepath.Join(g[0], fmt.Sprintf("dravin-rehearsal-%d", pid))
		if _, err := os.Stat(filepath.Join(g[0], g[1])); err != nil || os.Mkdir(dir, 0o755) != nil {
			continue
		}
		err := tell(dir, g[2], most<<10)
		if err == nil {
			err = tell(dir, "cgroup.procs", pid)
		}
		if err == nil {
			return group(dir)
		}
		_ = os.Remove(dir)
	}
	return ""
}

// tell writes a number to a file of a control group that the kernel has made.
func tell(dir, file string, n int) error {
	f, err := os.OpenFile(filepath.Join(dir, file), os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteString(strconv.Itoa(n))
	return errors.Join(err, f.Close())
}

// remove removes a group once all of its processes have ended.
func (g group) remove() {
	if g != "" {
		_ = os.Remove(string(g))
	}
}

// mostShare is the share of the memory that the machine can give which a rehearsal may take.
const mostShare = 0.75
