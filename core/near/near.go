// Package near tells how far apart two words are, so that a mistyped one can be answered
// with what there is.
package near

// most is how far a word may be from one that is meant: two letters, of a short one fewer. Two
// that changed places are two.
func most(word string) int { return min(2, len(word)/2) }

// Nearest is the word of the list that was meant, if one is near; "" else.
func Nearest(word string, list []string) (nearest string) {
	least := most(word) + 1
	for _, w := range list {
		if d := Distance(word, w); d < least {
			nearest, least = w, d
		}
	}
	return nearest
}

// Distance is how many letters must be added, dropped or changed.
//
// The number of changes, after Levenshtein: names are short, so the plain way will do.
func Distance(a, b string) int {
	row := make([]int, len(b)+1)
	for i := range row {
		row[i] = i
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for k := range len(b) {
			cost := diagonal
			if a[i] != b[k] {
				cost++
			}
			diagonal = row[k+1]
			row[k+1] = min(row[k+1]+1, row[k]+1, cost)
		}
	}
	return row[len(b)]
}
