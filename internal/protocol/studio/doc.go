// Package studio is media on a studio's network, over RTP without compression or lightly compressed: it finds the sources that
// session announcements (core/sap) or DNS-based service discovery tell of (directory.go), receives them (receive.go), and sends
// a loop as such a source (push.go).
package studio
