// Command generate writes the files in schema/ that follow from the Go types, and what the
// comments above their fields say.
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"dravin/core/design"
	"dravin/server"
)

func main() {
	if err := run("schema"); err != nil {
		fmt.Fprintln(os.Stderr, "generate:", err)
		os.Exit(1)
	}
}

func run(dir string) error {
	for _, of := range []string{"core/design", "core/provider"} {
		docs, err := docsOf(of)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(of, docsFile), docs, 0o644); err != nil {
			return err
		}
	}
	if err := writeCodes(); err != nil {
		return err
	}
	schema, err := design.Schema()
	if err != nil {
		return err
	}
	profile, err := design.ProfileSchema()
	if err != nil {
		return err
	}
	api, err := server.Describe()
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "design.schema.json"), append(schema, '\n'), 0o644); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "profile.schema.json"), append(profile, '\n'), 0o644); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "openapi.yaml"), api, 0o644)
}
