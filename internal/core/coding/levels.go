package coding

// Level is what a decoder of one level takes.
type Level struct {
	Name    string
	Rate    int64 // macroblocks, or luma samples, a second
	Size    int64 // macroblocks, or luma samples, a picture
	Bitrate int64 // bits per second, of the profiles with the lowest limit
}

// avcLevels are those of ITU-T H.264, table A-1: sizes in macroblocks, the bitrate of Baseline and Main.
var avcLevels = []Level{
	{"1", 1485, 99, 64_000}, {"1.1", 3000, 396, 192_000}, {"1.2", 6000, 396, 384_000}, {"1.3", 11_880, 396, 768_000},
	{"2", 11_880, 396, 2_000_000}, {"2.1", 19_800, 792, 4_000_000}, {"2.2", 20_250, 1620, 4_000_000},
	{"3", 40_500, 1620, 10_000_000}, {"3.1", 108_000, 3600, 14_000_000}, {"3.2", 216_000, 5120, 20_000_000},
	{"4", 245_760, 8192, 20_000_000}, {"4.1", 245_760, 8192, 50_000_000}, {"4.2", 522_240, 8704, 50_000_000},
	{"5", 589_824, 22_080, 135_000_000}, {"5.1", 983_040, 36_864, 240_000_000}, {"5.2", 2_073_600, 36_864, 240_000_000},
}

// hevcLevels are those of ITU-T H.265, tables A.8 and A.9: sizes in luma samples, the bitrate of the main tier.
var hevcLevels = []Level{
	{"1", 552_960, 36_864, 128_000}, {"2", 3_686_400, 122_880, 1_500_000}, {"2.1", 7_372_800, 245_760, 3_000_000},
	{"3", 16_588_800, 552_960, 6_000_000}, {"3.1", 33_177_600, 983_040, 10_000_000}, {"4", 66_846_720, 2_228_224, 12_000_000},
	{"4.1", 133_693_440, 2_228_224, 20_000_000}, {"5", 267_386_880, 8_912_896, 25_000_000},
	{"5.1", 534_773_760, 8_912_896, 40_000_000}, {"5.2", 1_069_547_520, 8_912_896, 60_000_000},
}

// Exceeds says by what a load is more than a level takes, "" when it is not.
func (l Level) Exceeds(most Level, profile string) string {
	bitrate := most.Bitrate
	if profile == "" || profile == "high" {
		bitrate = bitrate * 5 / 4 // ITU-T H.264, A.3.1: 1,250 bits for 1,000
	}
	switch {
	case l.Size > most.Size:
		return "its pictures are too large"
	case l.Rate > most.Rate:
		return "its pictures come too fast"
	case l.Bitrate > bitrate:
		return "its peak is too high"
	}
	return ""
}
