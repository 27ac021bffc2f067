// Package near finds the word that a misspelt one stands for.
package near

// longest is the longest word that is looked at, in bytes.
const longest = 128

// Word is the word that differs least from a misspelt one, for a "did you mean"; empty if
// none is near. The measure is the distance of optimal string alignment. It takes time in proportion to the letters of
// all words times those of the one.
func Word(misspelt string, words []string) string {
	if len(misspelt) < 3 || len(misspelt) > longest {
		return ""
	}
	best, least := "", 1+len(misspelt)/3
	for _, w := range words {
		if d := distance(misspelt, w, least); d < least || d == least && best == "" {
			best, least = w, d
		}
	}
	return best
}

// distance is the number of letters that are wrong, missing, too many, or changed places
// with the next, or limit+1 if it is more.
func distance(a, b string, limit int) int {
	if len(a)-len(b) > limit || len(b)-len(a) > limit {
		return limit + 1
	}
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		before, last, row = last, row, before
		row[0] = i
		for j := 1; j <= len(b); j++ {
			wrong := last[j-1]
			if a[i-1] != b[j-1] {
				wrong++
			}
			row[j] = min(wrong, last[j]+1, row[j-1]+1)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
	}
	return row[len(b)]
}
