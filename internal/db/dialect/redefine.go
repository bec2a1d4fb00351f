package dialect

import (
	"fmt"
	"slices"
	"strings"
)

// A Redefinition is what of the definition of a table is to be otherwise.
type Redefinition struct {
	Was, Is Table
	// Columns are those that change, in the order of the table.
	Columns []Redefined
	// Key tells that the primary key does, Comment that the table's does.
	Key, Comment bool
	// Unique, Indexes and References are new.
	Unique, Indexes [][]string
	References      []Reference
}

// A Redefined is what of a column is to be otherwise.
type Redefined struct {
	Was, Is                          *Column
	Type, Required, Default, Comment bool
}

// Redefine finds out what changes one definition into another. The columns are the same;
// only their order does not matter.
func (d *Dialect) Redefine(was, is Table) (*Redefinition, error) {
	c := &Redefinition{Was: was, Is: is, Key: !slices.Equal(was.Key, is.Key), Comment: was.Comment != is.Comment}
	for i := range is.Columns {
		to := &is.Columns[i]
		at := slices.IndexFunc(was.Columns, func(x Column) bool { return x.Name == to.Name })
		if at < 0 {
			return nil, fmt.Errorf("the table has no column %s; columns are not added or renamed", to.Name)
		}
		from := &was.Columns[at]
		if from.Identity != to.Identity {
			return nil, fmt.Errorf("identity cannot be changed of column %s, which is there", to.Name)
		}
		x := Redefined{Was: from, Is: to, Comment: from.Comment != to.Comment,
			Type:     from.Type != to.Type || d.typeIn(&was, from) != d.typeIn(&is, to),
			Required: was.TakesNoNulls(from) != is.TakesNoNulls(to),
			Default: (from.Default == nil) != (to.Default == nil) || from.Default != nil &&
				*from.Default != *to.Default}
		if x.Type || x.Required || x.Default || x.Comment {
			c.Columns = append(c.Columns, x)
		}
	}
	for _, x := range was.Columns {
		if !slices.ContainsFunc(is.Columns, func(y Column) bool { return y.Name == x.Name }) {
			return nil, fmt.Errorf("the table has a column %s; columns are not taken away or renamed", x.Name)
		}
	}
	var gone [2]bool
	c.Unique, gone[0] = added(was.Unique, is.Unique)
	c.Indexes, gone[1] = added(was.Indexes, is.Indexes)
	for _, r := range is.References {
		if !slices.ContainsFunc(was.References, r.equal) {
			c.References = append(c.References, r)
		}
	}
	lost := slices.ContainsFunc(was.References, func(r Reference) bool {
		return !slices.ContainsFunc(is.References, r.equal)
	})
	if gone[0] || gone[1] || lost {
		return nil, fmt.Errorf("unique, index and references are only added; drop one by hand")
	}
	if was.Strict != is.Strict {
		return nil, fmt.Errorf("strict_types cannot be changed of a table that is there")
	}
	return c, nil
}

func added(was, is [][]string) (out [][]string, gone bool) {
	in := func(list [][]string, x []string) bool {
		return slices.ContainsFunc(list, func(y []string) bool { return slices.Equal(x, y) })
	}
	for _, x := range is {
		if !in(was, x) {
			out = append(out, x)
		}
	}
	return out, slices.ContainsFunc(was, func(x []string) bool { return !in(is, x) })
}

func (r Reference) equal(x Reference) bool {
	return slices.Equal(r.Columns, x.Columns) && r.Schema == x.Schema && r.Table == x.Table && slices.Equal(r.To, x.To)
}

// None reports that nothing changes.
func (c *Redefinition) None() bool {
	return len(c.Columns)+len(c.Unique)+len(c.Indexes)+len(c.References) == 0 && !c.Key && !c.Comment
}

// Words says what changes, a line each.
func (c *Redefinition) Words() (out []string) {
	list := func(x []string) string { return strings.Join(x, ", ") }
	null := map[bool]string{true: "required", false: "may be null"}
	for _, x := range c.Columns {
		say := func(changed bool, what string, from, to any) {
			if changed {
				out = append(out, fmt.Sprintf("%s: %s%v → %v", x.Is.Name, what, from, to))
			}
		}
		say(x.Type && x.Was.Type != x.Is.Type, "", x.Was.Type, x.Is.Type)
		say(x.Required, "", null[!c.Required(x)], null[c.Required(x)])
		say(x.Default, "default ", plainOr(x.Was.Default), plainOr(x.Is.Default))
		if x.Comment {
			out = append(out, x.Is.Name+": another description")
		}
	}
	if c.Key {
		from, to := list(c.Was.Key), list(c.Is.Key)
		out = append(out, fmt.Sprintf("key: %s → %s", orNone(from), orNone(to)))
	}
	for _, u := range c.Unique {
		out = append(out, "unique: "+list(u))
	}
	for _, x := range c.Indexes {
		out = append(out, "index: "+list(x))
	}
	for _, r := range c.References {
		out = append(out, fmt.Sprintf("references: %s in %s", list(r.Columns), r.Table))
	}
	if c.Comment {
		out = append(out, "another description of the table")
	}
	return out
}

// Required reports whether a column takes no nulls after the change.
func (c *Redefinition) Required(x Redefined) bool { return c.Is.TakesNoNulls(x.Is) }

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func plainOr(s *string) string {
	if s == nil {
		return "none"
	}
	return fmt.Sprintf("%q", *s)
}

// Modified is the definition of a column as it is to be, behind its name.
func (c *Redefinition) Modified(d *Dialect, x Redefined) string {
	return d.typeIn(&c.Is, x.Is) + d.behind(&c.Is, x.Is)
}

// Constraints are those that are new, each as it stands in a definition: the key, if it
// changes, first.
func (c *Redefinition) Constraints(d *Dialect) []string {
	t := Table{Unique: c.Unique, References: c.References}
	if d.IndexWithin {
		t.Indexes = c.Indexes
	}
	if c.Key {
		t.Key = c.Is.Key
	}
	return d.constraints(&t)
}

// NewIndexes are the statements that make the new indexes, where they do not stand in the
// definition.
func (c *Redefinition) NewIndexes(d *Dialect) []string {
	return d.indexes(&Table{Schema: c.Is.Schema, Name: c.Is.Name, Indexes: c.Indexes})
}

// Comments are the statements that say what the new comments are.
func (c *Redefinition) Comments(d *Dialect) (out []string) {
	if c.Comment {
		out = append(out, d.commentOn(&c.Is))
	}
	for _, x := range c.Columns {
		if x.Comment {
			out = append(out, d.commentOnColumn(&c.Is, x.Is))
		}
	}
	return out
}

// Fill is the statement that gives a column a value where it has none; of one row, if
// there is a key.
func (d *Dialect) Fill(t *Table, c Column, plain string, key []Column, at []string) string {
	s := fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s IS NULL", d.Qualified(t.Schema, t.Name), d.Quote(c.Name),
		d.WriteLiteral(c, plain), d.Quote(c.Name))
	for i, k := range key {
		s += fmt.Sprintf(" AND %s = %s", d.Quote(k.Name), d.WriteLiteral(k, at[i]))
	}
	return s
}
