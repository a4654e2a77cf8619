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
		about := bundle.About{Design: t.Design.Name, Party: o.Name, Made: time.Now()}
		if err := bundle.Write(&out, about, p.Files, box.Instructions(t, o.ID), key); err != nil {
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
	var signer, party, older string
	c := &cobra.Command{
		Use:   "bundle BUNDLE.zip [--signer KEY.pem] [--for PARTY] [--after OLDER.zip]",
		Short: "Check a bundle that was handed over: that it is whole, from whom and for whom; exit 1 if it is not",
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
			b, err := bundle.Verify(bytes.NewReader(file), int64(len(file)), known)
			if err == nil && party != "" && handover.Folder(party) != handover.Folder(b.Party) {
				err = fmt.Errorf("it is for %s, not for %s", b.Party, party)
			}
			if err == nil && older != "" {
				err = newer(b, older, known)
			}
			if err != nil {
				fmt.Fprintln(c.ErrOrStderr(), "dravin:", err)
				return errFound
			}
			return out.write(c, b, func(w io.Writer) {
				fmt.Fprintf(
					w, "for %s of %s, made at %s: %s, whole", b.Party, b.Design, b.Made.Format(time.RFC3339),
					words.Count(len(b.Names), "file", "files"),
				)
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
	c.Flags().StringVar(&party, "for", "", "the party for which it must be")
	c.Flags().StringVar(&older, "after", "", "a bundle that was handed over before: this one must have been made later")
	return c
}

// newer refuses a bundle that was made before another of the same party, or with it.
func newer(b *bundle.Bundle, older string, known []byte) error {
	file, err := os.ReadFile(older)
	if err != nil {
		return fmt.Errorf("--after: %w", err)
	}
	o, err := bundle.Verify(bytes.NewReader(file), int64(len(file)), known)
	switch {
	case err != nil:
		return fmt.Errorf("--after %s: %w", older, err)
	case o.Party != b.Party || o.Design != b.Design:
		return fmt.Errorf("--after %s: that is for %s of %s", older, o.Party, o.Design)
	case !b.Made.After(o.Made):
		return fmt.Errorf("it was made at %s, not after %s: it is an older one", b.Made.Format(time.RFC3339), older)
	}
	return nil
}

// changedSince is what each party's files are that are others than those of another design. Keys are in neither: they
// are no part of a design.
func changedSince(
	path string, under condition, party string, targets []handover.Target, now *route.Tables, serial uint32,
) (map[string][]handover.Change, error) {
	old, err := under.read(path)
	if err != nil {
		return nil, err
	}
	before, after := filesByParty(old.Tables, party, targets, serial), filesByParty(now, party, targets, serial)
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
func filesByParty(
	t *route.Tables, party string, targets []handover.Target, serial uint32,
) map[string][]handover.File {
	all, err := render(t, party, nil, targets, serial)
	if err != nil {
		return nil // a party that is new has had nothing
	}
	out := map[string][]handover.File{}
	for _, p := range all {
		out[p.Party] = p.Files
	}
	return out
}
