package reach

import (
	"regexp"
	"slices"
	"strings"
)

var (
	anyURL   = regexp.MustCompile(`(?i)\b(mqtts?|tcp|ssl|tls|mqtt\+ssl|mqtt\+tls|wss?|https?)://[^\s"'<>,;]+`)
	hostPort = regexp.MustCompile(`^\[?[A-Za-z0-9.:-]+\]?:\d{1,5}$`)
	notWord  = regexp.MustCompile(`[^a-z0-9]+`)
	lineKey  = regexp.MustCompile(`^\s*(?:[-*•>]\s+)?(?:export\s+|set\s+)?["']?([A-Za-z][A-Za-z0-9 _./()-]{0,40}?)["']?\s*(?:=>|:=|=|:|\t|\s{2,})\s*(.*)$`)
	// What firmware and programs write before a name, and what they define.
	types  = regexp.MustCompile(`^(?:(?:const|constexpr|static|final|public|private|readonly|unsigned|signed|char|int|long|short|bool|boolean|byte|auto|let|var|val|u?int(?:8|16|32)?_t|u16|&?str|string|String|std::string|QString)\b(?:\s*[*&])*\s*)+`)
	typed  = regexp.MustCompile(`^(\w+)\s*:\s*&?(?:'static\s+)?\w+\s*=`) // with the type behind the name
	define = regexp.MustCompile(`^#\s*define\s+(\w+)\s+(.+)$`)
	// Arguments of a call, and the parts of a connection string.
	pair = regexp.MustCompile(`([A-Za-z][A-Za-z0-9_ .-]*?)\s*[=:]\s*("[^"]*"|'[^']*'|[^,;()\s]+)`)
	// Prose.
	someHost  = regexp.MustCompile(`\b(?:\d{1,3}(?:\.\d{1,3}){3}|(?:[A-Za-z0-9-]+\.)+[A-Za-z]{2,})\b`)
	somePort  = regexp.MustCompile(`(?i)\bport\s*(?:is|number)?\s*(\d{2,5})\b`)
	someUser  = regexp.MustCompile(`(?i)\b(?:user(?:\s?name)?|login|account)\s*(?:is|as)?\s+["'“]?([^\s"'”,;]+)`)
	somePass  = regexp.MustCompile(`(?i)\b(?:password|passwd|pass phrase|pwd)\s*(?:is)?\s+["'“]?([^\s"'”,;]+)`)
	someTLS   = regexp.MustCompile(`(?i)\b(?:with|over|uses?|using|by)\s+(?:TLS|SSL)\b`)
	separator = regexp.MustCompile(`^[\s|:+=-]+$`)
)

// readLines finds names and values in text: a line each, as lists, environment files, tables,
// constants of firmware or arguments of calls have them.
func readLines(text string, set func(name, value string)) {
	var header []string
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if m := define.FindStringSubmatch(line); m != nil {
			set(m[1], withoutComment(m[2]))
			continue
		}
		if line == "" || strings.HasPrefix(line, "#") || strings.HasPrefix(line, "//") || separator.MatchString(line) {
			continue
		}
		if cells := cellsOf(line); len(cells) == 2 && strings.Contains(line, "|") {
			set(cells[0], cells[1])
			continue
		} else if len(cells) > 2 && header != nil && len(cells) == len(header) {
			for i := range cells {
				set(header[i], cells[i])
			}
			header = nil
			continue
		} else if known(cells) > 1 && known(cells) == len(cells) {
			header = cells
			continue
		}
		line = withoutComment(line)
		if pairs := pairsOf(line); pairs != nil {
			for _, p := range pairs {
				set(p[0], p[1])
			}
			continue
		}
		plain := typed.ReplaceAllString(strings.Replace(types.ReplaceAllString(line, ""), "[]", "", 1), "$1 =")
		at := anyURL.FindStringIndex(line)
		switch m := lineKey.FindStringSubmatch(plain); {
		case at != nil && at[0] == 0:
			set("url", line)
		case hostPort.MatchString(line):
			set("host", line)
		case m != nil:
			set(m[1], m[2])
		case at != nil:
			set("url", line[at[0]:at[1]])
		}
	}
}

// withoutComment takes the comment off a line; what stands in quotes is none.
func withoutComment(line string) string {
	for _, mark := range []string{" #", "; //", " //"} {
		if i := strings.Index(line, mark); i > 0 && strings.Count(line[:i], `"`)%2+strings.Count(line[:i], "'")%2 == 0 {
			line = strings.TrimSpace(line[:i])
		}
	}
	return line
}

// cellsOf splits a row of a table; nil for a line that is none.
func cellsOf(line string) (out []string) {
	for _, mark := range []string{"|", "\t", ";", ","} {
		if !strings.Contains(line, mark) {
			continue
		}
		for c := range strings.SplitSeq(strings.Trim(line, mark), mark) {
			out = append(out, strings.TrimSpace(c))
		}
		return out
	}
	return nil
}

// known counts the cells that are names of details, as those of a table's head.
func known(cells []string) (n int) {
	for _, c := range cells {
		if fieldOf(c) != "" && !strings.ContainsAny(c, "=:") {
			n++
		}
	}
	return n
}

// pairsOf returns the arguments of a call, or the parts of a connection string; nil for a line
// that is neither.
func pairsOf(line string) (out [][2]string) {
	inside := line
	open := strings.IndexByte(line, '(')
	switch {
	case open >= 0 && strings.LastIndexByte(line, ')') > open && !strings.ContainsAny(line[:open], "=:"):
		inside = line[open+1 : strings.LastIndexByte(line, ')')]
	case strings.Count(line, ";") < 2 || strings.Count(line, "=") < 2:
		return nil
	}
	fields := 0
	for _, m := range pair.FindAllStringSubmatch(inside, -1) {
		out = append(out, [2]string{m[1], m[2]})
		if fieldOf(m[1]) != "" {
			fields++
		}
	}
	if fields < 2 {
		return nil
	}
	return out
}

// readProse looks for details in sentences, where no line names a host.
func readProse(text string, set func(name, value string)) {
	host := someHost.FindString(text)
	if host == "" {
		return
	}
	set("host", host)
	for name, find := range map[string]*regexp.Regexp{"port": somePort, "username": someUser, "password": somePass} {
		if m := find.FindStringSubmatch(text); m != nil && !slices.Contains([]string{"and", "is", "name", "the", "will"}, strings.ToLower(m[1])) {
			set(name, strings.TrimRight(m[1], ".!?)"))
		}
	}
	if someTLS.MatchString(text) {
		set("tls", "yes")
	}
}
