package command_test

import (
	"fmt"
	"strings"
	"testing"
)

// Many lines, each of which makes a site and what is in it, with ranges said or chosen.
func BenchmarkLines(b *testing.B) {
	d := thistledown(b)
	for name, lan := range map[string]func(n int) string{
		"said":   func(n int) string { return fmt.Sprintf("10.%d.%d.0/28", 224+n>>8, n&255) },
		"chosen": func(int) string { return "/28" },
	} {
		for _, lines := range []int{250, 1000} {
			b.Run(fmt.Sprintf("%s/%d", name, lines), func(b *testing.B) {
				var text []string
				for n := range lines {
					text = append(text, fmt.Sprintf("site Garden %d with lan %s", n, lan(n)))
				}
				for b.Loop() {
					understood(b, d, strings.Join(text, "\n"))
				}
			})
		}
	}
}
