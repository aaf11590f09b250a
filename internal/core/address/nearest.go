package address

// Nearest returns the candidate that is most like the name, or "" when none
// is near enough to be worth naming (more than a third of it differs).
func Nearest(name string, candidates []string) string {
	best, bestDistance := "", len(name)/3+2
	for _, c := range candidates {
		if d := distance(name, c); d < bestDistance {
			best, bestDistance = c, d
		}
	}
	return best
}

// distance is the Levenshtein distance, with one row kept.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			above := row[j]
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(above+1, row[j-1]+1, diagonal+cost)
			diagonal = above
		}
	}
	return row[len(b)]
}
