package present

import (
	"fmt"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/media"
)

// Small pictures lie many in one: so many in a row and rows below each other, each of five seconds.
const (
	TileColumns = 5
	TileRows    = 5
	TileWidth   = 160
	TileHeight  = 90
	TileTicks   = TileColumns * TileRows * 5 * media.VideoTimescale
	TilePrefix  = "tiles-"
	// TileScheme says how pictures lie in one (DASH-IF IOP, part 3, "Thumbnail tiles").
	TileScheme = "http://dashif.org/guidelines/thumbnail_tile"

	tileSet  = 300    // id of the adaptation set
	tileBits = 40_000 // bits per second, about: 60 kB in two minutes, and more
)

// tiles adds the small pictures to the periods of a manifest, which begin at media times.
func tiles(m *dash.MPD, begin []int64, suffix string) {
	for i := range m.Periods {
		if i >= len(begin) {
			return
		}
		first := uint64(0)
		m.Periods[i].Sets = append(m.Periods[i].Sets, dash.AdaptationSet{ID: tileSet, ContentType: "image", MimeType: "image/jpeg",
			Representations: []dash.Representation{{ID: "tiles", Bandwidth: tileBits, Width: TileColumns * TileWidth, Height: TileRows * TileHeight,
				Essential:  []dash.Descriptor{{Scheme: TileScheme, Value: fmt.Sprintf("%dx%d", TileColumns, TileRows)}},
				Addressing: dash.Addressing{Template: &dash.SegmentTemplate{Timescale: media.VideoTimescale, Duration: TileTicks, StartNumber: &first, Media: fmt.Sprintf("%s%d-$Number$.jpg%s", TilePrefix, begin[i], suffix)}}}}})
	}
}
