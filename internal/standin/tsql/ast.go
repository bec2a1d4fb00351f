package tsql

// A Statement is one of a batch.
type Statement interface{ Line() int }

// At is the line that a statement begins in.
type At int

// Line implements [Statement].
func (a At) Line() int { return int(a) }

// A Name has up to three parts: database, schema, object.
type Name struct{ Database, Schema, Object string }

// A TypeName is a type as it is written.
type TypeName struct {
	Name string // in lower case
	Args []int  // length, or precision and scale; -1: max
}

// The statements.
type (
	// Set is SET of an option of the session.
	Set struct {
		At
		Option, Value string // in upper case
		Name          *Name  // of SET IDENTITY_INSERT
	}
	// Declare makes variables.
	Declare struct {
		At
		Names  []string
		Types  []TypeName
		Values []Expr // nil: none
	}
	// Assign is SET @name = expression.
	Assign struct {
		At
		Var   string
		Value Expr
	}
	// Query is a SELECT.
	Query struct {
		At
		*Select
	}
	// Insert is INSERT.
	Insert struct {
		At
		Table   Name
		Columns []string
		From    *Select // VALUES, too
		Default bool
		Exec    Statement
	}
	// Update is UPDATE, and Delete DELETE: of From's first table of the name Target.
	Update struct {
		At
		Target  Name
		Top     Expr
		Columns []string
		Values  []Expr
		From    Source
		Where   Expr
	}
	// Delete is DELETE.
	Delete struct {
		At
		Target Name
		Top    Expr
		From   Source
		Where  Expr
	}
	// Truncate is TRUNCATE TABLE.
	Truncate struct {
		At
		Table Name
	}
	// CreateTable is CREATE TABLE.
	CreateTable struct {
		At
		Table       Name
		Columns     []ColumnDef
		Constraints []Constraint
	}
	// AlterTable is ALTER TABLE with one thing to do.
	AlterTable struct {
		At
		Table   Name
		Add     *ColumnDef
		Alter   *ColumnDef
		Adds    []Constraint
		Trust   bool   // WITH CHECK
		Drop    string // a column
		Without string // a constraint to drop
		Enable  *bool  // CHECK or NOCHECK CONSTRAINT
		Which   string // the constraint; empty: all
	}
	// CreateIndex is CREATE INDEX.
	CreateIndex struct {
		At
		Name      string
		Table     Name
		Unique    bool
		Clustered bool
		Columns   []string
	}
	// CreateView is CREATE VIEW.
	CreateView struct {
		At
		View    Name
		Columns []string
		Select  *Select
		Text    string
	}
	// CreateTrigger is CREATE TRIGGER.
	CreateTrigger struct {
		At
		Trigger, Table Name
		Instead        bool
		Events         []string
		Body           []Statement
		Text           string
	}
	// CreateSequence is CREATE SEQUENCE.
	CreateSequence struct {
		At
		Sequence         Name
		Type             TypeName
		Start, Increment int64
	}
	// AlterSequence is ALTER SEQUENCE … RESTART WITH.
	AlterSequence struct {
		At
		Sequence Name
		Restart  int64
	}
	// CreateSchema and CreateDatabase make those.
	CreateSchema struct {
		At
		Schema string
	}
	// CreateDatabase is CREATE DATABASE.
	CreateDatabase struct {
		At
		Database, Collation string
	}
	// Drop is DROP of an object of a kind.
	Drop struct {
		At
		Kind     string // TABLE, VIEW, …
		IfExists bool
		Names    []Name
		On       Name // of an index
	}
	// Use changes the database.
	Use struct {
		At
		Database string
	}
	// If, While and Block are those.
	If struct {
		At
		Cond Expr
		Then Statement
		Else Statement
	}
	// While is WHILE.
	While struct {
		At
		Cond Expr
		Body Statement
	}
	// Block is BEGIN … END.
	Block struct {
		At
		Body []Statement
	}
	// Try is TRY and CATCH.
	Try struct {
		At
		Body, Catch []Statement
	}
	// Throw is THROW; without a number it raises again what was caught.
	Throw struct {
		At
		Number, Message, State Expr
	}
	// Raise is RAISERROR.
	Raise struct {
		At
		Message, Severity, State Expr
		Args                     []Expr
	}
	// Print is PRINT.
	Print struct {
		At
		Value Expr
	}
	// Return is RETURN.
	Return struct {
		At
		Value Expr
	}
	// Tran begins, commits, saves or rolls back a transaction.
	Tran struct {
		At
		Verb, Name string
	}
	// Exec runs a procedure, or a text.
	Exec struct {
		At
		Into string // the variable that gets the status
		Proc Name
		Text Expr
		Args []Arg
	}
	// CheckIdent is DBCC CHECKIDENT.
	CheckIdent struct {
		At
		Table  Name
		Reseed bool
		Value  Expr // nil: what the table has
	}
	// InsertBulk says which rows come next.
	InsertBulk struct {
		At
		Table   Name
		Columns []ColumnDef
		Options map[string]bool
	}
	// Wait is WAITFOR DELAY.
	Wait struct {
		At
		Delay string
	}
)

