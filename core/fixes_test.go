package core_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/command"
	"dravin/core/design"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/demo"
)

// What a fix makes can be said, too, and the design takes it: nobody is told to do what has no words.
func TestFixesCanBeSaid(t *testing.T) {
	files, err := demo.Cases.ReadDir("cases")
	require.NoError(t, err)
	fixes := 0
	for _, f := range files {
		text, err := demo.Cases.ReadFile("cases/" + f.Name())
		require.NoError(t, err)
		d, err := design.Read(text)
		require.NoError(t, err)
		all := snapshot.Of(d, status.Condition{}).Findings
		for _, x := range all.All() {
			list, err := all.Fixes(t.Context(), x.Key)
			require.NoError(t, err)
			for _, fix := range list {
				next, _, err := d.Apply(fix.Edits)
				require.NoError(t, err, "%s: %s", f.Name(), fix.Title)
				assert.Equal(t, written(t, again(t, next)), written(t, said(t, next)), "%s: %s", f.Name(), fix.Title)
				fixes++
			}
		}
	}
	assert.Greater(t, fixes, 20)
}

// again is a design made anew of all its objects, so that numbers are given in their order.
func again(t *testing.T, d *design.Design) *design.Design {
	var edits []design.Edit
	for _, o := range d.All() {
		edits = append(edits, design.PutEdit(o))
	}
	out, _, err := design.New(d.Name, nil).Apply(edits)
	require.NoError(t, err)
	return out
}

// said is a design made of what is said of it.
func said(t *testing.T, d *design.Design) *design.Design {
	u, err := command.Understand(context.Background(), design.New(d.Name, nil), command.Sayings(again(t, d)), "")
	require.NoError(t, err)
	for _, l := range u.Lines {
		require.Empty(t, l.Problems, l.Text)
	}
	out, _, err := design.New(d.Name, nil).Apply(u.Edits)
	require.NoError(t, err)
	return out
}

func written(t *testing.T, d *design.Design) string {
	file, err := d.Write()
	require.NoError(t, err)
	return strings.TrimSpace(string(file))
}
