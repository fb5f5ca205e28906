// Package run is one run of a feed: a stretch without a discontinuity, during which the tracks stay the same and times go on.
// Tracks and access units go in as the sender stamps them. They get media times (core/timeline), enter the channel's hub, and
// are cut into parts and segments; a worker encodes what does not pass through.
//
// A Run calls nobody. What it makes and what others should know is collected as values of Made, in order, and the channel takes
// them with Take after each call. All methods are called with the channel's lock held; none waits.
package run
