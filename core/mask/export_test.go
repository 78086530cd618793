package mask

// DefaultTextRules are the default patterns as rules of a case, which are looked for in every text; without those that need more than a pattern.
func DefaultTextRules() (list []Rule) {
	for _, x := range defaultTexts {
		if x.accept == nil {
			list = append(list, Rule{On: OnText, Match: x.pattern.String()})
		}
	}
	return list
}
