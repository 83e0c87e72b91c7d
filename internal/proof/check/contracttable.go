package check

import (
	"hodstone/internal/proof"
)

// table draws what all logins may do: a row for each clause, and one more where logins have parameters of their own.
func (m *matrix) table(a *proof.Agreement) *proof.Table {
	type place struct{ row, column string }
	cells := map[place]*right{}
	var rows, columns []string
	for i := range a.Speakers {
		columns = append(columns, a.Speakers[i].Login.Name)
	}
	others := map[string]bool{}
	for _, r := range m.rights {
		name := r.clause.Name
		if r.others {
			name += othersRow
			others[name] = true
		}
		cells[place{name, r.speaker.Login.Name}] = r
	}
	for _, cl := range a.Contract.Clauses {
		rows = append(rows, cl.Name)
		if others[cl.Name+othersRow] {
			rows = append(rows, cl.Name+othersRow)
		}
	}
	t := proof.NewTable(
		"logins and clauses",
		"p publishes, r reads, · neither; ! although it should not, ✗ should and may not",
		"clause",
		"login",
		rows,
		columns,
	)
	for y, row := range rows {
		for x, column := range columns {
			if r := cells[place{row, column}]; r != nil {
				t.Cells[y][x] = r.cell(m.out[column], a.Unrestricted)
			}
		}
	}
	return t
}

// othersRow marks the row of topics with another's parameters.
const othersRow = " of another"

// cell tells both rights of a login on a clause; unrestricted is why it may do more than it should, "" for no reason.
func (r *right) cell(out, unrestricted string) proof.Cell {
	if out != "" {
		return proof.Cell{Text: "out", Words: "not let in: " + out}
	}
	excuse := func(covered bool) string {
		switch {
		case covered:
			return "another clause that it needs covers it"
		case unrestricted != "":
			return "accepted"
		}
		return ""
	}
	write, writeWords, writeIs := facet("p", r.publishes, r.speaker.Here, excuse(r.writesBy), r.mayPublish)
	read, readWords, readIs := facet("r", r.reads, r.speaker.Here, excuse(r.readsBy), r.mayRead)
	c := proof.Cell{Text: write + read, Words: "publish: " + writeWords + "; read: " + readWords, Verdict: proof.Kept}
	for _, v := range []proof.Verdict{proof.Undecided, proof.Broken} {
		if writeIs == v || readIs == v {
			c.Verdict = v
		}
	}
	return c
}

// facet tells one right: its sign, its words, and what that is worth.
func facet(sign string, should, here bool, excuse string, is answer) (text, words string, v proof.Verdict) {
	switch {
	case is == unknown:
		return "?", "not known", proof.Undecided
	case is == may && should:
		return sign, "may and should", proof.Kept
	case is == mayNot && !should:
		return "·", "may not and should not", proof.Kept
	case is == may && excuse != "":
		return sign + "!", "may but should not, " + excuse, proof.Kept
	case is == may:
		return sign + "!", "may but should not", proof.Broken
	case !here:
		return "·", "may not here, and comes by another listener", proof.Kept
	}
	return sign + "✗", "may not but should", proof.Broken
}
