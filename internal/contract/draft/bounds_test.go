package draft_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"hodstone/internal/contract/draft"
	"hodstone/internal/workspace"
)

// TestTheBoundsOfOutliers: three times the middle half's width outside of it is none, a little more is one, on either
// side; up to a tenth of all where they come from one topic of three.
func TestTheBoundsOfOutliers(t *testing.T) {
	steady := func(i int) string { return fmt.Sprint(20 + i%5) } // the middle half is 21 to 23: 15 and 29 are the fences
	with := func(odd map[int]string) func(int) string {
		return func(i int) string {
			if s, is := odd[i]; is {
				return s
			}
			return steady(i)
		}
	}
	for name, c := range map[string]struct {
		messages []draft.Message
		want     string // what is told of them, "" for nothing
		limits   string
	}{
		"on the upper fence":    {each(200, with(map[int]string{7: "29"}), "d/x"), "", "minimum: 0, maximum: 50"},
		"above it":              {each(200, with(map[int]string{7: "30"}), "d/x"), "1 of 200 lie outside 20 … 24, between 20 and 30", "maximum: 50"},
		"on the lower fence":    {each(200, with(map[int]string{7: "15"}), "d/x"), "", "minimum: 0, maximum: 50"},
		"below it":              {each(200, with(map[int]string{7: "14"}), "d/x"), "1 of 200 lie outside 20 … 24, between 14 and 24", "minimum: 0"},
		"on both sides":         {each(200, with(map[int]string{7: "-90", 9: "900"}), "d/x"), "2 of 200 lie outside 20 … 24, between -90 and 900", "minimum: 0, maximum: 50"},
		"one in a hundred":      {each(100, with(map[int]string{7: "900"}), "d/x"), "1 of 100", "maximum: 50"},
		"more than one in them": {each(99, with(map[int]string{7: "900"}), "d/x"), "", "maximum: 2000"},
		"twenty in all, a tenth of them from one topic of three": {append(each(7, steady, "d/1/x", "d/2/x"), each(6, with(map[int]string{2: "900", 3: "900"}), "d/3/x")...),
			"2 of 20", "maximum: 50"},
		"nineteen in all": {append(each(7, steady, "d/1/x", "d/2/x"), each(5, with(map[int]string{2: "900"}), "d/3/x")...), "", "maximum: 2000"},
		"more than a tenth": {append(each(7, steady, "d/1/x", "d/2/x"), each(7, with(map[int]string{2: "900", 3: "900", 4: "900"}), "d/3/x")...), "",
			"maximum: 2000"},
		"from one topic of two": {append(each(10, steady, "d/1/x"), each(10, with(map[int]string{2: "900", 3: "900"}), "d/2/x")...), "", "maximum: 2000"},
		"from one, with others on the fences": {append(append(each(60, with(map[int]string{7: "15"}), "d/1/x"), each(60, with(map[int]string{7: "29"}), "d/2/x")...),
			each(60, with(map[int]string{2: "900", 3: "900", 4: "900"}), "d/3/x")...), "3 of 180", "maximum: 50"},
	} {
		r, text := drafted(c.messages...)
		got := strings.Join(r.Outliers, "; ")
		if (got != "") != (c.want != "") || !strings.Contains(got, c.want) || !strings.Contains(text, c.limits) {
			t.Errorf("%s: %q\n%s", name, got, text)
		}
	}
}

// TestUnitsOfNames: the last word of a name, with its prefix; what only ends alike is none.
func TestUnitsOfNames(t *testing.T) {
	for name, want := range map[string]string{"weight_kg": "kg", "weightKg": "kg", "kg": "kg", "millivolts": "mV", "supply_volts": "V", "kilograms": "kg",
		"lifted-grams": "g", "milligrams": "mg", "delay_milliseconds": "ms", "seconds": "s", "microSeconds": "µs", "kilometres": "km", "depth_m": "m", "m": "",
		"program": "", "gram": "g", "crowbar": "", "pressure_bar": "bar", "tempkelvin": "K", "backup": "", "oxygen_mgl": "mg/l", "pa": "", "x_pa": "Pa", "hectolitres": "hl", "temp.celsius": "°C"} {
		_, text := drafted(each(12, func(i int) string { return fmt.Sprintf(`{%q: %d}`, name, i%4) }, "d/x")...)
		if got := strings.Contains(text, "unit: "); got != (want != "") || got && !strings.Contains(text, "unit: "+want+"}") && !strings.Contains(text, fmt.Sprintf("unit: %q}", want)) {
			t.Errorf("%s: want %q\n%s", name, want, text)
		}
	}
}

