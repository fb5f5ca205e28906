package bits

// crcTable is of the polynomial 0x04c11db7, most significant bit first (ISO/IEC 13818-1, annex A).
var crcTable = func() (t [256]uint32) {
	for i := range t {
		c := uint32(i) << 24
		for range 8 {
			if c&0x80000000 != 0 {
				c = c<<1 ^ 0x04c11db7
			} else {
				c <<= 1
			}
		}
		t[i] = c
	}
	return t
}()

// CRC32 returns the checksum of MPEG-2 sections. Over a section with its own it is 0.
func CRC32(b []byte) uint32 {
	c := ^uint32(0)
	for _, v := range b {
		c = c<<8 ^ crcTable[byte(c>>24)^v]
	}
	return c
}
