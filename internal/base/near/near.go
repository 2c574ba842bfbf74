// Package near finds the name that was perhaps meant.
package near

import (
	"fmt"
	"strings"
)

// Name gives the known name closest to a misspelt one, or "" when none is
// close: more than half of its letters would have to change.
func Name(name string, known []string) string {
	best, least := "", len(name)/2+1
	for _, k := range known {
		if n := distance(strings.ToLower(name), strings.ToLower(k)); n < least {
			best, least = k, n
		}
	}
	return best
}

// Question asks whether the closest name was meant; "" when none is close.
func Question(name string, known []string) string {
	if best := Name(name, known); best != "" {
		return fmt.Sprintf("did you mean %q?", best)
	}
	return ""
}

// distance is how many letters are to be added, removed or replaced to make one
// text of the other (Levenshtein's), row by row.
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	row := make([]int, len(y)+1)
	for j := range row {
		row[j] = j
	}
	for i := range x {
		above := row[0]
		row[0] = i + 1
		for j := range y {
			replaced := above
			if x[i] != y[j] {
				replaced++
			}
			above = row[j+1]
			row[j+1] = min(replaced, row[j]+1, above+1)
		}
	}
	return row[len(y)]
}
