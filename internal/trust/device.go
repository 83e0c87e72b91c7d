package trust

import (
	"context"
	"crypto/tls"
	"errors"
	"slices"
	"strings"
)

// Device is what a device of limited means has of TLS.
type Device struct {
	// Versions are those that it has; none for a device that nothing is known of.
	Versions []uint16
	// Suites are those that it has, in its own order; none stand for all of its versions.
	Suites []uint16
}

// ParseDevice reads versions and suites as people write them, with spaces or commas between:
// "1.2", "1.2, 1.3", "1.2 TLS_ECDHE_ECDSA_WITH_AES_128_CCM_8 0xC02B". Nothing is nothing.
func ParseDevice(s string) (d Device, err error) {
	for _, word := range strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == ',' || r == ';' }) {
		if strings.EqualFold(word, "TLS") {
			continue
		}
		if strings.Trim(word, "0123456789.") == "" {
			v, err := ParseVersion(word)
			if err != nil {
				return Device{}, err
			}
			d.Versions = append(d.Versions, v)
			continue
		}
		id, err := ParseSuite(word)
		if err != nil {
			return Device{}, err
		}
		d.Suites = append(d.Suites, id)
	}
	if len(d.Suites) > 0 && len(d.Versions) == 0 {
		return Device{}, errors.New("name a version of TLS too, such as 1.2")
	}
	return d, nil
}

// String writes the device as [ParseDevice] reads it.
func (d Device) String() string {
	var words []string
	for _, v := range d.Versions {
		words = append(words, VersionName(v))
	}
	for _, id := range d.Suites {
		words = append(words, SuiteName(id))
	}
	return strings.Join(words, " ")
}

// DeviceTried is what a device of limited means would meet.
type DeviceTried struct {
	// Versions are those that it offers, the newest first.
	Versions []uint16
	// Suites are those of them that it has; none where it has all.
	Suites []uint16
	In     bool
	Seen   string
}

// Title names the device by its versions.
func (d DeviceTried) Title() string {
	var names []string
	for _, v := range d.Versions {
		names = append(names, VersionName(v))
	}
	if len(names) == 1 {
		return "a device limited to TLS " + names[0]
	}
	return "a device with TLS " + strings.Join(names, " and ")
}

// device asks what a client of limited means would get: with all its versions together, for a
// server may choose one and then find no suite in it, and limited to each.
func (s *Survey) device(ctx context.Context, o SurveyOptions) {
	versions := slices.Clone(o.Device.Versions)
	slices.SortFunc(versions, func(a, b uint16) int { return int(b) - int(a) })
	if versions = slices.Compact(versions); len(versions) > 1 {
		s.Device = append(s.Device, s.deviceOf(ctx, o, versions))
	}
	for _, v := range versions {
		s.Device = append(s.Device, s.deviceOf(ctx, o, []uint16{v}))
	}
}

func (s *Survey) deviceOf(ctx context.Context, o SurveyOptions, versions []uint16) DeviceTried {
	d := DeviceTried{Versions: versions}
	var offer []uint16
	for _, v := range versions {
		for _, id := range SuitesOf(v) {
			if len(o.Device.Suites) == 0 && !slices.Contains(offer, id) {
				offer = append(offer, id)
			}
		}
	}
	for _, id := range o.Device.Suites { // in its own order, and those that we do not know too
		if is13 := id>>8 == 0x13; slices.ContainsFunc(versions, func(v uint16) bool { return is13 == (v == tls.VersionTLS13) }) {
			offer = append(offer, id)
			d.Suites = append(d.Suites, id)
		}
	}
	if len(offer) == 0 {
		d.Seen = "the device has no suite of this version"
		return d
	}
	a, err := Hello{Version: versions[0], Older: versions[1:], Suites: offer, ServerName: s.ServerName}.Ask(ctx, o.Dial)
	switch {
	case err != nil:
		d.Seen = err.Error()
	case a.Taken && slices.Contains(versions, a.Version) && slices.Contains(offer, a.Suite):
		d.In, d.Seen = true, "gets "+SuiteName(a.Suite)
		if len(versions) > 1 {
			d.Seen += " in TLS " + VersionName(a.Version)
		}
	case a.Taken && slices.Contains(versions, a.Version):
		d.Seen = "refused: the server chose a suite that the device does not have, " + SuiteName(a.Suite)
	case a.Taken:
		d.Seen = "refused: the server chose TLS " + VersionName(a.Version)
	default:
		d.Seen = a.String()
	}
	return d
}
