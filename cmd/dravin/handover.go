package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/store"
)

// partyFiles is what one party gets.
type partyFiles struct {
	Party        string            `json:"party"`
	Files        []handover.File   `json:"files"`
	Instructions []box.Instruction `json:"instructions"` // everything to enter, in order
	Proofs       []box.Proof       `json:"proofs"`       // what to try then
}

func handoverCommand() *cobra.Command {
	var out format
	var under condition
	var party, dir, keyFile, bundles, sign, since string
	var asked []string
	c := &cobra.Command{
		Use:   "handover FILE.yaml",
		Short: "Render the files for each party's gateways and administrators",
		Long: "Each party gets the files of its own boxes and a sheet of what must be set. With --format json it also " +
			"gets\n" +
			"the sheet as data: every instruction in order, with who, why, from what it follows and how to check it.",
		Args: exactly(1, "one design file"),
		RunE: func(c *cobra.Command, args []string) error {
			d, err := readDesign(args[0])
			if err != nil {
				return err
			}
			keys, err := keysFrom(d, keyFile)
			if err != nil {
				return badInput(err)
			}
			s, err := under.solve(d)
			if err != nil {
				return err
			}
			targets, err := targetsOf(asked)
			if err != nil {
				return badInput(fmt.Errorf("--target: %w", err))
			}
			serial := uint32(time.Now().Unix())
			all, err := render(s.Tables, party, keys, targets, serial)
			if err != nil {
				return badInput(err)
			}
			if since != "" {
				changes, err := changedSince(since, under, party, targets, s.Tables, serial)
				if err != nil {
					return err
				}
				return out.write(c, changes, func(w io.Writer) { printChanges(w, changes) })
			}
			if bundles != "" {
				if err := writeBundles(bundles, sign, s.Tables, all); err != nil {
					return fmt.Errorf("writing the bundles: %w", err)
				}
				fmt.Fprintf(c.OutOrStdout(), "%d bundles are in %s, signed by %s\n", len(all), bundles, sign)
				return nil
			}
			if dir != "" {
				if err := writeAll(dir, all); err != nil {
					return fmt.Errorf("writing the files: %w", err)
				}
			}
			return out.write(c, all, func(w io.Writer) { printFiles(w, all, dir) })
		},
	}
	out.add(c)
	under.add(c)
	c.Flags().StringVar(&party, "party", "", "only this site, network, hub or edge router (path or name)")
	c.Flags().StringVar(&dir, "out", "", "write the files below this folder instead of printing them")
	c.Flags().StringArrayVar(&asked, "target", nil, "another format beside the usual ones: frr, keyed, networkd, zones, "+
		"models or device; may be repeated")
	c.Flags().StringVar(&bundles, "bundle", "", "write a signed bundle for each party to this folder, without keys")
	c.Flags().StringVar(&sign, "sign", "dravin-signing.pem", "the private key that signs bundles; made if missing")
	c.Flags().StringVar(&since, "since", "", "tell what is another than by this older design file, as diffs")
	c.Flags().StringVar(
		&keyFile, "keys", "",
		"a JSON file of pre-shared keys by tunnel path; missing keys are made and added to it (mode 0600)",
	)
	return c
}

func targetsOf(texts []string) (out []handover.Target, err error) {
	for _, text := range texts {
		t, err := handover.ParseTarget(text)
		if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, nil
}

func render(
	tables *route.Tables, party string, keys handover.Keys, targets []handover.Target, serial uint32,
) ([]partyFiles, error) {
	d := tables.Design
	parties := d.Inside("", handover.Parties...)
	if party != "" {
		if parties = d.Find(party, handover.Parties...); len(parties) != 1 {
			return nil, fmt.Errorf("--party %q names %d parties; give the path of one", party, len(parties))
		}
	}
	out := []partyFiles{}
	for _, p := range parties {
		held := box.PartyOf(tables, p.ID)
		files := append(handover.Files(held, keys), handover.As(held, targets, keys, serial)...)
		out = append(out, partyFiles{d.Path(p.ID), files, held.Instructions, held.Proofs})
	}
	return out, nil
}

// keysFrom reads the key file and adds a fresh key for every tunnel without
// one.
func keysFrom(d *design.Design, path string) (handover.Keys, error) {
	if path == "" {
		return nil, nil
	}
	byPath, err := readKeys(path)
	if err != nil {
		return nil, err
	}
	keys, fresh := handover.Keys{}, false
	for _, t := range d.Of(design.KindTunnel) {
		name := d.Path(t.ID)
		if byPath[name] == "" {
			byPath[name], fresh = store.NewKey(), true
		}
		keys[t.ID] = byPath[name]
	}
	if !fresh {
		return keys, nil
	}
	return keys, writeKeys(path, byPath)
}

// readKeys reads a file of keys; none yet is an empty one. What others may read
// is no place for keys.
func readKeys(path string) (map[string]string, error) {
	byPath := map[string]string{}
	info, err := os.Stat(path)
	if errors.Is(err, os.ErrNotExist) {
		return byPath, nil
	}
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf(
			"others may read %s (mode %04o); chmod 600 it, and make new keys if somebody may have", path,
			info.Mode().Perm(),
		)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, &byPath); err != nil {
		return nil, fmt.Errorf("%s is not a JSON object of keys by tunnel path: %w", path, err)
	}
	return byPath, nil
}

// writeKeys replaces the file as a whole, so that no key is lost half-way.
func writeKeys(path string, byPath map[string]string) error {
	data, err := json.MarshalIndent(byPath, "", "  ")
	if err != nil {
		return err
	}
	return writeFile(path, append(data, '\n'), 0o600)
}

func writeAll(dir string, all []partyFiles) error {
	written := map[string]bool{}
	for _, p := range all {
		for _, f := range p.Files {
			path := filepath.Join(dir, handover.Folder(p.Party), f.Path)
			if written[path] {
				return fmt.Errorf("two files would be called %s, and one of them lost: rename what they are named after", path)
			}
			written[path] = true
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				return err
			}
			mode := os.FileMode(0o644)
			if f.Secret {
				mode = 0o600
			}
			if err := writeFile(path, []byte(f.Content), mode); err != nil {
				return err
			}
		}
	}
	return nil
}

func printChanges(w io.Writer, all map[string][]handover.Change) {
	for _, party := range slices.Sorted(maps.Keys(all)) {
		for _, c := range all[party] {
			fmt.Fprintf(w, "==> %s: %s is %s\n%s\n", party, c.Path, c.How, c.Diff)
		}
	}
	if len(all) == 0 {
		fmt.Fprintln(w, "everybody has what there is now")
	}
}

func printFiles(w io.Writer, all []partyFiles, dir string) {
	for _, p := range all {
		for _, f := range p.Files {
			path := filepath.Join(dir, handover.Folder(p.Party), f.Path)
			if dir != "" {
				fmt.Fprintf(w, "%s: %s\n", path, f.About)
				continue
			}
			fmt.Fprintf(w, "==> %s: %s\n%s\n", path, f.About, f.Content)
		}
	}
}
