// Package cost is about money and effort: what a month of something costs
// under a cloud's prices, and how the shapes of an estate compare as it grows.
package cost

import (
	"dravin/core/provider"
)

// HoursPerMonth is what a month counts for hourly prices.
const HoursPerMonth = 730

// Item is one part of a monthly cost.
type Item struct {
	Text   string         `json:"text"`
	Amount provider.Money `json:"amount"`
}

// Monthly is what an hourly price comes to in a month.
func Monthly(hourly provider.Money) provider.Money { return hourly * HoursPerMonth }

// Volume is what that many gigabytes cost.
func Volume(perGB provider.Money, gb uint32) provider.Money { return perGB * provider.Money(gb) }

// Sum adds lines up, to two places.
func Sum(lines []Item) provider.Money {
	var total provider.Money
	for _, l := range lines {
		total += l.Amount
	}
	return total.Round()
}
