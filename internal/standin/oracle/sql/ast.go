// Package sql reads the part of Oracle's SQL that the stand-in for Oracle executes (Oracle
// Database, SQL Language Reference). What it does not know it refuses.
package sql

// A Statement is one that a client sends.
type Statement any

// A Name is an object's, as the catalog has it: in upper case unless it was quoted.
type Name struct{ Schema, Object string }

// A TypeName is a type as it is written.
type TypeName struct {
	Name string // in upper case
	Args []int
	Unit string // CHAR or BYTE behind a length; empty: neither
	Zone string // TZ or LTZ of a timestamp
}

// The statements.
type (
	// Insert is INSERT, of values or of a query.
	Insert struct {
		Table   Name
		Columns []string
		Values  []Expr
		From    *Select
	}
	// A Set is one column's new value.
	Set struct {
		Column string
		Value  Expr
	}
	// Update is UPDATE.
	Update struct {
		Table Name
		As    string
		Sets  []Set
		Where Expr
	}
	// Delete is DELETE.
	Delete struct {
		Table Name
		As    string
		Where Expr
	}
	// Merge is MERGE.
	Merge struct {
		Table   Name
		As      string
		Using   Source
		On      Expr
		Sets    []Set
		Where   Expr // of the update
		Columns []string
		Values  []Expr // of the insert; nil: none
	}
	// CreateTable is CREATE TABLE.
	CreateTable struct {
		Table       Name
		Temporary   bool
		Preserve    bool // its rows outlive a commit
		Columns     []ColumnDef
		Constraints []Constraint
		As          *Select
	}
	// AlterTable is ALTER TABLE with one thing to do.
	AlterTable struct {
		Table        Name
		Rename       string // to
		RenameColumn [2]string
		Add          []ColumnDef
		Modify       []ColumnDef
		Constrain    *Constraint
		Drop         string // a column
		Without      string // a constraint to drop
		Switch       string // a constraint that is turned on or off
		On           bool
		Writes       *bool // whether rows may be changed
	}
	// CreateIndex is CREATE INDEX.
	CreateIndex struct {
		Index, Table Name
		Unique       bool
		Columns      []string
	}
	// RenameIndex is ALTER INDEX … RENAME TO.
	RenameIndex struct {
		Index Name
		To    string
	}
	// CreateView is CREATE VIEW.
	CreateView struct {
		View    Name
		Columns []string
		Select  *Select
		Text    string
		Replace bool
	}
	// CreateTrigger is CREATE TRIGGER, of which only what the catalog says is kept, and what it
	// raises.
	CreateTrigger struct {
		Trigger, Table Name
		Before         bool
		Instead        bool
		Events         []string
		When           Expr // for which rows it raises
		Raises         int  // an error of this number; 0: it does nothing
		Message        string
	}
	// CreateSequence is CREATE SEQUENCE.
	CreateSequence struct {
		Sequence Name
		Start    int64
	}
	// CreateUser makes a user, DropUser takes one away, and Grant gives it rights.
	CreateUser struct{ User, Password string }
	// DropUser is DROP USER … CASCADE.
	DropUser struct{ User string }
	// Grant is GRANT of rights, on an object or of the system.
	Grant struct {
		Rights []string
		On     *Name
		To     string
	}
	// Drop is DROP of an object of a kind.
	Drop struct {
		Kind    string
		Name    Name
		Cascade bool
	}
	// Comment is COMMENT ON a table, or on a column of it.
	Comment struct {
		Table  Name
		Column string
		Text   string
	}
	// Truncate is TRUNCATE TABLE.
	Truncate struct{ Table Name }
	// Commit, Rollback and Savepoint are those.
	Commit struct{}
	// Rollback goes back to a savepoint, or of all.
	Rollback struct{ To string }
	// Savepoint makes one.
	Savepoint struct{ Name string }
	// LockTable is LOCK TABLE; Wait is in seconds, below 0 without end.
	LockTable struct {
		Table Name
		Mode  string
		Wait  int
	}
	// AlterSession sets parameters.
	AlterSession struct{ Set [][2]string }
	// SetTransaction is SET TRANSACTION.
	SetTransaction struct{ ReadOnly, Serializable bool }
	// Block is a block of PL/SQL: what it does, and what it does where that fails.
	Block struct{ Body, Handler []Statement }
	// Immediate is EXECUTE IMMEDIATE of a text.
	Immediate struct{ Text string }
	// Raise raises again what was caught, but an error of the number Unless.
	Raise struct{ Unless int }
	// CallProc is a procedure that a block of PL/SQL calls.
	CallProc struct {
		Name string
		Args []Expr
	}
)

