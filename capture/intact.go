package capture

import (
	"encoding/binary"
	"fmt"
)

// The lengths that a capture says are held against the file before it is read: room is made for them, and a few bytes
// that lie would ask for gigabytes.

// intact reports where a capture says lengths that it does not have. What is too short to say any is left to its
// reader.
func intact(file []byte) error {
	if binary.LittleEndian.Uint32(file) == sectionHeader {
		return intactBlocks(file)
	}
	return intactRecords(file)
}

// The blocks of pcapng that are looked into.
const (
	sectionHeader  = 0x0a0d0d0a
	interfaceBlock = 1
	obsoletePacket = 2
	enhancedPacket = 6
)

// mostInterfaces bounds what is kept of each interface that a file describes, whether it has packets or not.
const mostInterfaces = 4096

// intactBlocks goes through the blocks of pcapng: a type, a length, what is in it, and the length again.
func intactBlocks(file []byte) error {
	order := binary.ByteOrder(binary.LittleEndian)
	interfaces := 0
	for at, n := 0, 1; at < len(file); n++ {
		rest := file[at:]
		if len(rest) < 12 {
			return fmt.Errorf("block %d can not be read: the file ends in it, at byte %d; copy it whole", n, at)
		}
		kind := order.Uint32(rest)
		if kind == sectionHeader {
			if order = binary.LittleEndian; binary.BigEndian.Uint32(rest[8:]) == 0x1a2b3c4d {
				order = binary.BigEndian
			}
		}
		length := order.Uint32(rest[4:])
		if length < 12 || length%4 != 0 || int64(length) > int64(len(rest)) {
			return fmt.Errorf(
				"block %d can not be read: it says that it has %d bytes, and the file has %d from there; copy it whole",
				n, length, len(rest),
			)
		}
		if kind == interfaceBlock {
			if interfaces++; interfaces > mostInterfaces {
				return fmt.Errorf("it describes more than %d interfaces; capture on those of one box", mostInterfaces)
			}
		}
		if kind == enhancedPacket || kind == obsoletePacket {
			if err := held(order, rest[:length], n); err != nil {
				return err
			}
		}
		at += int(length)
	}
	return nil
}

// held reports a block whose packet is longer than itself. 32 bytes of the block are not the packet's.
func held(order binary.ByteOrder, block []byte, n int) error {
	if len(block) < 32 || int64(order.Uint32(block[20:])) > int64(len(block)-32) {
		return fmt.Errorf("block %d can not be read: it says that its packet is longer than itself", n)
	}
	return nil
}

// intactRecords goes through the records of pcap: after 24 bytes each has 16, of which the third word is the length of
// what follows.
func intactRecords(file []byte) error {
	order := binary.ByteOrder(binary.LittleEndian)
	if file[0] == 0xa1 {
		order = binary.BigEndian
	}
	for at, n := 24, 1; at < len(file); n++ {
		rest := file[at:]
		if len(rest) < 16 {
			return fmt.Errorf("packet %d can not be read: the file ends in it; copy it whole", n)
		}
		length := order.Uint32(rest[8:])
		if int64(length) > int64(len(rest)-16) {
			return fmt.Errorf(
				"packet %d can not be read: it says that it has %d bytes, and the file has %d; copy it whole",
				n, length, len(rest)-16,
			)
		}
		at += 16 + int(length)
	}
	return nil
}
