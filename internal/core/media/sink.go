package media

// Sink takes tracks and their access units.
type Sink interface {
	// FrameRate tells the rate that the sender announces, in thousandths a second.
	FrameRate(milli int64)
	// Track announces a track, or what has become of one.
	Track(t Track)
	// Unit takes an access unit of a track that was announced. stamp is its decode time by the track's
	// clock, which may wrap; composition is how much later it is presented.
	Unit(id TrackID, stamp, composition int64, key bool, data []byte)
}