// A ColumnDef is a column's definition.
type ColumnDef struct {
	Name     string
	Type     TypeName
	HasType  bool
	Null     *bool
	Default  Expr
	Text     string // of the default, or of what computes it
	Identity string // ALWAYS or BY DEFAULT
	OnNull   bool   // BY DEFAULT ON NULL
	Computed Expr
	More     []Constraint
}

// A Constraint is one of a table.
type Constraint struct {
	Name     string
	Kind     string // P, U, R or C, as the catalog has it
	Columns  []string
	Check    Expr
	Text     string
	To       Name
	Keys     []string
	OnDelete string
	Deferred bool // DEFERRABLE
	Off      bool // DISABLE
}

// A Select is a query.
type Select struct {
	Distinct  bool
	Items     []Item
	From      []Source
	Where     Expr
	Group     []Expr
	Having    Expr
	More      []Union
	Order     []Order
	Fetch     Expr
	ForUpdate bool
	Wait      int // in seconds, below 0 without end
}

// A Union is a further query: Kind is UNION, UNION ALL, MINUS or INTERSECT.
type Union struct {
	Kind string
	*Select
}

// An Item is one of what a query yields; Text is how it is written.
type Item struct {
	Expr     Expr
	As, Text string
}

// An Order is one that rows are put in.
type Order struct {
	Expr       Expr
	Desc       bool
	NullsFirst bool
}

// A Source is where rows come from.
type Source any

type (
	// A Table is a table or view by its name.
	Table struct {
		Name Name
		As   string
	}
	// A Derived is a query between brackets.
	Derived struct {
		Select *Select
		As     string
	}
	// A Join is of two sources; Kind is INNER, LEFT, RIGHT or CROSS.
	Join struct {
		Kind string
		L, R Source
		On   Expr
	}
)

// An Expr is an expression.
type Expr any

type (
	// A Lit is a literal: Kind is number, text, null, date, timestamp or interval.
	Lit struct{ Kind, Text string }
	// A Col is a column, with what stands before it.
	Col struct {
		Of   Name
		Name string
	}
	// A Bind is a variable by its place, from 0.
	Bind struct{ N int }
	// A Star is all columns, of one source if that is named.
	Star struct{ Of string }
	// A Unary is - or NOT before an expression.
	Unary struct {
		Op string
		X  Expr
	}
	// A Binary is two with an operator between.
	Binary struct {
		Op   string
		L, R Expr
	}
	// A Func is a call of a function, in upper case.
	Func struct {
		Name     string
		Args     []Expr
		Star     bool
		Distinct bool
		Over     *Window
		Within   []Order // WITHIN GROUP
	}
	// A Window is what stands behind OVER.
	Window struct {
		Part  []Expr
		Order []Order
	}
	// A Cast is CAST.
	Cast struct {
		X    Expr
		Type TypeName
	}
	// A Case is CASE.
	Case struct {
		X     Expr
		When  []Expr
		Then  []Expr
		Other Expr
	}
	// An In is IN.
	In struct {
		X    Expr
		List []Expr
		Sub  *Select
		Not  bool
	}
	// A Between is BETWEEN.
	Between struct {
		X, Lo, Hi Expr
		Not       bool
	}
	// A Like is LIKE.
	Like struct {
		X, Pattern, Escape Expr
		Not                bool
	}
	// An IsNull is IS NULL.
	IsNull struct {
		X   Expr
		Not bool
	}
	// An Exists is EXISTS.
	Exists struct{ Sub *Select }
	// A Sub is a query as a value.
	Sub struct{ Select *Select }
	// A Tuple is several expressions between brackets.
	Tuple struct{ List []Expr }
)
