package negotiate

// usual is the MTU of an Ethernet path, bytes.
const usual = 1500

// Fits is the largest packet that fits inside a tunnel whose outside path takes
// mtu bytes: ESP in tunnel mode (RFC 4303 section 2), perhaps in UDP (RFC 3948),
// over IPv4 or IPv6.
func Fits(c Chosen, mtu int, udp, v6 bool) int {
	room := mtu - 20
	if v6 {
		room = mtu - 40
	}
	if udp {
		room -= 8
	}
	const header, trailer = 8, 2 // SPI and sequence number; padding length and next header
	room -= header + c.overhead.iv + c.check
	block := max(c.overhead.block, 4)
	return room/block*block - trailer
}

// MSS is the largest TCP segment in packets of that many bytes (RFC 9293
// section 3.7.1).
func MSS(mtu int, v6 bool) int {
	if v6 {
		return mtu - 60
	}
	return mtu - 40
}
