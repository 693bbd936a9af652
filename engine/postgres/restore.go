package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// The arguments of a step that say how it is put back: the statements, what no
// statement gives back, and why nothing could be noted.
const (
	argRestore = "restore"
	argLost    = "lost"
	argUnnoted = "unnoted"
)

// notes are what a step that alters privileges or owners finds before it acts.
type notes struct {
	grantees []string
	before   []held
	owned    []string
	policies []string
	members  []string
	lost     []string
}

// noteBefore reads what a step is about to alter. Handing over what a role owns
// reaches further than privileges: owners, policies, memberships that it gave.
func noteBefore(ctx context.Context, q querier, step change.Step) (n notes, err error) {
	n.grantees = engine.DecodeList(step.Args["grantees"])
	if n.before, err = capture(ctx, q, n.grantees); err != nil || step.Kind != stepHandOver {
		return n, err
	}
	name := step.Args["name"]
	if n.owned, err = texts(ctx, q, "note what it owns", ownedSQL, name); err != nil {
		return n, err
	}
	if n.policies, err = texts(ctx, q, "note the policies that name it", policiesSQL, name); err != nil {
		return n, err
	}
	if n.members, err = texts(ctx, q, "note the memberships that it gave", membersSQL, name); err != nil {
		return n, err
	}
	n.lost, err = texts(ctx, q, "note what cannot be put back", lostSQL, name)
	return n, err
}

func texts(ctx context.Context, q querier, op, sql string, args ...any) ([]string, error) {
	return collect(ctx, q, op, pgx.RowTo[string], sql, args...)
}

// after reads what has become of it, in the same transaction, and returns what is
// to be kept with the step.
func (n notes) after(ctx context.Context, q querier) (map[string]string, error) {
	now, err := capture(ctx, q, n.grantees)
	if err != nil {
		return nil, err
	}
	restore := slices.Concat(n.owned, n.policies, n.members, differences(n.before, now))
	if len(restore) > maxRestore {
		return map[string]string{argUnnoted: fmt.Sprintf("it would have taken %d statements, and %d are kept",
			len(restore), maxRestore)}, nil
	}
	learned := map[string]string{argRestore: engine.EncodeList(restore)}
	if len(n.lost) > 0 {
		learned[argLost] = engine.EncodeList(n.lost)
	}
	return learned, nil
}

// maxShown is how many of the noted statements are shown as a step's undo.
const maxShown = 500

// undoText shows what was noted as the undo of the step.
func undoText(step change.Step, learned map[string]string) string {
	list := engine.DecodeList(learned[argRestore])
	if len(list) == 0 {
		return "-- nothing was altered that has to be put back"
	}
	more := ""
	if n := len(list) - maxShown; n > 0 {
		list, more = list[:maxShown], fmt.Sprintf("-- and %d more\n", n)
	}
	return accessText(step.Args["database"], list, more)
}

// held is one line of privileges, as the statements that make and take it, and as
// whom: empty for the owner of the object, in whose name a superuser's or the
// owner's own grants are noted by the server.
type held struct{ grant, revoke, as string }

// statements are what it takes to send one of the two.
func (h held) statements(text string) []string {
	if h.as == "" {
		return []string{text}
	}
	return []string{"SET LOCAL ROLE " + h.as, text, "RESET ROLE"}
}

// capture reads, as statements, what some grantees hold in the current database
// and on what all databases share, and what they gave to others: on databases,
// schemas, tables, columns, sequences, routines, types, languages, foreign data
// wrappers and servers, large objects, tablespaces, parameters, and on what is
// made later. Every name in them is quoted by the server itself (quote_ident,
// regprocedure). What owners gave comes first, for the rest may stand on it.
func capture(ctx context.Context, q querier, grantees []string) ([]held, error) {
	return collect(ctx, q, "note the privileges", func(row pgx.CollectableRow) (h held, err error) {
		err = row.Scan(&h.grant, &h.revoke, &h.as)
		return h, err
	}, captureSQL, grantees)
}

