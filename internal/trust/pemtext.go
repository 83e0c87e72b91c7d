package trust

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"regexp"
	"strings"
)

// The lines that PEM begins and ends with (RFC 7468 §2), and what editors and mail make of
// their five dashes.
var (
	begins = regexp.MustCompile(`[-–—‐‑−]{2,5}\s*BEGIN ([A-Z0-9# ]+?)\s*[-–—‐‑−]{2,}`)
	ends   = regexp.MustCompile(`[-–—‐‑−]{2,}\s*END ([A-Z0-9# ]+?)\s*[-–—‐‑−]{2,}`)
	header = regexp.MustCompile(`(?m)^\s*([A-Za-z-]+): (.*)$`)
)

// pem reads the blocks of a text. What a strict reader would not find is read all the same,
// with a note of what is wrong.
func (r *recogniser) pem(text string) {
	f := r.f
	r.inPEM = true
	starts := begins.FindAllStringSubmatchIndex(text, maxItems+1)
	if strict := countStrict(text); strict < len(starts) &&
		len(ends.FindAllStringIndex(text, maxItems+1)) >= len(starts) {
		r.whyNotStrict(text)
	}
	for i, at := range starts {
		label := text[at[2]:at[3]]
		limit := len(text)
		if i+1 < len(starts) {
			limit = starts[i+1][0]
		}
		rest := text[at[1]:limit]
		line := strings.Count(text[:at[0]], "\n") + 1
		end := ends.FindStringSubmatchIndex(rest)
		if end == nil {
			r.f.fail(
				fmt.Sprintf(
					"the %s that begins on line %d has no -----END line: the file is cut short",
					strings.ToLower(label),
					line,
				),
				"fetch it again, as a whole",
			)
			continue
		}
		if other := rest[end[2]:end[3]]; other != label {
			f.anomaly(
				fmt.Sprintf("line %d begins %q, but the block ends with %q", line, label, other),
				"make both lines agree: strict readers refuse it",
			)
		}
		r.block(label, rest[:end[0]], line)
	}
	if len(f.Items) == 0 && f.Problem == "" {
		f.fail("it holds no block of PEM that could be read", "fetch it again")
	}
}

// countStrict counts the blocks that the standard library finds.
func countStrict(text string) (n int) {
	rest := []byte(text)
	for {
		var b *pem.Block
		if b, rest = pem.Decode(rest); b == nil {
			return n
		}
		n++
	}
}

// whyNotStrict notes what keeps strict readers from a text's blocks.
func (r *recogniser) whyNotStrict(text string) {
	f := r.f
	trimmed := strings.TrimSpace(text)
	switch {
	case strings.Contains(text, `\n`) || strings.Contains(text, `\r`):
		f.anomaly(
			`its line ends are written out as \n, as in JSON, environment files and source code`,
			"turn each \\n into a line end before it is used as a file",
		)
	case strings.ContainsAny(text, "\"'"):
		f.anomaly("its lines stand in quotes, as in source code", "take them out before it is used as a file")
	case strings.ContainsAny(text, "–—‐‑−"):
		f.anomaly(
			"its dashes were turned into typographic ones, as word processors and mail do",
			"write five plain dashes on either side of BEGIN and END",
		)
	case regexp.MustCompile(`-----END [A-Z0-9# ]+-----[ \t]*-----BEGIN`).MatchString(text):
		f.anomaly(
			"a line end is missing between -----END and the -----BEGIN that follows",
			"put each on a line of its own",
		)
	case !strings.Contains(trimmed, "\n"):
		f.anomaly("all of it stands on one line", "put -----BEGIN, the content and -----END on lines of their own")
	case regexp.MustCompile(`(?m)^[ \t>]+-----(BEGIN|END)`).MatchString(text):
		f.anomaly("its lines are indented, or quoted as mail does with >", "remove what stands before each line")
	case regexp.MustCompile(`-----BEGIN [A-Z0-9# ]+-----[ \t]*[A-Za-z0-9+/]`).MatchString(text):
		f.anomaly("the content begins on the -----BEGIN line", "put -----BEGIN and -----END on lines of their own")
	default:
		f.anomaly(
			"strict readers do not find all of its blocks",
			"compare its -----BEGIN and -----END lines with those of a sound file",
		)
	}
}

