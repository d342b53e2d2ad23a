package name

import "strconv"

// ForList gives each of a list of keys, told by their comments, a name of its
// own: the prefix and the comment, or the prefix and the place in the list (1-based)
// where the comment makes no name or one that is taken within the list.
func ForList(prefix string, comments []string) []string {
	names := make([]string, len(comments))
	taken := map[string]bool{}
	for n, comment := range comments {
		given := prefix + "-" + Suggest(comment)
		if Suggest(comment) == "" || Check(given) != nil || taken[given] {
			place := n + 1
			for given = prefix + "-" + strconv.Itoa(place); taken[given]; given = prefix + "-" + strconv.Itoa(place) {
				place += len(comments)
			}
		}
		names[n], taken[given] = given, true
	}
	return names
}