// TestWhatIsCounted: how often each thing held, over several topics too.
func TestWhatIsCounted(t *testing.T) {
	up := func(i int) string { return fmt.Sprint(100 + i) }
	saw := func(i int) string { return fmt.Sprint(i % 6) }
	list := func(all ...string) func(int) string { return func(i int) string { return all[i%len(all)] } }
	nested := func(n int) string { return strings.Repeat(`{"a":`, n) + "1" + strings.Repeat("}", n) }
	fields := func(n int) string {
		var all []string
		for i := range n {
			all = append(all, fmt.Sprintf(`"f%d": 1`, i))
		}
		return "{" + strings.Join(all, ", ") + "}"
	}
	for name, c := range map[string]struct {
		messages []draft.Message
		wants    string // joined by "|"
		not      string
	}{
		"counters of two topics":       {each(20, up, "d/1/x", "d/2/x"), "? counts up: from 100 to 119 in 40", "maximum"},
		"a saw":                        {each(20, saw, "d/1/x", "d/2/x"), "maximum: 10}  # from 0 to 5 in 40", "counts up"},
		"two steps up":                 {each(3, up, "d/x"), "? from 100 to 102 in only 3", "counts up"},
		"three steps up":               {each(4, up, "d/x"), "? counts up: from 100 to 103 in 4", "in only"},
		"nine numbers":                 {each(9, saw, "d/x"), "? from 0 to 5 in only 9", "maximum"},
		"ten numbers":                  {each(10, saw, "d/x"), "maximum: 10}  # from 0 to 5 in 10", "only"},
		"numbers and objects":          {each(10, list("1", `{"a": 1}`), "d/x"), "format: json|type: [object, integer]", ""},
		"bytes, CBOR and words":        {each(12, list("\x00\x01\xff", "\xa1\x61k\x01", "on"), "d/x"), "format: binary", ""},
		"CBOR and words":               {each(12, list("\xa1\x61k\x01", "on"), "d/x"), "format: binary", ""},
		"MessagePack and words":        {each(12, list("\x81\xa1k\x01", "on"), "d/x"), "format: binary", ""},
		"a suffix now and then":        {each(12, list("7 %", "8"), "d/x"), "format: text", "suffix"},
		"words, four times each":       {each(8, list(`{"a": "x"}`, `{"a": "y"}`), "d/x"), "enum: [x, \"y\"]|2 values in 8", ""},
		"words, less often":            {each(7, list(`{"a": "x"}`, `{"a": "y"}`), "d/x"), "a: {type: string}", "enum"},
		"eight words":                  {each(32, list(`{"a":"qa"}`, `{"a":"qb"}`, `{"a":"qc"}`, `{"a":"qd"}`, `{"a":"qe"}`, `{"a":"qf"}`, `{"a":"qg"}`, `{"a":"qh"}`), "d/x"), "enum: [qa, qb, qc, qd, qe, qf, qg, qh]", ""},
		"nine words":                   {each(36, list(`{"a":"qa"}`, `{"a":"qb"}`, `{"a":"qc"}`, `{"a":"qd"}`, `{"a":"qe"}`, `{"a":"qf"}`, `{"a":"qg"}`, `{"a":"qh"}`, `{"a":"qi"}`), "d/x"), "a: {type: string}", "enum"},
		"words of 200 letters":         {each(12, list(`{"a": "x`+strings.Repeat("y", 199)+`"}`, `{"a": "x"}`), "d/x"), "a: {type: string}", "enum"},
		"words of 199":                 {each(12, list(`{"a": "x`+strings.Repeat("y", 198)+`"}`, `{"a": "x"}`), "d/x"), "enum:", ""},
		"shapes of 60":                 {each(12, list(`{"a": "1`+strings.Repeat("y", 59)+`"}`, `{"a": "2`+strings.Repeat("y", 59)+`"}`), "d/x"), "enum:", "pattern"},
		"shapes of 59":                 {each(12, list(`{"a": "1`+strings.Repeat("y", 58)+`"}`, `{"a": "2`+strings.Repeat("y", 58)+`"}`), "d/x"), "pattern:", "enum"},
		"optional in two topics":       {append(each(10, list(`{"a": 1, "b": 1}`, `{"a": 1}`), "d/1/x"), each(10, list(`{"a": 1}`, `{"a": 1, "b": 1}`), "d/2/x")...), "required: [a]|10 of 20", ""},
		"times in two topics":          {each(10, list(`{"a": "2026-03-01T12:00:00Z"}`), "d/1/x", "d/2/x"), "format: date-time", ""},
		"uuids in two topics":          {each(10, list(`{"a": "6f1e0c1a-5f0e-4c8e-9c1b-0d3a1f2b3c4d"}`), "d/1/x", "d/2/x"), "format: uuid", ""},
		"just below zero":              {each(12, list("-4.5", "2"), "d/x"), "minimum: -10, maximum: 5", ""},
		"eight":                        {each(12, list("8", "2"), "d/x"), "minimum: 0, maximum: 10}", ""},
		"a little more":                {each(12, list("8.1", "2"), "d/x"), "minimum: 0, maximum: 20}", ""},
		"two other words":              {each(12, list(`{"a": "yes"}`, `{"a": "maybe"}`), "d/x"), "enum:", "two words"},
		"three words":                  {each(12, list(`{"a": "yes"}`, `{"a": "no"}`, `{"a": "maybe"}`), "d/x"), "enum:", "two words"},
		"letters behind digits":        {each(12, list("12-AB", "34-AB"), "d/x"), `pattern: "[0-9]{2}-AB"`, ""},
		"nothing always there":         {each(12, list(`{"a": 1}`, `{"b": 1}`), "d/x"), "properties:", "required"},
		"empty lists":                  {each(12, list(`{"a": []}`), "d/x"), "a: {type: array}", "items"},
		"retained by two":              {append(said4("d/1/x", 4, 0), said4("d/2/x", 4, 0)...), "retain: true  # 8 of 8", ""},
		"retained nine times of ten":   {said4("d/x", 9, 1), "retain: true  # 9 of 10", ""},
		"eight times":                  {said4("d/x", 8, 2), "? retained 8 of 10", "retain:"},
		"one of ten is retained":       {said4("d/x", 1, 9), "retain: false  # 9 of 10", ""},
		"deeper than is looked at":     {each(10, list(nested(14)), "d/x"), "? it goes on deeper than was looked at", ""},
		"just not":                     {each(10, list(nested(12)), "d/x"), "type: integer", "deeper"},
		"names without what is common": {append(each(2, list("1"), "s/b/door"), each(2, list("on"), "s/b/lamp/one")...), "door:|lamp.one:", "b.door"},
		"names of nothing else":        {append(each(2, list("1"), "s/b"), each(2, list("on"), "s/b/lamp")...), "  b:|  b.lamp:", ""},
		"nested":                       {each(10, list(nested(9)), "d/x"), "type: integer", "more fields"},
		"as many fields as are kept":   {each(2, list(fields(200)), "d/x"), "f199:", "more fields than"},
		"one field more":               {each(2, list(fields(201)), "d/x"), "? there are more fields than were looked at", "f99:"},
	} {
		_, text := drafted(c.messages...)
		for want := range strings.SplitSeq(c.wants, "|") {
			if !strings.Contains(text, want) {
				t.Errorf("%s lacks %s:\n%.1500s", name, want, text)
			}
		}
		if c.not != "" && strings.Contains(text, c.not) {
			t.Errorf("%s has %s:\n%.1500s", name, c.not, text)
		}
	}
}

