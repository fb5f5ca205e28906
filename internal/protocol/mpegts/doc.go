// Package mpegts receives and sends transport streams (ISO/IEC 13818-1) over UDP, RTP (RFC 2250) and HTTP. A stream is received
// once, whoever uses it: each of its programmes may feed a channel of its own (contribution/demux).
package mpegts
