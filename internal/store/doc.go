// Package store keeps what has been on air: the CMAF segments of each rendition, the same bytes that viewers
// were given, for the time-shift and for recordings.
//
// Segments lie in bundles. A bundle is one file of one rendition: the CMAF header, and behind it the segments
// of some minutes as they came, so that the file is a fragmented MP4 (ISO/IEC 14496-12, 8.16) that plays by
// itself. Beside it lies its index: a line of JSON, and a record of fixed length for each segment with the
// checksum of its bytes. A segment is written before its record: what has a record is whole. Files lie in
//
//	{channel}/{day}/{rendition}/{time of day}-{first segment}.mp4, .index
//
// so that no folder holds more than a day of one rendition, and a year of a channel is some hundred thousand
// objects at most.
//
// Who hands a segment over never waits: it goes into a queue that is bounded in bytes, and a place that is
// slow, full or gone costs history alone. Bundles that are closed are told to a ledger, from which the next
// start knows them; the index of a bundle that the ledger does not know is read and its bytes are checked.
package store
