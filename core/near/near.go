// Package near tells how far apart two words are, so that a mistyped one can be answered
// with what there is.
package near

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
