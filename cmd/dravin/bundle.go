package main

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"dravin/bundle"
	"dravin/core/box"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/words"
)

// writeBundles writes a signed bundle for each party, with no keys in it.
func writeBundles(dir, keyFile string, t *route.Tables, all []partyFiles) error {
	key, err := bundle.Key(keyFile)
	if err != nil {
		return badInput(fmt.Errorf("--sign: %w", err))
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, p := range all {
		o := t.Design.Find(p.Party, handover.Parties...)[0]
		var out bytes.Buffer
		if err := bundle.Write(&out, o.Name, p.Files, box.Instructions(t, o.ID), key, time.Now()); err != nil {
			return err
		}
		if err := writeFile(filepath.Join(dir, handover.Folder(p.Party)+".zip"), out.Bytes(), 0o644); err != nil {
			return err
		}
	}
	return nil
}

func bundleCommand() *cobra.Command {
	var out format
	var signer string
	c := &cobra.Command{
		Use:   "bundle BUNDLE.zip [--signer KEY.pem]",
		Short: "Check a bundle that was handed over: that it is whole, and from whom; exit 1 if it is not",
		Args:  exactly(1, "one bundle"),
		RunE: func(c *cobra.Command, args []string) error {
			file, err := os.ReadFile(args[0])
			if err != nil {
				return badInput(err)
			}
			var known []byte
			if signer != "" {
				if known, err = os.ReadFile(signer); err != nil {
					return badInput(fmt.Errorf("--signer: %w", err))
				}
			}
			names, err := bundle.Verify(bytes.NewReader(file), int64(len(file)), known)
			if err != nil {
				fmt.Fprintln(c.ErrOrStderr(), "dravin:", err)
				return errFound
			}
			return out.write(c, names, func(w io.Writer) {
				fmt.Fprintf(w, "%s, whole", words.Count(len(names), "file", "files"))
				if signer == "" {
					fmt.Fprint(w, "; signed by the key that is in it. Give --signer to know whose that is")
				} else {
					fmt.Fprintf(w, ", and signed by %s", signer)
				}
				fmt.Fprintln(w)
			})
		},
	}
	out.add(c)
	c.Flags().StringVar(&signer, "signer", "", "the public key that is known to be the sender's, in PEM")
	return c
}

// changedSince is what each party's files are that are others than those of another design. Keys are in neither: they
// are no part of a design.
func changedSince(
	path string, under condition, party string, targets []handover.Target, now *route.Tables,
) (map[string][]handover.Change, error) {
	old, err := under.read(path)
	if err != nil {
		return nil, err
	}
	before, after := filesByParty(old.Tables, party, targets), filesByParty(now, party, targets)
	out := map[string][]handover.Change{}
	for _, files := range []map[string][]handover.File{before, after} {
		for name := range files {
			if c := handover.Diff(before[name], after[name]); len(c) > 0 {
				out[name] = c
			}
		}
	}
	return out, nil
}

// filesByParty are the files of all parties without keys, or of the one that is asked for, if it is there.
func filesByParty(t *route.Tables, party string, targets []handover.Target) map[string][]handover.File {
	all, err := render(t, party, nil, targets)
	if err != nil {
		return nil // a party that is new has had nothing
	}
	out := map[string][]handover.File{}
	for _, p := range all {
		out[p.Party] = p.Files
	}
	return out
}
