package media

// longestOpus is 120 ms, which a packet holds at most (RFC 6716 §3.2.5).
const longestOpus = 5760

// OpusSamples returns for how many samples at 48 kHz a packet of Opus sounds, by its first byte (RFC 6716 §3.1): the length of its frames,
// and how many there are.
func OpusSamples(packet []byte) uint32 {
	if len(packet) == 0 {
		return 0
	}
	config, count := packet[0]>>3, uint32(1)
	var length uint32
	switch {
	case config < 12:
		length = []uint32{480, 960, 1920, 2880}[config&3]
	case config < 16:
		length = []uint32{480, 960}[config&1]
	default:
		length = []uint32{120, 240, 480, 960}[config&3]
	}
	switch packet[0] & 3 {
	case 1, 2:
		count = 2
	case 3:
		if count = 0; len(packet) > 1 {
			count = uint32(packet[1] & 0x3f)
		}
	}
	return min(length*count, longestOpus)
}