// block reads the body between two lines of PEM.
func (r *recogniser) block(label, body string, line int) {
	f := r.f
	headers := map[string]string{}
	for _, h := range header.FindAllStringSubmatch(body, 10) {
		headers[h[1]] = h[2]
		body = strings.Replace(body, h[0], "", 1)
	}
	der, err := unbase64(body)
	if err != nil {
		f.fail(
			fmt.Sprintf("the %s that begins on line %d is damaged: %v", strings.ToLower(label), line, err),
			"fetch it again: as a file, not as text copied from a window",
		)
		return
	}
	if len(der) == 0 {
		f.fail(fmt.Sprintf("the %s on line %d is empty", strings.ToLower(label), line), "fetch it again")
		return
	}
	r.labelled(label, headers, der, line)
}

// unbase64 decodes base64 between which there may be spaces, quotes and other marks of
// source code and mail.
func unbase64(s string) ([]byte, error) {
	var b strings.Builder
	s = strings.NewReplacer(`\r`, "", `\n`, "\n", `\`, "").Replace(s)
	for l := range strings.Lines(s) {
		l = strings.TrimSpace(l)
		if first := strings.IndexAny(l, `"'`); first >= 0 {
			if last := strings.LastIndexAny(l, `"'`); last > first {
				l = l[first+1 : last]
			} else {
				l = strings.Trim(l, `"'`)
			}
		}
		l = strings.TrimLeft(l, "> \t")
		b.WriteString(strings.Join(strings.Fields(l), ""))
	}
	text := strings.TrimRight(b.String(), ",;")
	for i, c := range text {
		if !strings.ContainsRune("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/=", c) {
			return nil, fmt.Errorf("%q is no character of base64 (the %dth of its content)", c, i+1)
		}
	}
	bare := strings.TrimRight(text, "=")
	if len(bare)%4 == 1 {
		return nil, fmt.Errorf("%d characters of base64 cannot be: some are missing", len(bare))
	}
	if strings.Contains(bare, "=") {
		return nil, fmt.Errorf("an = stands in its middle: two contents run into each other")
	}
	return base64.RawStdEncoding.DecodeString(bare)
}

var (
	cArray  = regexp.MustCompile(`0[xX][0-9A-Fa-f]{1,2}\s*,`)
	hexByte = regexp.MustCompile(`0[xX]([0-9A-Fa-f]{1,2})\b`)
)

// wrapped looks for credentials inside another encoding: base64, hexadecimal, the bytes of a C
// array. It tells whether it found any.
func (r *recogniser) wrapped(text string, depth int) bool {
	f := r.f
	try := func(data []byte, what, remedy string) bool {
		trial := recogniser{f: &File{Name: f.Name}, passphrases: r.passphrases, work: r.work}
		trial.content(data, depth+1)
		if len(trial.f.Items) == 0 {
			return false
		}
		f.anomaly(what, remedy)
		for _, m := range trial.f.Anomalies {
			f.anomaly(m.What, m.Remedy)
		}
		for _, i := range trial.f.Items {
			f.add(i)
		}
		f.Problem, f.Remedy = trial.f.Problem, trial.f.Remedy
		return true
	}
	if cArray.MatchString(text) {
		var data []byte
		for _, m := range hexByte.FindAllStringSubmatch(text, maxFile) {
			var b byte
			fmt.Sscanf(m[1], "%x", &b)
			data = append(data, b)
		}
		if try(
			data,
			"it is source code: an array of bytes",
			"'hodstone trust --export-ca pem' writes a certificate as a file",
		) {
			return true
		}
	}
	compact := strings.Map(func(c rune) rune {
		if strings.ContainsRune(" \t\n:", c) {
			return -1
		}
		return c
	}, text)
	if data, err := hex.DecodeString(compact); err == nil &&
		try(data, "it is written in hexadecimal", "TLS libraries read PEM or DER: convert it") {
		return true
	}
	data, err := unbase64(text)
	if err != nil || len(data) == 0 {
		return false
	}
	if data[0] == 0x30 {
		return try(
			data,
			"it is base64 without the -----BEGIN and -----END lines",
			"add both lines with what it is, such as -----BEGIN CERTIFICATE-----",
		)
	}
	return try(
		data,
		"it is wrapped in base64 once more, as cluster secrets are",
		"decode it once before it is used as a file",
	)
}
