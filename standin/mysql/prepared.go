package mysql

import (
	"context"
	"fmt"
	"strings"

	"github.com/dolthub/vitess/go/mysql"
	"github.com/dolthub/vitess/go/sqltypes"
	querypb "github.com/dolthub/vitess/go/vt/proto/query"
)

// Prepared statements: what is executed is the text with its values put in.

// ComPrepare takes every statement; which columns it has is told when it is executed.
func (f *face) ComPrepare(context.Context, *mysql.Conn, string, *mysql.PrepareData) ([]*querypb.Field, error) {
	return nil, nil
}

// ComStmtExecute puts the values in, and runs the statement.
func (f *face) ComStmtExecute(ctx context.Context, c *mysql.Conn, p *mysql.PrepareData,
	give func(*sqltypes.Result) error) error {
	q, err := withValues(p.PrepareStmt, p.BindVars)
	if err != nil {
		return err
	}
	return f.ComQuery(ctx, c, q, func(r *sqltypes.Result, _ bool) error { return give(r) })
}

// withValues puts values at the marks of a statement. The protocol's library calls them v1, v2, …
func withValues(q string, values map[string]*querypb.BindVariable) (string, error) {
	var out strings.Builder
	n := 0
	in := byte(0)
	for i := 0; i < len(q); i++ {
		switch b := q[i]; {
		case in == 0 && b == '?':
			n++
			v, there := values[fmt.Sprintf("v%d", n)]
			if !there {
				return "", refuse(1210, "HY000", "Incorrect arguments to EXECUTE")
			}
			value, err := sqltypes.BindVariableToValue(v)
			if err != nil {
				return "", err
			}
			switch {
			case value.IsNull():
				out.WriteString("NULL")
			case value.IsIntegral() || value.IsFloat():
				out.WriteString(value.ToString())
			default:
				out.WriteString(quote(value.ToString()))
			}
			continue
		case in == 0 && (b == '\'' || b == '"' || b == '`'):
			in = b
		case in != 0 && in != '`' && b == '\\' && i+1 < len(q):
			out.WriteByte(b)
			i++
		case b == in:
			in = 0
		}
		out.WriteByte(q[i])
	}
	return out.String(), nil
}
