package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"dravin/core/design"
)

// readDesign reads a design file; "-" is standard input.
func readDesign(path string) (*design.Design, error) {
	d, _, err := readLines(path)
	return d, err
}

// readLines is readDesign, and tells on which line each object begins.
func readLines(path string) (*design.Design, map[design.ID]int, error) {
	file, err := readFile(path)
	if err != nil {
		return nil, nil, badInput(err)
	}
	d, lines, err := design.ReadLines(file)
	if err != nil {
		return nil, nil, badInput(fmt.Errorf("%s can not be used\n%w", path, err))
	}
	return d, lines, nil
}

// readFile reads no more than a design file may have and one byte, so that the
// reader can say that it is too large.
func readFile(path string) ([]byte, error) { return readUpTo(path, design.MaxFileBytes) }

func readUpTo(path string, most int64) ([]byte, error) {
	in := os.Stdin
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in = f
	}
	return io.ReadAll(io.LimitReader(in, most+1))
}

// format is the --format flag.
type format struct{ name string }

func (f *format) add(c *cobra.Command) {
	c.Flags().StringVar(&f.name, "format", "text", "text for people, json for programs")
}

// write prints v as JSON, or calls text.
func (f *format) write(c *cobra.Command, v any, text func(io.Writer)) error {
	switch f.name {
	case "json":
		e := json.NewEncoder(c.OutOrStdout())
		e.SetIndent("", "  ")
		return e.Encode(v)
	case "text":
		text(c.OutOrStdout())
		return nil
	}
	return badInput(fmt.Errorf("--format %q is not known; give text or json", f.name))
}
