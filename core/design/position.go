package design

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Position is a place on the earth.
type Position struct {
	Latitude  float64 // degrees, north positive
	Longitude float64 // degrees, east positive
}

// ParsePosition reads latitude and longitude in degrees, such as "57.1, -4.2".
func ParsePosition(text string) (Position, error) {
	a, b, ok := strings.Cut(text, ",")
	lat, errA := strconv.ParseFloat(strings.TrimSpace(a), 64)
	long, errB := strconv.ParseFloat(strings.TrimSpace(b), 64)
	if !ok || errA != nil || errB != nil || !(math.Abs(lat) <= 90) || !(math.Abs(long) <= 180) {
		return Position{}, fmt.Errorf(
			"%q is no latitude and longitude; write degrees from -90 to 90 and from -180 to 180, such as 57.1, -4.2",
			text,
		)
	}
	return Position{lat, long}, nil
}

const earthRadius = 6371 // kilometres, mean

// Kilometres is how far it is to another along a great circle (by haversines).
func (p Position) Kilometres(q Position) float64 {
	rad := func(deg float64) float64 { return deg * math.Pi / 180 }
	hav := func(x float64) float64 { return math.Pow(math.Sin(x/2), 2) }
	h := hav(rad(q.Latitude-p.Latitude)) +
		math.Cos(rad(p.Latitude))*math.Cos(rad(q.Latitude))*hav(rad(q.Longitude-p.Longitude))
	return 2 * earthRadius * math.Asin(math.Min(1, math.Sqrt(h)))
}

// PositionOf is where a party is: what it says itself, or where its cloud's region is; ok is false where nobody says.
func (d *Design) PositionOf(party ID) (p Position, ok bool) {
	o := d.Get(party)
	text := ""
	if o == nil {
		return p, false
	}
	switch b := o.Body.(type) {
	case *Site:
		text = b.Position
	case *EdgeRouter:
		text = b.Position
	case *Network:
		text = d.regionPosition(party, b.Region)
	case *Hub:
		text = d.regionPosition(party, b.Region)
	}
	p, err := ParsePosition(text)
	return p, err == nil
}

// RegionPosition is where a region of a party's cloud is; ok is false where its profile does not say.
func (d *Design) RegionPosition(party ID, region string) (p Position, ok bool) {
	p, err := ParsePosition(d.regionPosition(party, region))
	return p, err == nil
}

func (d *Design) regionPosition(party ID, region string) string {
	if profile := d.ProfileOf(party); profile != nil {
		for _, r := range profile.Regions {
			if strings.EqualFold(r.Name, region) {
				return r.Position
			}
		}
	}
	return ""
}