// said4 is a number said so often with retain flag 1, and so often without.
func said4(topic string, stored, plain int) (out []draft.Message) {
	for i := range stored + plain {
		m := said(float64(i), topic, fmt.Sprint(i%3))
		m.Retain = i < stored
		out = append(out, m)
	}
	return out
}

// TestCadences: periods as a person would write them, with the slack that the longest gap asks for; what comes when it
// comes has none.
func TestCadences(t *testing.T) {
	after := func(topic string, gaps ...float64) (out []draft.Message) {
		at := 0.0
		for i := range len(gaps) + 1 {
			out = append(out, said(at, topic, fmt.Sprint(i%7)))
			if i < len(gaps) {
				at += gaps[i]
			}
		}
		return out
	}
	times := func(n int, gap float64, more ...float64) (out []float64) {
		for range n {
			out = append(out, gap)
		}
		return append(out, more...)
	}
	for name, c := range map[string]struct {
		messages []draft.Message
		want     string // "" for no period
	}{
		"10s":                          {after("d/x", times(12, 10)...), "10s ± 5s"},
		"a little less":                {after("d/x", times(12, 9.96)...), "10s ± 5s"},
		"less":                         {after("d/x", times(12, 9.95)...), "10s ± 5s"},
		"even less":                    {after("d/x", times(12, 9.9)...), "9.9s ± 5s"},
		"1m":                           {after("d/x", times(12, 60)...), "1m ± 30s"},
		"a little more than 1m":        {after("d/x", times(12, 62.9)...), "1m ± 35s"},
		"3s more":                      {after("d/x", times(12, 63)...), "1m3s ± 35s"},
		"less than 1m":                 {after("d/x", times(12, 59)...), "59s ± 30s"},
		"ten minutes":                  {after("d/x", times(12, 603)...), "10m ± 5m5s"},
		"half a second":                {after("d/x", times(12, 0.5)...), "500ms ± 1s"},
		"nearly":                       {after("d/x", times(12, 0.504)...), "500ms ± 1s"},
		"not so nearly":                {after("d/x", times(12, 0.506)...), "510ms ± 1s"},
		"20 in a second":               {after("d/x", times(12, 0.05)...), "50ms ± 1s"},
		"more often than that":         {after("d/x", times(12, 0.049)...), ""},
		"40s":                          {after("d/x", times(12, 40)...), "40s ± 20s"},
		"41s":                          {after("d/x", times(12, 41)...), "41s ± 25s"},
		"3s":                           {after("d/x", times(12, 3)...), "3s ± 1.5s"},
		"4s":                           {after("d/x", times(12, 4)...), "4s ± 2s"},
		"4.2s":                         {after("d/x", times(12, 4.2)...), "4.2s ± 3s"},
		"as late as it may be":         {after("d/x", times(12, 10, 16)...), "10s ± 10s"},
		"later":                        {after("d/x", times(12, 10, 16.1)...), ""},
		"three times the period":       {after("d/x", times(12, 0.5, 1.5)...), "500ms ± 2s"},
		"more than that":               {after("d/x", times(12, 0.5, 1.6)...), ""},
		"slack is at most a period":    {after("d/x", times(12, 3, 5.5)...), "3s ± 3s"},
		"but for short ones":           {after("d/x", times(12, 2, 4)...), "2s ± 4s"},
		"five messages":                {after("d/x", times(4, 10)...), "10s ± 5s"},
		"four":                         {after("d/x", times(3, 10)...), ""},
		"five on one, four on another": {append(after("d/1/x", times(4, 10)...), after("d/2/x", times(3, 10)...)...), ""},
		"five on each":                 {append(after("d/1/x", times(4, 10)...), after("d/2/x", times(4, 10)...)...), "10s ± 5s"},
	} {
		_, text := drafted(c.messages...)
		if got := strings.Contains(text, "every:"); got != (c.want != "") || got && !strings.Contains(text, "every: "+c.want+"  #") {
			t.Errorf("%s: want %q\n%s", name, c.want, text)
		}
	}
	unlike := func(topic string, n int, repeat bool) (out []draft.Message) {
		for i := range n {
			text := fmt.Sprint(i)
			if repeat && i > 2 {
				text = "3"
			}
			out = append(out, said(float64(i*i*i*10), topic, text))
		}
		return out
	}
	for name, c := range map[string]struct {
		messages []draft.Message
		only     bool
	}{
		"ten, never the same": {unlike("d/x", 10, false), true}, "nine": {unlike("d/x", 9, false), false}, "ten, some alike": {unlike("d/x", 10, true), false},
		"five on each": {append(unlike("d/1/x", 5, false), unlike("d/2/x", 5, false)...), true},
	} {
		if _, text := drafted(c.messages...); strings.Contains(text, "only: changes") != c.only {
			t.Errorf("%s: want %v\n%s", name, c.only, text)
		}
	}
}

