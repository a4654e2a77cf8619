package stage

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestUnitsStartInOrder(t *testing.T) {
	texts := map[string]string{
		"a.service": "[Unit]\nAfter=m.service z.service\n[Service]\nExecStart=/bin/true\n",
		"m.service": "[Unit]\nAfter=network-online.target\n[Service]\nExecStart=/bin/true\n",
		"z.service": "[Unit]\nBefore=m.service\n[Service]\nType=oneshot\nExecStart=/bin/false\nExecStart=\n" +
			"ExecStart=/bin/true\n",
		"listen.service": "[Unit]\nAfter=z.service\n[Service]\nExecStart=/bin/true\nRestart=always\nRestartSec=2\n",
	}
	var units []*unit
	for name, text := range texts {
		u, err := readUnit(name, text)
		require.NoError(t, err)
		units = append(units, u)
	}
	list, err := ordered(units)
	require.NoError(t, err)
	var got []string
	for _, u := range list {
		got = append(got, u.name)
	}
	assert.Equal(t, "z.service listen.service m.service a.service", strings.Join(got, " "))
	assert.Equal(t, []string{"/bin/true"}, list[0].start, "an empty one takes back those before it")
	assert.Equal(t, 2.0, list[1].pause.Seconds())
	assert.Empty(t, started(list), "nothing enables them")
	list[3].enabled, list[3].wants = true, []string{"m.service"}
	assert.Len(t, started(list), 2, "what is enabled, and what it wants")
	ring, err := readUnit("ring.service", "[Unit]\nAfter=z.service\nBefore=z.service\n[Service]\nExecStart=/bin/true\n")
	require.NoError(t, err)
	_, err = ordered(append(units, ring))
	assert.ErrorContains(t, err, "units wait for each other")
	for text, says := range map[string]string{
		"[Service]\nExecStart=/bin/sh -c 'x'\n":   "quotes are not followed",
		"[Service]\nRootDirectory=/srv\n":         "RootDirectory",
		"[Service]\nRestartSec=soon\nExecStart=x": "invalid duration",
	} {
		_, err := readUnit("x.service", text)
		assert.ErrorContains(t, err, says)
	}
}

func TestConditionsOfUnits(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "etc/full"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/full/file"), []byte("x"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/empty"), nil, 0o600))
	for line, met := range map[string]bool{
		"ConditionPathExists=/etc/full/file":                              true,
		"ConditionPathExists=!/etc/full/file":                             false,
		"ConditionPathExists=/etc/none":                                   false,
		"ConditionFileNotEmpty=/etc/empty":                                false,
		"ConditionFileNotEmpty=/etc/full/file":                            true,
		"ConditionDirectoryNotEmpty=/etc/full":                            true,
		"ConditionPathIsDirectory=/etc/empty":                             false,
		"ConditionPathExistsGlob=/etc/full/f*":                            true,
		"ConditionPathExists=/etc/full\nConditionFileNotEmpty=/etc/empty": false,
	} {
		u, err := readUnit("x.service", "[Unit]\n"+line+"\n[Service]\nExecStart=/bin/true\n")
		require.NoError(t, err)
		got, err := u.met(root)
		require.NoError(t, err)
		assert.Equal(t, met, got, line)
	}
	u, err := readUnit("x.service", "[Unit]\nConditionKernelVersion=>6\n[Service]\nExecStart=/bin/true\n")
	require.NoError(t, err)
	_, err = u.met(root)
	assert.ErrorContains(t, err, "is not followed")
}
