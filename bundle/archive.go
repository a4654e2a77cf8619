package bundle

import (
	"bytes"
	"fmt"
	"io"
	"time"

	"dravin/core/handover"
)

// Handed is what one party is handed.
type Handed struct {
	Party string
	Files []handover.File
}

// Archive writes what several parties are handed as one zip, with a folder for each. Files that hold keys are left out,
// and README.txt names them: a masked key that somebody loads would be one that everybody knows.
func Archive(w io.Writer, design string, parties []Handed, at time.Time) error {
	all := map[string][]byte{}
	var about, away bytes.Buffer
	fmt.Fprintf(&about, "What the parties of %s are handed, made at %s.\n\n", design, at.UTC().Format(time.RFC3339))
	for _, p := range parties {
		folder := handover.Folder(p.Party)
		fmt.Fprintf(&about, "%s/ is for %s\n", folder, p.Party)
		for _, f := range p.Files {
			name := folder + "/" + f.Path
			if f.Secret {
				fmt.Fprintf(&away, "%s is not here: it holds keys. Show them, and download it alone\n", name)
				continue
			}
			if err := once(all, name, f.Content); err != nil {
				return err
			}
		}
	}
	about.WriteString("\n")
	about.Write(away.Bytes())
	all["README.txt"] = about.Bytes()
	return Zip(w, all, at)
}

// once keeps a file under a name that no other has: of two one would be lost without a word.
func once(all map[string][]byte, name, content string) error {
	if _, twice := all[name]; twice {
		return fmt.Errorf("two files would be called %s, and one of them lost: rename what they are named after", name)
	}
	all[name] = []byte(content)
	return nil
}
