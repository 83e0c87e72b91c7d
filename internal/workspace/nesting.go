package workspace

// How deep a file may nest: what a person writes does not come near. The parser takes time with the
// square of it, and memory for each level.
const (
	maxIndents = 200   // levels of indentation and of "- - -"
	maxFlow    = 1_000 // brackets and braces that are open
)

// nests looks before the parser does whether a text goes too deep, and where. It knows as little of
// YAML as it can: indentation, list signs, brackets, quotes and comments. Text at the beginning of a
// line ends whatever was open, so that a bracket in prose does not count for ever.
func nests(src []byte) (line, column int, deep bool) {
	var indents []int
	open, quote, line := 0, byte(0), 0
	for len(src) > 0 {
		line++
		text := src
		for i, b := range src {
			if b == '\n' {
				text = src[:i]
				break
			}
		}
		src = src[min(len(src), len(text)+1):]
		at := 0
		for at < len(text) && text[at] == ' ' {
			at++
		}
		if at == len(text) || text[at] == '#' {
			continue
		}
		if at == 0 && text[0] != ']' && text[0] != '}' {
			open, quote = 0, 0
		}
		for len(indents) > 0 && indents[len(indents)-1] >= at {
			indents = indents[:len(indents)-1]
		}
		indents = append(indents, at)
		signs := 0
		for at+1 < len(text) && (text[at] == '-' || text[at] == '?') && text[at+1] == ' ' {
			for at++; at < len(text) && text[at] == ' '; at++ {
			}
			signs++
		}
		if len(indents)+signs > maxIndents {
			return line, at + 1, true
		}
		before := byte(' ') // the last that is no space: a quote within a word is none
		for ; at < len(text); at++ {
			b := text[at]
			switch {
			case quote != 0:
				if b == '\\' && quote == '"' {
					at++
				} else if b == quote {
					quote = 0
				}
			case b == '#' && (at == 0 || text[at-1] == ' '):
				at = len(text)
				continue
			case (b == '"' || b == '\'') && (before == ' ' || before == '[' || before == '{' || before == ',' ||
				before == ':'):
				quote = b
			case b == '[' || b == '{':
				open++
			case b == ']' || b == '}':
				open = max(0, open-1)
			}
			if open > maxFlow {
				return line, at + 1, true
			}
			if b != ' ' {
				before = b
			}
		}
	}
	return 0, 0, false
}
