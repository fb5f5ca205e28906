// Package rtsp is RTSP and RTSPS (RFC 2326) over sockets, in all four directions: the server lets senders publish (server.go)
// and plays to receivers (play.go, and to multicast groups in groups.go), pull.go fetches from cameras and servers, and push.go
// publishes with ANNOUNCE and RECORD. camera.go serves a loop as a network camera does. The protocol itself is core/rtsp; here
// are sockets, deadlines and limits.
package rtsp
