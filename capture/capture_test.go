package capture_test

import (
	"bytes"
	"encoding/binary"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/capture"
	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/core/wire"
	"dravin/demo"
)

func written(t testing.TB, from, to, service string) (wire.Capture, []byte) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	s, err := design.ParseService(service)
	require.NoError(t, err)
	f, err := walk.ParseFlow(tables, from, to, s)
	require.NoError(t, err)
	c := wire.Of(tables, walk.Prove(tables, f))
	var file bytes.Buffer
	require.NoError(t, capture.Write(&file, c, time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)))
	return c, file.Bytes()
}

// What is written is read as it was meant, packet for packet.
func TestWhatIsWrittenIsRead(t *testing.T) {
	for _, c := range [][3]string{
		{"thornfield-station/weather-room/weather-mast", "plate-store/plates/plate-server", "tcp/443"},
		{"thornfield-station/weather-room/weather-mast", "plate-store/plates/plate-server", "udp/53"},
		{"catalogue/shelf-a/logger", "marrow-hill/data-room/controls-desk", "icmp"},
		{"marrow-hill/data-room/controls-desk", "rowan-hut/hut/rain-gauge", "tcp/502"},
		{"saltmarsh-station/tide-laboratory/tide-recorder", "herbarium-scans/racks-a", "tcp/443"},
	} {
		t.Run(c[2]+" "+c[1], func(t *testing.T) {
			made, file := written(t, c[0], c[1], c[2])
			seen, err := capture.ReadAny(file)
			require.NoError(t, err)
			require.Len(t, seen.Packets, len(made.Packets))
			for n, p := range made.Packets {
				o := seen.Packets[n]
				i := made.Interfaces[p.Interface]
				assert.Equal(t, i.At.Title+": "+i.Name, o.Interface)
				if p.Outer != nil {
					assert.True(t, o.ESP)
					assert.Equal(t, p.Outer.Src, o.Header.Src)
					continue
				}
				assert.Equal(t, p.Header, o.Header)
				assert.Equal(t, p.What, o.What)
			}
		})
	}
}

// The tag of a circuit's VLAN is on the wire.
func TestTagsAreWritten(t *testing.T) {
	made, file := written(t, "saltmarsh-station/tide-laboratory/tide-recorder", "herbarium-scans/racks-a", "tcp/443")
	assert.Contains(t, made.Interfaces[2].Name, "circuit")
	assert.EqualValues(t, 100, made.Interfaces[2].VLAN)
	assert.True(t, bytes.Contains(file, []byte{0x81, 0x00, 0x00, 100}))
}

func TestWhatIsNoCapture(t *testing.T) {
	_, whole := written(t, "catalogue/shelf-a/logger", "marrow-hill/data-room/controls-desk", "icmp")
	for name, c := range map[string]struct {
		file []byte
		says string
	}{
		"nothing":   {nil, "nothing of this is known"},
		"a picture": {[]byte{0x89, 'P', 'N', 'G', 0xff, 0xfe}, "neither a capture"},
		"cut short": {whole[:len(whole)-7], "can not be read"},
		"its head":  {whole[:20], "can not be read"},
		"no packet": {
			append([]byte{0xd4, 0xc3, 0xb2, 0xa1, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff}, 0, 0, 1, 0, 0, 0),
			"no packet",
		},
		"broken magic": {[]byte{0xd4, 0xc3, 0xb2, 0xa1}, "neither pcapng nor pcap"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := capture.ReadAny(c.file)
			assert.ErrorContains(t, err, c.says)
		})
	}
}

// Whatever is dropped is read or refused.
func FuzzReadAny(f *testing.F) {
	_, whole := written(f, "catalogue/shelf-a/logger", "marrow-hill/data-room/controls-desk", "icmp")
	f.Add(whole)
	f.Add(whole[:100])
	f.Fuzz(func(t *testing.T, file []byte) { _, _ = capture.ReadAny(file) })
}

// Lengths that lie are refused before room is made for them.
func TestLengthsThatLie(t *testing.T) {
	_, whole := written(t, "catalogue/shelf-a/logger", "marrow-hill/data-room/controls-desk", "icmp")
	section := int(binary.LittleEndian.Uint32(whole[4:]))
	packet := bytes.LastIndex(whole, []byte{6, 0, 0, 0})
	old := append([]byte{0xa1, 0xb2, 0xc3, 0xd4, 0, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff}, 0, 0, 0, 1)
	old = append(old, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff)
	lie := func(at int, value uint32) []byte {
		out := bytes.Clone(whole)
		binary.LittleEndian.PutUint32(out[at:], value)
		return out
	}
	for name, c := range map[string]struct {
		file []byte
		says string
	}{
		"a section":           {lie(4, 0xfffffff0), "block 1 can not be read: it says that it has 4294967280 bytes"},
		"a block of nothing":  {lie(section+4, 0), "block 2 can not be read: it says that it has 0 bytes"},
		"a block half a word": {lie(section+4, 30), "block 2 can not be read"},
		"a packet":            {lie(packet+20, 0xfffffff0), "says that its packet is longer than itself"},
		"an old packet":       {old, "packet 1 can not be read: it says that it has 4294967295 bytes"},
		"an old one cut":      {old[:30], "packet 1 can not be read: the file ends in it"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := capture.ReadAny(c.file)
			assert.ErrorContains(t, err, c.says)
		})
	}
}