// TestPresences: by the will on the topic, and no other; how it leaves is what else was said most, or not known.
func TestPresences(t *testing.T) {
	for name, c := range map[string]struct {
		will  string
		texts string
		want  string // "" for none
	}{
		"with all three":     {"s/box-1/p", "here bye here lost", "presence: {coming: here, leaving: bye, lost: lost}"},
		"with one more word": {"s/box-1/p", "here standby bye here bye here lost", "presence: {coming: here, leaving: bye, lost: lost}"},
		"not seen leaving":   {"s/box-1/p", "online online", "presence: {coming: online, leaving: offline, lost: lost}"},
		"in capitals":        {"s/box-1/p", "ON ON", "leaving: \"OFF\""},
		"a will elsewhere":   {"s/box-2/p", "here bye here", ""},
		"six words":          {"s/box-1/p", "here b c d e f", "coming: here"},
		"seven words":        {"s/box-1/p", "here b c d e f g", ""},
		"numbers":            {"s/box-1/p", "1 0", ""},
		"1, and 0 as a will": {"s/box-1/p", "1 1 0", `payload: {format: text, values: {"0": "", "1": ""}}`},
		"2, and 0 as a will": {"s/box-1/p", "1 2 0", ""},
	} {
		d, lost := draft.New(), "lost"
		if strings.HasSuffix(name, "0 as a will") {
			lost = "0"
		}
		d.Session(draft.Client{Name: "box-1", ID: "box-1", Version: 4, Will: c.will, WillText: lost})
		for i, text := range strings.Fields(c.texts) {
			m := said(float64(i*60), "s/box-1/p", text)
			m.Sender = "box-1"
			d.Message(m)
		}
		r := d.Write(draft.Options{})
		text := workspace.YAML(r.Contract, 0, r.Notes)
		if strings.Contains(text, "presence:") != (c.want != "") || !strings.Contains(text, c.want) || strings.Contains(text, "by its topics alone") {
			t.Errorf("%s: want %s\n%s", name, c.want, text)
		}
	}
}