const captureSQL = `WITH who AS (SELECT oid FROM pg_catalog.pg_roles WHERE rolname::text = ANY($1) UNION ALL SELECT 0::oid WHERE 'PUBLIC' = ANY($1)),
	lists AS (
		SELECT 'DATABASE ' || quote_ident(datname) AS object, '' AS before, '' AS col, datdba AS owner, coalesce(datacl, acldefault('d', datdba)) AS acl FROM pg_catalog.pg_database
		UNION ALL SELECT 'SCHEMA ' || quote_ident(nspname), '', '', nspowner, coalesce(nspacl, acldefault('n', nspowner)) FROM pg_catalog.pg_namespace
			WHERE nspacl IS NOT NULL OR nspname !~ '^pg_'
		UNION ALL SELECT CASE relkind WHEN 'S' THEN 'SEQUENCE ' ELSE 'TABLE ' END || quote_ident(nspname) || '.' || quote_ident(relname), '', '', relowner, relacl
			FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE relacl IS NOT NULL
		UNION ALL SELECT 'TABLE ' || quote_ident(nspname) || '.' || quote_ident(relname), '', ' (' || quote_ident(attname) || ')', relowner, attacl
			FROM pg_catalog.pg_attribute t JOIN pg_catalog.pg_class c ON c.oid = t.attrelid JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE attacl IS NOT NULL AND NOT attisdropped
		UNION ALL SELECT 'ROUTINE ' || p.oid::regprocedure::text, '', '', proowner, coalesce(proacl, acldefault('f', proowner))
			FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace WHERE proacl IS NOT NULL OR (nspname !~ '^pg_' AND nspname <> 'information_schema')
		UNION ALL SELECT 'TYPE ' || quote_ident(nspname) || '.' || quote_ident(typname), '', '', typowner, typacl
			FROM pg_catalog.pg_type t JOIN pg_catalog.pg_namespace n ON n.oid = t.typnamespace WHERE typacl IS NOT NULL
		UNION ALL SELECT 'LANGUAGE ' || quote_ident(lanname), '', '', lanowner, lanacl FROM pg_catalog.pg_language WHERE lanacl IS NOT NULL
		UNION ALL SELECT 'FOREIGN DATA WRAPPER ' || quote_ident(fdwname), '', '', fdwowner, fdwacl FROM pg_catalog.pg_foreign_data_wrapper WHERE fdwacl IS NOT NULL
		UNION ALL SELECT 'FOREIGN SERVER ' || quote_ident(srvname), '', '', srvowner, srvacl FROM pg_catalog.pg_foreign_server WHERE srvacl IS NOT NULL
		UNION ALL SELECT 'LARGE OBJECT ' || oid::text, '', '', lomowner, lomacl FROM pg_catalog.pg_largeobject_metadata WHERE lomacl IS NOT NULL
		UNION ALL SELECT 'TABLESPACE ' || quote_ident(spcname), '', '', spcowner, spcacl FROM pg_catalog.pg_tablespace WHERE spcacl IS NOT NULL
		UNION ALL SELECT 'PARAMETER ' || quote_ident(parname), '', '', 10::oid, paracl FROM pg_catalog.pg_parameter_acl WHERE paracl IS NOT NULL
		UNION ALL SELECT CASE defaclobjtype WHEN 'r' THEN 'TABLES' WHEN 'S' THEN 'SEQUENCES' WHEN 'f' THEN 'ROUTINES' WHEN 'n' THEN 'SCHEMAS' ELSE 'TYPES' END,
			'ALTER DEFAULT PRIVILEGES FOR ROLE ' || quote_ident(pg_get_userbyid(defaclrole)) || coalesce(' IN SCHEMA ' || quote_ident(nspname), '') || ' ', '', defaclrole, defaclacl
			FROM pg_catalog.pg_default_acl d LEFT JOIN pg_catalog.pg_namespace n ON n.oid = d.defaclnamespace)
	SELECT l.before || 'GRANT ' || x.privilege_type || l.col || ' ON ' || l.object || ' TO ' || w.name || CASE WHEN x.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END,
		l.before || 'REVOKE ' || x.privilege_type || l.col || ' ON ' || l.object || ' FROM ' || w.name,
		CASE WHEN x.grantor = l.owner THEN '' ELSE quote_ident(pg_get_userbyid(x.grantor)) END AS grantor
	FROM lists l, LATERAL pg_catalog.aclexplode(l.acl) x,
		LATERAL (SELECT CASE x.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(x.grantee)) END AS name) w
	WHERE (x.grantee IN (SELECT oid FROM who) OR x.grantor IN (SELECT oid FROM who WHERE oid <> 0)) AND x.grantee <> l.owner
	ORDER BY x.grantor <> l.owner, x.is_grantable DESC, 1`

// differences are the statements that lead from after back to before.
func differences(before, after []held) []string {
	var out []string
	was, is := map[held]bool{}, map[held]bool{}
	for _, h := range before {
		was[h] = true
	}
	for i := len(after) - 1; i >= 0; i-- {
		h := after[i]
		if is[h] = true; !was[h] {
			out = append(out, h.statements(h.revoke)...)
		}
	}
	for _, h := range before {
		if !is[h] {
			out = append(out, h.statements(h.grant)...)
		}
	}
	return out
}

