package publish

import (
	"metaplasis/internal/core/media"
	"metaplasis/internal/origin/run"
)

// Outlet takes what one run makes to the publisher, to the texts and to the numbering. It needs the channel's lock.
type Outlet struct {
	p     *Publisher
	texts *Texts
	makes func(rendition string) bool
	to    map[string]*Rendition // that the run makes, or made
}

// Outlet prepares to publish a run. makes tells which renditions it makes now.
func (p *Publisher) Outlet(texts *Texts, makes func(rendition string) bool) *Outlet {
	return &Outlet{p: p, texts: texts, makes: makes, to: map[string]*Rendition{}}
}

// Take takes one thing that the run made. It reports whether it was one for it.
func (o *Outlet) Take(m run.Made) bool {
	switch m := m.(type) {
	case run.Rendition:
		r := o.p.MakeRendition(m.Name)
		r.window.SetBudget(m.Bytes)
		o.to[m.Name] = r
	case run.Offer:
		o.p.Offer(m.Offering, m.PartTarget)
	case run.Begun:
		o.p.BeginRun(m.MSN, o.makes)
	case run.Boundary:
		o.p.numbers.Boundary(m.Boundary)
	case run.Segment:
		o.p.Publish(o.to[m.Rendition], m.Segment)
		if m.Header.Track.Kind == media.Video {
			o.texts.segment(m.Segment)
		}
	case run.Retired:
		o.p.Retire(o.to[m.Rendition], m.MSN, o.makes)
		o.p.List()
	case run.Captions:
		o.p.Announce(m.Services)
	case run.Caption:
		o.texts.Say(m)
	case run.CaptionsKnown:
		o.texts.Settle(m.At)
	default:
		return false
	}
	return true
}
