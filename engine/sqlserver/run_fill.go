package sqlserver

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"time"

	mssql "github.com/microsoft/go-mssqldb"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
	"example.com/genarch/engine/senders"
)

// makeFiller makes the login as which a script runs, and its user.
func (s *server) makeFiller(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.sendAll(ctx, step, engine.DecodeList(step.Args["do"]))
}

// probeFiller looks whether the user has what it was given last.
func (s *server) probeFiller(ctx context.Context, step change.Step) (bool, error) {
	in := quoteIdent(step.Args["name"]) + ".sys."
	n, err := s.count(ctx, "look for the login of the script", "SELECT COUNT(*) FROM "+in+"database_permissions p "+
		"JOIN "+in+"database_principals u ON u.principal_id = p.grantee_principal_id WHERE u.name = @p1 AND "+
		"p.permission_name = @p2", step.Args["account"], fillerRights[len(fillerRights)-1])
	return n > 0, err
}

// signInFiller lets the login of a script sign in, by a password that is known here alone and forgotten
// with the session, and signs in as it.
func (s *server) signInFiller(ctx context.Context, step change.Step) (*sql.DB, *sender, error) {
	account, password := step.Args["account"], rand.Text()+rand.Text()
	_, err := s.sendOne(ctx, step.Title, onPrincipal("ALTER", catalog.Principal{Name: account}, " WITH PASSWORD = "+
		newHash(password)+" HASHED"), change.Step{Title: step.Title})
	if err != nil {
		// Whatever came of it, it alters nothing that lasts: the login is dropped.
		return nil, nil, engine.NeverSent(err)
	}
	cfg := s.config
	cfg.User, cfg.Password, cfg.Database = account, password, step.Args["name"]
	db := sql.OpenDB(asLogin{cfg})
	db.SetMaxOpenConns(1)
	conn, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, nil, engine.NeverSent(wrap("sign in as "+account+", as which the script runs", err))
	}
	return db, &sender{Conn: conn}, nil
}

// announceFiller has it put on record which session runs the script: Genarch's own login asks, for that of
// the script sees nothing but its number.
func (s *server) announceFiller(ctx context.Context, c *sender, step change.Step) error {
	return senders.Announce(ctx, c, step, func(ctx context.Context, c *sender) (id catalog.SessionID, err error) {
		if err = c.QueryRowContext(ctx, "SELECT @@SPID").Scan(&id.Number); err == nil {
			err = s.db.QueryRowContext(ctx, "SELECT "+markColumn+sessionTables+" WHERE s.session_id = @p1", id.Number).
				Scan(&id.Mark)
		}
		return id, wrap(step.Title, err)
	})
}

// fill runs a script as its login. Without an error all of it took effect.
func (s *server) fill(ctx context.Context, step change.Step) (engine.Report, error) {
	file, err := engine.OpenScript(ctx, step)
	if err != nil {
		return engine.NothingRan(), err
	}
	defer file.Close()
	before := s.countRows(ctx, step.Args["name"])
	db, c, err := s.signInFiller(ctx, step)
	if err != nil {
		return engine.NothingRan(), err
	}
	defer db.Close()
	defer c.Close()
	if err := s.announceFiller(ctx, c, step); err != nil {
		return engine.NothingRan(), err
	}
	size, _ := strconv.ParseInt(step.Args["size"], 10, 64)
	f := &filler{step: step, conn: c, mark: engine.FilledMark(s.target, step), atOnce: step.Args["at_once"] == "yes"}
	ahead := script.NewAhead(Engine{}.Script(file))
	defer ahead.Close()
	f.progress = engine.Follow(step, size)
	err = f.run(ctx, ahead)
	f.progress.Close()
	if err == nil {
		after := s.countRows(ctx, step.Args["name"])
		if before == nil {
			after = nil
		}
		delete(after, step.Args["account"])
		return engine.Report{Messages: engine.Ran(description.Script.Count(f.taken), f.begun, before, after)}, nil
	}
	if ctx.Err() != nil {
		// Given up, a batch is stopped at the server too, and not only on our side.
		stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), connectTimeout)
		_, _ = s.Sender(stopping, c.ID, true)
		cancel()
	}
	if f.atOnce || f.committing { // the note tells
		if e, ok := errors.AsType[*engine.Error](err); ok && e.Kind == engine.Refused {
			c.Close()
			db.Close()
			if stays, look := s.fillStays(ctx, step); look == nil && stays {
				e.Next = engine.StaysNext
			}
		}
		return engine.Report{}, err
	}
	learned := map[string]string{"taken": strconv.Itoa(f.taken), "line": strconv.Itoa(f.line)}
	if f.broke > 0 {
		learned["broke"] = strconv.Itoa(f.broke)
	}
	return engine.Report{Learned: learned}, err
}

// filler runs a script.
type filler struct {
	step   change.Step
	conn   *sender
	mark   string
	atOnce bool
	begun  time.Time
	taken  int // batches that took effect, or would
	line   int // of the last one
	broke  int // the line of the batch that was sent and did not end well; 0: none, or nothing of it ran
	// progress tells how far it is.
	progress *engine.Progress
	// committing: what makes all of it last was sent.
	committing bool
}