// ownedSQL reads, as statements, what it takes to give everything that a role
// owns here, and what it owns of what all databases share, back to it. What
// follows its table (an identity's sequence, a row type) is not named: it goes
// with the table. The kinds are those of pg_identify_object.
var ownedSQL = `WITH me AS (SELECT oid, quote_ident(rolname) AS name FROM pg_catalog.pg_roles WHERE rolname::text = $1)
	SELECT 'ALTER DATABASE ' || quote_ident(datname) || ' OWNER TO ' || me.name FROM pg_catalog.pg_database, me WHERE datdba = me.oid
	UNION ALL SELECT 'ALTER TABLESPACE ' || quote_ident(spcname) || ' OWNER TO ' || me.name FROM pg_catalog.pg_tablespace, me WHERE spcowner = me.oid
	UNION ALL
	SELECT 'ALTER ' || CASE i.type WHEN 'foreign-data wrapper' THEN 'FOREIGN DATA WRAPPER' WHEN 'statistics object' THEN 'STATISTICS' WHEN 'composite type' THEN 'TYPE'
			ELSE upper(i.type) END || ' ' || i.identity || ' OWNER TO ' || me.name
	FROM ` + ownedHere + ` AND i.type NOT IN (` + notGiven + `, ` + notOwned + `)`

// ownedHere lists what the role me owns in the current database, each by itself.
const ownedHere = `me, pg_catalog.pg_shdepend s, LATERAL pg_catalog.pg_identify_object(s.classid, s.objid, 0) i
	WHERE s.refclassid = 'pg_catalog.pg_authid'::regclass AND s.refobjid = me.oid AND s.deptype = 'o'
		AND s.dbid = (SELECT oid FROM pg_catalog.pg_database WHERE datname = current_database())
		AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend d WHERE d.classid = s.classid AND d.objid = s.objid AND d.deptype IN ('a', 'i')
			AND d.refclassid = 'pg_catalog.pg_class'::regclass)`

// notOwned are kinds that follow something else or are noted as privileges;
// notGiven those whose owner no statement sets, or that hold a password.
const (
	notOwned = `'default acl', 'toast table', 'index'`
	notGiven = `'user mapping', 'extension'`
)

var lostSQL = `WITH me AS (SELECT oid FROM pg_catalog.pg_roles WHERE rolname::text = $1)
	SELECT CASE i.type WHEN 'extension' THEN 'the owner of extension ' ELSE i.type || ' ' END || i.identity FROM ` +
	ownedHere + ` AND i.type IN (` + notGiven + `)`

// policiesSQL reads, as statements, the row policies that name a role: dropping
// what it owns takes it out of them, and a policy for it alone goes as a whole.
// The expressions are as the server writes them, every name in them quoted.
const policiesSQL = `SELECT unnest(ARRAY['DROP POLICY IF EXISTS ' || p.name || ' ON ' || p.on_table,
		'CREATE POLICY ' || p.name || ' ON ' || p.on_table || ' AS ' || CASE WHEN polpermissive THEN 'PERMISSIVE' ELSE 'RESTRICTIVE' END
		|| ' FOR ' || CASE polcmd WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE' WHEN 'd' THEN 'DELETE' ELSE 'ALL' END
		|| ' TO ' || (SELECT string_agg(CASE o WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(o)) END, ', ') FROM unnest(polroles) o)
		|| coalesce(' USING (' || pg_get_expr(polqual, polrelid) || ')', '') || coalesce(' WITH CHECK (' || pg_get_expr(polwithcheck, polrelid) || ')', '')])
	FROM (SELECT l.*, quote_ident(polname) AS name, quote_ident(nspname) || '.' || quote_ident(relname) AS on_table FROM pg_catalog.pg_policy l
		JOIN pg_catalog.pg_class c ON c.oid = l.polrelid JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE (SELECT oid FROM pg_catalog.pg_roles WHERE rolname::text = $1) = ANY(l.polroles)) p`

// membersSQL reads, as statements, the memberships that a role gave, which from
// version 16 on go with what it owns.
const membersSQL = `SELECT 'GRANT ' || quote_ident(pg_get_userbyid(m.roleid)) || ' TO ' || quote_ident(pg_get_userbyid(m.member)) || ' WITH ADMIN ' || upper(m.admin_option::text)
		|| ', INHERIT ' || upper(j->>'inherit_option') || ', SET ' || upper(j->>'set_option') || ' GRANTED BY ' || quote_ident(pg_get_userbyid(m.grantor))
	FROM pg_catalog.pg_auth_members m, LATERAL to_jsonb(m) j
	WHERE j ? 'inherit_option' AND m.grantor = (SELECT oid FROM pg_catalog.pg_roles WHERE rolname::text = $1)`

// accessText shows statements that run inside one database, in one transaction.
func accessText(database string, list []string, more string) string {
	return "-- connected to " + naming.Show(database) + "\nBEGIN;\n" + strings.Join(list, ";\n") + ";\n" + more +
		"COMMIT"
}
