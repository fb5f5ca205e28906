// Package webrtc is media over WebRTC, signalled over HTTP: WHIP (RFC 9725) lets senders in (whip.go) and pushes to other
// servers (whip_push.go), WHEP (draft-ietf-wish-whep) serves viewers (whep.go). WebRTC itself is pion's.
//
// For WHEP, access units become payloads of RTP once for each rung. Every viewer sends the same bytes with headers of its own,
// begins at the newest keyframe, and changes rungs at keyframes. What does not fit WebRTC, such as reordered pictures or sound
// that is not Opus, the origin encodes once for all such viewers.
package webrtc
