package source

// Names are the columns that a plan takes, by which the row of column names is found,
// wherever it stands.
type Names struct {
	// Columns have to be there: each by one of its names.
	Columns [][]string
	// Others may be there.
	Others []string
}

// NamesOf are the names of a header as it stands.
func NamesOf(header []string) (n Names) {
	for _, h := range header {
		if h != "" && h != RowName {
			n.Columns = append(n.Columns, []string{h})
		}
	}
	return n
}

// named is the index of the row that has most of the names, and at least half of them; of
// several rows, the first. -1: there is none. Names are compared as [Forgive] says.
func (h *head) named(names Names) int {
	if len(names.Columns) == 0 {
		return -1
	}
	best, most := -1, 0
	for i, r := range h.rows {
		fields := r.fields
		switch {
		case r.comment:
			fields = uncommented(r.raw, h.Layout.Form.Comment, h.Layout.Form)
		case !r.filled():
			continue
		}
		columns, others := names.in(fields)
		if columns == len(names.Columns) && others == len(names.Others) {
			return i
		}
		// A name that may be there counts for less than any that has to be.
		if score := columns*(len(names.Others)+1) + others; 2*columns >= len(names.Columns) && score > most {
			best, most = i, score
		}
	}
	return best
}

// in counts the names that are among fields, each field once.
func (n *Names) in(fields []string) (columns, others int) {
	there := make(map[string]int, len(fields))
	for _, f := range fields {
		there[Forgive(trimName(f))]++
	}
	take := func(name string) bool {
		key := Forgive(name)
		has := key != "" && there[key] > 0
		if has {
			there[key]--
		}
		return has
	}
	for _, list := range n.Columns {
		for _, name := range list {
			if take(name) {
				columns++
				break
			}
		}
	}
	for _, name := range n.Others {
		if take(name) {
			others++
		}
	}
	return columns, others
}
