package db

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"slices"

	"ambertray/internal/db/dialect"
)

// Where a definition is committed at once, a table is made beside the one that is wanted, and
// renamed when it is verified.

// SidePrefix begins the names of such tables.
const SidePrefix = "ambertray_"

// IsSide is the form of their names, and of those of tables that one has replaced.
var IsSide = regexp.MustCompile(`^` + SidePrefix + `[0-9a-f]{10}_[0-9a-f]{8}(_old|` + ChangesEnd + `)?$`)

// ChangesEnd ends the name of a table of a merge that has what changes, where that is an
// ordinary one; the stage beside it has the name without.
const ChangesEnd = "_changes"

// SideNames is how the names begin of all side tables of one table.
func SideNames(schema, table string) string {
	sum := sha256.Sum256([]byte(schema + "\x00" + table))
	return SidePrefix + hex.EncodeToString(sum[:5]) + "_"
}

// NewSide is a name for one more.
func NewSide(schema, table string) string {
	var r [4]byte
	rand.Read(r[:])
	return SideNames(schema, table) + hex.EncodeToString(r[:])
}

// Sides are the names that tables have for now which wait for others.
type Sides map[Name]string

// Redirected are references to tables, of which those that wait have another name. A key follows
// the table that it refers to when that is renamed.
func (s Sides) Redirected(references []dialect.Reference) []dialect.Reference {
	out := slices.Clone(references)
	for i, r := range out {
		if side, is := s[Name{r.Schema, r.Table}]; is {
			out[i].Table = side
		}
	}
	return out
}
