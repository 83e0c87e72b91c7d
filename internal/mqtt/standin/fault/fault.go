// Package fault holds the ways in which a stand-in misbehaves on purpose, a file per family, named as the
// checks' families. Each is a value with the hooks that make it.
package fault

import (
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// All is the one table of faults, in the order of the families.
func All() []standin.Fault {
	return slices.Concat(
		connect(),
		opening(),
		login(),
		qos(),
		flows(),
		streams(),
		retain(),
		retained(),
		will(),
		wills(),
		session(),
		sessions(),
		subscribe(),
		subscriptions(),
		properties(),
		limits(),
		failures(),
		below(),
		contract(),
	)
}

// Find returns the fault with the name; the error names those that come close.
func Find(name string) (standin.Fault, error) {
	var near []string
	family, _, _ := strings.Cut(name, ".")
	for _, f := range All() {
		if f.Name == name {
			return f, nil
		}
		if strings.HasPrefix(f.Name, family+".") {
			near = append(near, f.Name)
		}
	}
	if len(near) == 0 {
		return standin.Fault{}, fmt.Errorf("there is no fault %q: 'hodstone stand-in --help' lists them", name)
	}
	return standin.Fault{}, fmt.Errorf(
		"there is no fault %q: did you mean one of %s? 'hodstone stand-in --help' lists them all",
		name,
		strings.Join(near, ", "),
	)
}

// Set finds several faults.
func Set(names ...string) (out []standin.Fault, err error) {
	for _, name := range names {
		f, err := Find(name)
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// deliver makes a fault of what one client gets.
func deliver(name, sentence string, breaks []string, change func(*standin.Delivery)) standin.Fault {
	return standin.Fault{Name: name, Sentence: sentence, Breaks: breaks, Decisions: standin.Decisions{Deliver: change}}
}

// sorted has the user properties in the order of their names.
func sorted(ps packet.Properties) packet.Properties {
	out := ps.Without(packet.UserProperty)
	users := slices.Collect(ps.All(packet.UserProperty))
	slices.SortStableFunc(users, func(a, b packet.Property) int { return strings.Compare(a.Show(), b.Show()) })
	return append(out, users...)
}
