// Package push is media that is pushed over HTTP: CMAF tracks as "DASH-IF Live Media Ingest Protocol", interface 1, has them,
// each in requests of its own that go on or bring a segment each; or one transport stream in a body that goes on. server.go
// receives it as feeds, client.go sends it.
//
//	PUT or POST /in/CHANNEL/Streams(video.cmfv)      a track that goes on
//	PUT         /in/CHANNEL/video/seg-17.m4s         a segment of the track "video/seg-"
//	PUT         /in/CHANNEL/manifest.mpd             taken and not needed
//	POST        /in/CHANNEL/stream.ts                a transport stream
package push