// An Arg is an argument of a procedure.
type Arg struct {
	Name   string // with @; empty: by place
	Value  Expr   // nil: the default
	Output bool
}

// A ColumnDef is a column's definition.
type ColumnDef struct {
	Name      string
	Type      TypeName
	Collation string
	Null      *bool
	Default   Expr
	DefName   string
	Computed  Expr
	Persisted bool
	Identity  bool
	Sparse    bool
	RowGUID   bool
	Period    string // START or END, of a temporal table
	Seed      int64
	Step      int64
	More      []Constraint
	Text      string // of the default or the computed column
}

// A Constraint is one of a table.
type Constraint struct {
	Name    string
	Kind    string // PRIMARY KEY, UNIQUE, FOREIGN KEY, CHECK, DEFAULT
	Columns []string
	Check   Expr
	Text    string
	To      Name
	Keys    []string
	Delete  string // rules, as NO ACTION, CASCADE, SET NULL, SET DEFAULT
	Update  string
	Ignore  bool // IGNORE_DUP_KEY
}

// A Select is a query.
type Select struct {
	Distinct bool
	Top      Expr
	Items    []Item
	Into     *Name
	From     Source
	Where    Expr
	Group    []Expr
	Having   Expr
	Rows     [][]Expr // of VALUES
	More     []Union
	Order    []Order
	Offset   Expr
	Fetch    Expr
}

// A Union is a further query whose rows are added.
type Union struct {
	All bool
	*Select
}

// An Item is one of what a query yields; Var is the variable that it goes into.
type Item struct {
	Expr Expr
	As   string
	Var  string
}

// An Order is one that rows are put in.
type Order struct {
	Expr Expr
	Desc bool
}

// A Source is where rows come from.
type Source interface{ source() }

type (
	// A Table is a table or view by its name, or a function that yields rows.
	Table struct {
		Name  Name
		As    string
		Hints []string // in upper case
		Args  []Expr   // of a function; nil: it is none
	}
	// A Derived is a query between brackets.
	Derived struct {
		Select  *Select
		As      string
		Columns []string
	}
	// A Join is of two sources; Kind is INNER, LEFT, RIGHT, FULL, CROSS, CROSS APPLY or OUTER APPLY.
	Join struct {
		Kind string
		L, R Source
		On   Expr
	}
)

func (*Table) source()   {}
func (*Derived) source() {}
func (*Join) source()    {}

// An Expr is an expression.
type Expr interface{ expr() }

type (
	// A Lit is a literal: Kind is int, decimal, float, text, wide, bytes or null.
	Lit struct{ Kind, Text string }
	// A Col is a column, with what stands before it.
	Col struct{ Parts []string }
	// A Var is a variable.
	Var struct{ Name string }
	// A Star is all columns, of a table if it is named.
	Star struct{ Table string }
	// A Unary is - or ~ or NOT before an expression.
	Unary struct {
		Op string
		X  Expr
	}
	// A Binary is two with an operator between.
	Binary struct {
		Op   string
		L, R Expr
	}
	// A Call is of a function, in upper case.
	Call struct {
		Name     string
		Args     []Expr
		Star     bool
		Distinct bool
		Over     bool
		Part     []Expr
		Order    []Order
	}
	// A Cast is CAST, CONVERT and their forgiving kin.
	Cast struct {
		X     Expr
		Type  TypeName
		Style Expr
		Try   bool
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
	// A Collate is COLLATE.
	Collate struct {
		X    Expr
		Name string
	}
	// A Next is NEXT VALUE FOR.
	Next struct{ Sequence Name }
)

func (*Lit) expr()     {}
func (*Col) expr()     {}
func (*Var) expr()     {}
func (*Star) expr()    {}
func (*Unary) expr()   {}
func (*Binary) expr()  {}
func (*Call) expr()    {}
func (*Cast) expr()    {}
func (*Case) expr()    {}
func (*In) expr()      {}
func (*Between) expr() {}
func (*Like) expr()    {}
func (*IsNull) expr()  {}
func (*Exists) expr()  {}
func (*Sub) expr()     {}
func (*Collate) expr() {}
func (*Next) expr()    {}
