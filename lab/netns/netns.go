// Package netns runs Go code in a network namespace.
package netns

import (
	"os"
	"path/filepath"
	"runtime"

	"golang.org/x/sys/unix"
)

// Dir is where named namespaces are.
const Dir = "/run/netns"

// Do calls f on a thread that lives in a named network namespace: sockets that f opens belong to it. The error is f's,
// or why the namespace can not be entered.
func Do(name string, f func() error) error {
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine
		ns, err := os.Open(filepath.Join(Dir, name))
		if err != nil {
			done <- err
			return
		}
		defer ns.Close()
		if err := unix.Setns(int(ns.Fd()), unix.CLONE_NEWNET); err != nil {
			done <- err
			return
		}
		done <- f()
	}()
	return <-done
}