// run sends batch after batch. After an error the server goes on with the rest of a batch, unless it is told
// not to.
func (f *filler) run(ctx context.Context, from script.Splitter) error {
	f.begun = time.Now()
	first := []string{"SET XACT_ABORT ON"}
	if f.atOnce {
		// With the note as the first that it does: if that is there afterwards, something took effect.
		first = append(first, "BEGIN TRANSACTION", f.noteSQL())
	}
	for _, text := range first {
		if _, err := f.conn.ExecContext(ctx, text); err != nil {
			return f.failed(ctx, err, script.Statement{Line: 1, Column: 1, Kind: "the beginning of the script"})
		}
	}
	for {
		st, err := from.Next()
		if err == io.EOF {
			return f.end(ctx)
		}
		if err != nil {
			return engine.Unreadable(f.step, err)
		}
		f.progress.At(st.Line, st.Kind, from.Offset())
		if st.Text == "" {
			continue
		}
		f.broke = st.Line
		if _, err := f.conn.ExecContext(ctx, st.Text); err != nil {
			return f.failed(ctx, err, st)
		}
		f.taken, f.line, f.broke = f.taken+1, st.Line, 0
	}
}

// end notes that the script has run to its end, in its transaction where it has one. What is noted is how a
// lost answer is found again, in another process too.
func (f *filler) end(ctx context.Context) error {
	last := script.Statement{Line: f.line, Column: 1, Kind: "the end of the script"}
	open, want := 0, 0
	if f.atOnce {
		want = 1
	}
	err := f.conn.QueryRowContext(ctx, "SELECT @@TRANCOUNT").Scan(&open)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		// A session that was told only to read what it is sent has no rows, and no error.
		return &engine.Error{Op: f.step.Title, Kind: engine.Refused, Text: "the script has told the server to run " +
			"nothing of what follows (SET NOEXEC, SET PARSEONLY)", Next: "Take that out, and look what is there."}
	case err != nil:
		return f.failed(ctx, err, last)
	case open != want:
		return &engine.Error{Op: f.step.Title, Kind: engine.Refused,
			Text: fmt.Sprintf("at its end %d transactions are open, and not %d: a procedure, or what the script runs "+
				"as a text, has begun or ended one", open, want),
			Next: "Take that out, or run the script without a transaction around it; what is open is taken back."}
	}
	insert := "INSERT " + f.note() + " VALUES (" + quoteText(f.mark) + ")"
	texts := []string{f.noteSQL(), insert}
	if f.atOnce {
		texts = []string{insert, "COMMIT TRANSACTION"}
	}
	for i, text := range texts {
		f.committing = i == len(texts)-1
		if _, err := f.conn.ExecContext(ctx, text); err != nil {
			return f.failed(ctx, err, last)
		}
	}
	return nil
}

// note is the table in which it is noted how far a script came.
func (f *filler) note() string {
	return quoteIdent(defaultSchema) + "." + quoteIdent(f.step.Args["account"])
}

func (f *filler) noteSQL() string { return "CREATE TABLE " + f.note() + " (mark nvarchar(1000))" }

// inRows finds what a message repeats of the rows of a script.
var inRows = regexp.MustCompile(`(?s)(The duplicate key value is|Truncated value:).*|( value )'.*'( to data type)`)

// failed says where in the file the server refused what. An answer that did not come is unknown.
func (f *filler) failed(ctx context.Context, err error, st script.Statement) error {
	e, _ := errors.AsType[*engine.Error](wrap(f.step.Title, err))
	if e == nil || e.Kind != engine.Refused || ctx.Err() != nil {
		return engine.AnswerLost(f.step, err, st)
	}
	line, column := st.Line, st.Column
	if me, ok := errors.AsType[mssql.Error](err); ok {
		if len(me.All) > 0 {
			me = me.All[0]
		}
		if me.Class == syntax {
			f.broke = 0
		}
		switch n := int(me.LineNo); {
		case me.ProcName != "":
			e.Text += fmt.Sprintf(" (line %d of %s)", n, shown(me.ProcName))
		case n > 1:
			line, column = line+n-1, 1
		}
	}
	e.Text = strings.TrimSpace(inRows.ReplaceAllString(e.Text, "$2$3"))
	f.committing = false
	return engine.RefusedAt(e, st, line, column, f.atOnce || f.taken == 0 && f.broke == 0, dialect.Shape)
}

// syntax is the class of errors of a batch that the server cannot read, and so does not begin to run.
const syntax = 15

// probeFill looks whether the script ran to its end.
func (s *server) probeFill(ctx context.Context, step change.Step) (bool, error) {
	note := fillNote(step)
	there, err := s.objectThere(ctx, note)
	if err != nil || !there {
		return false, err
	}
	n, err := s.count(ctx, "look whether the script ran to its end", "SELECT COUNT(*) FROM "+quoteIdent(note.Database)+
		"."+quoteIdent(note.Schema)+"."+quoteIdent(note.Name)+" WHERE mark = @p1", engine.FilledMark(s.target, step))
	return n > 0, err
}

// fillNote is the table in which it is noted how far a script came.
func fillNote(step change.Step) catalog.Object {
	return catalog.Object{Scope: catalog.ScopeTable, Database: step.Args["name"], Schema: defaultSchema,
		Name: step.Args["account"]}
}

// undoFill says what stays of a script that did not run to its end: of one in a transaction nothing, unless
// it has ended that itself.
func (s *server) undoFill(ctx context.Context, step change.Step) (engine.Report, error) {
	if step.Args["at_once"] != "yes" {
		return engine.Report{}, engine.Stays(step, description.Script)
	}
	stays, err := s.fillStays(ctx, step)
	if err == nil && stays {
		err = &engine.Error{Op: "take the script back", Kind: engine.Refused,
			Text: "the script has ended the transaction around it itself: what it did until then took effect, and " +
				"stays", Next: engine.StaysNext}
	}
	return engine.Report{}, err
}

// fillStays reports whether anything stays of a script that was in one transaction, once its session is gone:
// then the note, which was the first that it did, is there.
func (s *server) fillStays(ctx context.Context, step change.Step) (bool, error) {
	if err := s.endFiller(ctx, step); err != nil {
		return false, err
	}
	return s.objectThere(ctx, fillNote(step))
}
