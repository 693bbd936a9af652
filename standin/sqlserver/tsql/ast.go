package tsql

import "example.com/genarch/standin/sqlserver/tds"

// Expr is an expression.
type Expr any

// The expressions.
type (
	Lit struct {
		T tds.Type
		V any
	}
	Var  struct{ Name string }
	Col  struct{ Parts []string }
	Star struct{ Qual string }
	Un   struct {
		Op string
		X  Expr
	}
	Bin struct {
		Op   string
		L, R Expr
	}
	Func struct {
		Name     string
		Args     []Expr
		Distinct bool
		Star     bool
		Order    []OrderItem // WITHIN GROUP, or OVER
		Over     bool
		Parts    []string
	}
	Case struct {
		Of    Expr
		Whens [][2]Expr
		Else  Expr
	}
	Cast struct {
		X     Expr
		T     tds.Type
		Try   bool
		Style Expr
	}
	In struct {
		X    Expr
		List []Expr
		Sub  *Select
		Not  bool
	}
	Between struct {
		X, Lo, Hi Expr
		Not       bool
	}
	Like struct {
		X, Pat, Esc Expr
		Not         bool
	}
	IsNull struct {
		X   Expr
		Not bool
	}
	Exists  struct{ Sub *Select }
	Sub     struct{ Sel *Select }
	Collate struct {
		X    Expr
		Name string
	}
	Default struct{}
)

// OrderItem is one item of ORDER BY.
type OrderItem struct {
	X    Expr
	Desc bool
}

// Item is one item of a select list.
type Item struct {
	X     Expr
	Alias string
	// Set is the variable that gets the value.
	Set string
}

// Select is a query. Its Line is where it begins.
type Select struct {
	Line     int
	With     []CTE
	Distinct bool
	Top      Expr
	Items    []Item
	From     Table
	Where    Expr
	Group    []Expr
	Having   Expr
	// Values stands for VALUES (…), (…).
	Values [][]Expr
	Next   *Select // UNION …
	All    bool
	Order  []OrderItem
	Offset Expr
	Fetch  Expr
}

// CTE is a named query.
type CTE struct {
	Name string
	Cols []string
	Sel  *Select
}

// Table is a source of rows.
type Table any

// The sources of rows.
type (
	Named struct {
		Parts []string
		Args  []Expr // nil: no function
		Alias string
		Hints []string
	}
	Derived struct {
		Sel   *Select
		Alias string
		Cols  []string
	}
	Join struct {
		Kind string // INNER LEFT RIGHT FULL CROSS, CROSS APPLY, OUTER APPLY
		L, R Table
		On   Expr
	}
)

// Stmt is a statement at a line.
type Stmt struct {
	Line int
	Text string
	Do   any
}

// File is one file of a database.
type File struct {
	Name, Path                 string
	Size, Max, Growth          int64 // bytes; Max -1: unlimited; 0: not said
	Percent                    bool
	Group                      string
	Log                        bool
	HasSize, HasMax, HasGrowth bool
	NewName                    string
}

// Option is one NAME = VALUE of ALTER DATABASE SET and the like.
type Option struct {
	Name, Value string
	Sub         []Option
}

// PermSpec is one permission, with columns.
type PermSpec struct {
	Name string
	Cols []string
}

// The statements.
type (
	Use     struct{ DB string }
	SelectS struct{ Sel *Select }
	SetVar  struct {
		Name string
		X    Expr
	}
	Declare struct {
		Name string
		T    tds.Type
		X    Expr
	}
	SetOpt struct {
		Names []string
		Value string
	}
	If struct {
		Cond       Expr
		Then, Else []Stmt
	}
	While struct {
		Cond Expr
		Body []Stmt
	}
	Block struct{ Body []Stmt }
	Try   struct{ Body, Catch []Stmt }
	Print struct{ X Expr }
	Raise struct {
		Msg             Expr
		Severity, State Expr
		Args            []Expr
		NoWait          bool
	}
	Throw  struct{ Number, Msg, State Expr }
	Return struct{}
	Tran   struct {
		Op   string // BEGIN COMMIT ROLLBACK SAVE
		Name string
	}
	WaitFor struct{ Delay Expr }
	Exec    struct {
		Proc   []string
		Text   Expr // EXEC ('…')
		Args   []Arg
		Result string
	}
	ExecuteAs struct {
		Kind, Name string // LOGIN, USER, CALLER
		NoRevert   bool
	}
	Revert struct{}
	Kill   struct {
		ID     int64
		UOW    string
		Status bool
	}
	CreateDatabase struct {
		Name        string
		Containment string
		Files       []File
		Collation   string
		Options     []Option
		Snapshot    string
		Attach      string
	}
	AlterDatabase struct {
		AddGroup, RemoveGroup string
		Name                  string // "" is CURRENT
		NewName               string
		Collation             string
		Options               []Option
		Termination           string // "", IMMEDIATE, AFTER, NO_WAIT
		After                 int
		Modify                *File
		Add                   []File
		Remove                string
	}
	DropDatabase struct {
		Names    []string
		IfExists bool
	}
	CreateLogin struct {
		Name       string
		Password   *string
		Hash       []byte
		MustChange bool
		Windows    bool
		Options    []Option
		SID        []byte
	}
	AlterLogin struct {
		Name       string
		Enable     *bool
		Password   *string
		Old        *string
		Hash       []byte
		MustChange bool
		Unlock     bool
		Options    []Option
		NewName    string
	}
	DropPrincipal struct {
		Kind     string // LOGIN USER ROLE, SERVER ROLE, SCHEMA
		Name     string
		IfExists bool
	}
	CreateUser struct {
		Name, Login string
		Without     bool
		Password    *string
		Hash        []byte
		Schema      string
		SID         []byte
	}
	AlterUser struct {
		Name, NewName, Login, Schema string
		Password                     *string
	}
	CreateRole struct {
		Name, Owner string
		Server      bool
	}
	AlterRole struct {
		Name, Add, Drop, NewName string
		Server                   bool
	}
	Permission struct {
		Verb    string // GRANT DENY REVOKE
		Perms   []PermSpec
		Class   string // "" with Object: OBJECT
		Object  []string
		Cols    []string
		To      []string
		Option  bool // WITH GRANT OPTION, or GRANT OPTION FOR
		Cascade bool
		As      string
	}
	Authorize struct {
		Class  string
		Object []string
		To     string
		Owner  bool // TO SCHEMA OWNER
	}
	CreateSchema struct{ Name, Owner string }
	CreateTable  struct {
		Name []string
		Cols []ColumnDef
	}
	CreateModule struct {
		Kind string // VIEW PROCEDURE FUNCTION SYNONYM TRIGGER
		Name []string
		Text string
	}
	DropObject struct {
		Kind     string
		Names    [][]string
		IfExists bool
	}
	Insert struct {
		Into []string
		Cols []string
		From *Select
	}
	Update struct {
		Into  []string
		Sets  []Item
		Where Expr
	}
	Delete struct {
		Into  []string
		Where Expr
	}
	Nothing struct{ What string }
)

// Arg is one argument of a procedure.
type Arg struct {
	Name string
	X    Expr
	Out  bool
}

// ColumnDef is a column of a table.
type ColumnDef struct {
	Name    string
	T       tds.Type
	Primary bool
}
