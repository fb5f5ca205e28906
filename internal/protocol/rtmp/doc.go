// Package rtmp is RTMP and RTMPS over sockets, in all four directions: the server lets senders in (server.go) and plays to
// receivers (play.go), pull.go fetches a stream from another server, and push.go publishes one there. The protocol itself is
// core/rtmp, which takes bytes and returns messages; here are sockets, deadlines and limits. Senders come out as feeds of a
// contribution.Receiver; what is played and pushed comes from an onward.Tap.
package rtmp
