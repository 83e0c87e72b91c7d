package report

import (
	"encoding/csv"
	"io"

	"hodstone/internal/proof"
)

// Tables writes what checks found out pair by pair as CSV (RFC 4180): a line for each cell, told in full.
func Tables(w io.Writer, p *proof.Proof) error {
	out := csv.NewWriter(w)
	out.Write([]string{"check", "mqtt", "table", "row", "column", "verdict", "found"})
	for i := range p.Results {
		r := &p.Results[i]
		for k := range r.Tables {
			t := &r.Tables[k]
			for y, row := range t.Cells {
				for x, c := range row {
					out.Write(
						[]string{
							r.Check.Name,
							r.Version.String(),
							t.Title,
							spelt(t.Rows[y]),
							spelt(t.Columns[x]),
							string(c.Verdict),
							spelt(c.InWords()),
						},
					)
				}
			}
		}
	}
	out.Flush()
	return out.Error()
}

// spelt keeps a spreadsheet from taking a text for a formula.
func spelt(s string) string {
	if s != "" && (s[0] == '=' || s[0] == '+' || s[0] == '-' || s[0] == '@') {
		return "'" + s
	}
	return s
}