// TestPlaces: which levels are parameters, what they are called, and who speaks by the topic alone.
func TestPlaces(t *testing.T) {
	object := func(field string) func(int) string { return constant(`{"` + field + `": 1}`) }
	ranged := func(lo int) func(int) string { return func(i int) string { return fmt.Sprint(lo + i%10) } }
	for name, c := range map[string]struct {
		messages []draft.Message
		wants    string
		not      string
	}{
		"hexadecimal of four":         {each(2, constant("1"), "d/ab1c/t", "d/00ff/t"), "topic: d/{d}/t", ""},
		"of three it is a word":       {each(2, constant("1"), "d/abc/t", "d/0ff/t"), "topic: d/abc/t|topic: d/0ff/t", "{" + "d}"},
		"four words of one range":     {append(each(10, ranged(5), "d/oak/t", "d/elm/t"), each(10, ranged(14), "d/ash/t", "d/fir/t")...), "topic: d/{d}/t", ""},
		"of two ranges":               {append(each(10, ranged(5), "d/oak/t", "d/elm/t"), each(10, ranged(15), "d/ash/t", "d/fir/t")...), "topic: d/oak/t|topic: d/ash/t", ""},
		"four words without a number": {each(2, constant("on"), "d/oak/t", "d/elm/t", "d/ash/t", "d/fir/t"), "topic: d/oak/t", "{" + "d}"},
		"two sets of numbers":         {append(each(2, constant("1"), "d/vat/1/t", "d/vat/2/t"), each(2, object("k"), "d/door/1/s", "d/door/2/s")...), "d/vat/{vat}/t|d/door/{door}/s", ""},
		"the same words elsewhere": {append(each(2, object("a"), "d/tree/oak/x", "d/tree/elm/x", "d/tree/ash/x", "d/tree/fir/x"), each(2, object("b"), "e/at/oak/y", "e/at/elm/y", "e/at/ash/y", "e/at/fir/y")...),
			"d/tree/{tree}/x|e/at/{tree}/y", ""},
		"other words at the same place": {append(each(2, object("a"), "d/vat/1/x", "d/vat/2/x"), each(2, object("b"), "e/vat/7/y", "e/vat/8/y")...), "d/vat/{vat}/x|e/vat/{vat2}/y", ""},
		"twice in one topic":            {each(2, object("a"), "d/vat/1/vat/7", "d/vat/2/vat/7", "d/vat/1/vat/8", "d/vat/2/vat/8"), "d/vat/{vat}/vat/{vat2}", ""},
		"a sender by the topic": {append(each(2, object("a"), "s/pump/1/x", "s/pump/2/x"), each(2, object("b"), "s/valves/1/y", "s/valves/2/y")...),
			"pump: {}  # ? by its topics alone|from: pump  # ? its sender was not seen|from: valve  # ? its sender was not seen", ""},
		"none by the last level": {append(each(2, object("a"), "s/x"), each(2, object("b"), "s/y")...), "topic: s/x", "from:"},
	} {
		_, text := drafted(c.messages...)
		for want := range strings.SplitSeq(c.wants, "|") {
			if !strings.Contains(text, want) {
				t.Errorf("%s lacks %s:\n%s", name, want, text)
			}
		}
		if c.not != "" && strings.Contains(text, c.not) {
			t.Errorf("%s has %s:\n%s", name, c.not, text)
		}
	}
}

