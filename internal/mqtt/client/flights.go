package client

import "slices"

// fewFlights is how many publications under way are looked through; of more there is a map.
const fewFlights = 16

// flights are the unfinished publications of a session, oldest first. Acknowledgements come in their order, so that what is
// looked for stands near the front.
type flights struct {
	all  []*flight
	byID map[uint16]*flight // the same by packet identifier; nil where they are few
}

// find returns the one with a packet identifier, or nil.
func (x *flights) find(id uint16) *flight {
	if x.byID != nil {
		return x.byID[id]
	}
	for _, f := range x.all {
		if f.p.ID == id {
			return f
		}
	}
	return nil
}

func (x *flights) add(f *flight) {
	x.all = append(x.all, f)
	switch {
	case x.byID != nil:
		x.byID[f.p.ID] = f
	case len(x.all) > fewFlights:
		x.byID = make(map[uint16]*flight, 2*fewFlights)
		for _, f := range x.all {
			x.byID[f.p.ID] = f
		}
	}
}

// remove takes one out, and returns where it stood; below 0 where it was not there.
func (x *flights) remove(f *flight) int {
	if x.byID != nil {
		delete(x.byID, f.p.ID)
	}
	i := slices.Index(x.all, f)
	if i < 0 {
		return i
	}
	x.all = slices.Delete(x.all, i, i+1)
	if len(x.all) == 0 {
		*x = flights{all: x.all}
	}
	return i
}
