package check

import (
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/proof"
)

// Reference is the catalogue as Markdown, from the checks themselves and the faults that break them.
func Reference() string {
	var b strings.Builder
	b.WriteString(`# The checks

Made from the source by ` + "`make docs`" + `; ` + "`hodstone prove --list`" + ` shows the same. Each check drives clients of its own under ` + "`" + proof.TopicRoot + "/`" + `, and ends
as *kept*, *broken*, *unsupported* (the broker says that it does not offer this), *undecided* (it could not be carried out) or *skipped*. Those marked ! fail logins, throw
clients out or break the protocol: on a real broker they run with ` + "`--intrusive`" + ` only. Sections are those of MQTT 3.1.1 and 5.0; 3.1 is no OASIS standard.
A check that requires another tells nothing while that is broken.
`)
	family := ""
	for _, c := range All() {
		if c.Family() != family {
			family = c.Family()
			fmt.Fprintf(&b, "\n## %s\n\n| check | what must be seen | 3.1.1 | 5.0 | needs | requires | faults that break it |\n|---|---|---|---|---|---|---|\n", family)
		}
		mark := ""
		if c.Intrusive {
			mark = " !"
		}
		fmt.Fprintf(&b, "| `%s`%s | %s: %s | %s | %s | %s | %s | %s |\n", c.Name, mark, c.Title, c.Expected, section(c, packet.V311), section(c, packet.V5),
			needs(c.Needs), quoted(c.Requires), quoted(faultsOf(c)))
	}
	return b.String()
}

func section(c *proof.Check, v packet.Version) string {
	if s := c.Section(v); s != "" {
		return s
	}
	return "–"
}

// needs says what a check takes of a broker.
func needs(n proof.Needs) string {
	var all []string
	if n.Least > 1 {
		all = append(all, fmt.Sprintf("%d clients", n.Least))
	}
	if n.QoS > 0 {
		all = append(all, fmt.Sprintf("QoS %d", n.QoS))
	}
	if n.Retained {
		all = append(all, "retained messages")
	}
	if n.Sessions {
		all = append(all, "kept sessions")
	}
	return strings.Join(all, ", ")
}

// faultsOf names the faults of the stand-in that break a check.
func faultsOf(c *proof.Check) (out []string) {
	for _, f := range fault.All() {
		if breaks(&f, c.Name) {
			out = append(out, f.Name)
		}
	}
	return out
}

func breaks(f *standin.Fault, name string) bool { return slices.Contains(f.Breaks, name) }

func quoted(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return "`" + strings.Join(names, "`, `") + "`"
}
