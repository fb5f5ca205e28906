package govern

import "maps"

// Turn is what the other channels of a machine mean for one.
type Turn struct {
	Yield bool // one of a higher priority is short: this one gives way for it
	Wait  bool // one of a lower priority gives way first
}

// Order says which of several channels gives way when the machine is short: among those that can, the ones of the lowest
// priority. It looks once for all; the zero value is ready.
type Order struct {
	seen  map[string]standing
	turns map[string]Turn
}

type standing struct {
	priority int
	short    bool
	gives    bool // there is something left that it can do without
}

// Begin begins a look.
func (o *Order) Begin() { o.seen = map[string]standing{} }

// See tells how a channel does, and whether its governor may still lower something.
func (o *Order) See(channel string, priority int, l Load, gives bool) {
	o.seen[channel] = standing{priority, l.short(), gives}
}

// End ends a look: Turn knows.
func (o *Order) End() {
	o.turns = map[string]Turn{}
	for name, s := range o.seen {
		if !s.short {
			continue
		}
		lowest, found := s.priority, false
		for _, other := range o.seen {
			if other.gives && other.priority < lowest {
				lowest, found = other.priority, true
			}
		}
		if !found {
			continue
		}
		t := o.turns[name]
		t.Wait = true
		o.turns[name] = t
		for other, v := range maps.All(o.seen) {
			if v.gives && v.priority == lowest {
				t := o.turns[other]
				t.Yield = true
				o.turns[other] = t
			}
		}
	}
}

// Turn is what the last look means for a channel.
func (o *Order) Turn(channel string) Turn { return o.turns[channel] }