// TestTermsOfClients: what all of a party's clients have in common is a term, what some have is told with their number.
func TestTermsOfClients(t *testing.T) {
	yes, no := true, false
	came := func(names string, change func(i int, c *draft.Client)) string {
		d := draft.New()
		for i, name := range strings.Fields(names) {
			c := draft.Client{Name: name, ID: name, Version: 4, KeepAlive: 20 * time.Second, CleanStart: true, Encrypted: &yes}
			change(i, &c)
			d.Session(c)
			for k := range 4 {
				d.Message(draft.Message{At: noon.Add(time.Duration(k) * time.Minute), Topic: "s/" + strings.ReplaceAll(name, "-", "/") + "/x", Payload: []byte("1"), QoS: 1, Sender: name, RetainKnown: true})
			}
		}
		r := d.Write(draft.Options{})
		return workspace.YAML(r.Contract, 0, r.Notes)
	}
	for name, c := range map[string]struct {
		text string
		want string
		not  string
	}{
		"alike":             {came("box-1 box-2", func(int, *draft.Client) {}), `client-id: "box-{box}", version: 3.1.1, keep-alive: 20s, clean-start: true, tls: required`, "of 2 clients"},
		"one client":        {came("box-1", func(int, *draft.Client) {}), `client-id: box-1, version: 3.1.1`, "{" + "n}"},
		"by their names":    {came("box_1 box_2", func(int, *draft.Client) {}), `client-id: "{box}", version`, ""},
		"by another number": {came("box-1 box-2", func(i int, c *draft.Client) { c.ID = fmt.Sprint("unit-", 7+i) }), `client-id: "unit-{n}", version`, ""},
		"other words":       {came("box-1 box-2", func(i int, c *draft.Client) { c.ID = []string{"a-1", "b-2"}[i] }), "version: 3.1.1", "client-id"},
		"one without":       {came("box-1 box-2", func(i int, c *draft.Client) { c.ID = []string{"a-1", "a"}[i] }), "version: 3.1.1", "client-id"},
		"two versions": {came("box-1 box-2 box-3", func(i int, c *draft.Client) {
			c.Version = 4
			if i == 1 {
				c.Version = 5
			}
		}), "version: [3.1.1, \"5\"]", ""},
		"keep alives":   {came("box-1 box-2 box-3", func(i int, c *draft.Client) { c.KeepAlive = []time.Duration{30, 10, 20}[i] * time.Second }), "keep-alive: 10s..30s", ""},
		"kept sessions": {came("box-1 box-2", func(_ int, c *draft.Client) { c.CleanStart = false }), "clean-start: false", ""},
		"some are kept": {came("box-1 box-2 box-3", func(i int, c *draft.Client) { c.CleanStart = i == 0 }), "# ? clean start of 1 of 3 clients", "clean-start"},
		"TLS not known": {came("box-1 box-2", func(_ int, c *draft.Client) { c.Encrypted = nil }), "clean-start: true", "tls"},
		"TLS never":     {came("box-1 box-2", func(_ int, c *draft.Client) { c.Encrypted = &no }), "tls: none", ""},
		"TLS of one":    {came("box-1 box-2", func(i int, c *draft.Client) { c.Encrypted = map[int]*bool{0: &yes, 1: &no}[i] }), "tls: allowed", ""},
		"known of one":  {came("box-1 box-2", func(i int, c *draft.Client) { c.Encrypted = map[int]*bool{0: &yes}[i] }), "tls: required", ""},
	} {
		if !strings.Contains(c.text, c.want) || c.not != "" && strings.Contains(c.text, c.not) {
			t.Errorf("%s: want %s, not %s:\n%s", name, c.want, c.not, c.text)
		}
	}
}
