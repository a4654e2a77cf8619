package main

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// writeFile writes a file as a whole, or leaves it as it was: what is there keeps its
// mode, its owner and all its names, a link goes on to lead where it leads, and a device
// or pipe is written to. mode is that of a new file.
func writeFile(path string, text []byte, mode fs.FileMode) error {
	path, err := followed(path)
	if err != nil {
		return err
	}
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return inItsPlace(path, text, mode, nil)
	case err != nil:
		return err
	case !info.Mode().IsRegular():
		return overwritten(path, text, os.O_WRONLY)
	}
	if sys, ok := info.Sys().(*syscall.Stat_t); ok {
		if sys.Nlink > 1 { // the other names go on to be this file's
			return overwritten(path, text, os.O_WRONLY|os.O_TRUNC)
		}
		return inItsPlace(path, text, info.Mode().Perm(), sys)
	}
	return inItsPlace(path, text, info.Mode().Perm(), nil)
}

// followed is where a path leads by symbolic links, one that leads to nothing yet
// included.
func followed(path string) (string, error) {
	for range 40 { // as many as the kernel follows
		to, err := os.Readlink(path)
		if err != nil {
			return path, nil // it is no link, or nothing
		}
		if !filepath.IsAbs(to) {
			to = filepath.Join(filepath.Dir(path), to)
		}
		path = to
	}
	return "", &fs.PathError{Op: "open", Path: path, Err: syscall.ELOOP}
}

// inItsPlace puts a new file in the place of the one before, in one step.
func inItsPlace(path string, text []byte, mode fs.FileMode, before *syscall.Stat_t) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".dravin-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(text)
	if before != nil {
		_ = f.Chown(int(before.Uid), int(before.Gid)) // only root may give files away
	}
	if err := errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

func overwritten(path string, text []byte, flags int) error {
	f, err := os.OpenFile(path, flags, 0)
	if err != nil {
		return err
	}
	n, err := f.Write(text)
	if err == nil && n < len(text) {
		err = io.ErrShortWrite
	}
	return errors.Join(err, f.Close())
}
