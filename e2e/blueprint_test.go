package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"example.com/genarch/testutil"
)

const recipe = `format: 1
title: Database of a team
environments: [staging, development]
parameters:
  team: {title: Team, pattern: "[a-z][a-z0-9_]{1,20}"}
  purpose: {title: What for, default: trials}
name: "{team}_staging"
options:
  comment: "{team}, for {purpose}"
engines:
  postgresql: {options: {connection_limit: 7}}
team: {name: "{team}", host: 127.0.0.1}
`

// TestBlueprints keeps recipes and makes databases by them, by the CLI, the API and the console.
func TestBlueprints(t *testing.T) {
	t.Parallel()
	s := newServiceOf(t, commands)
	pg := testutil.Postgres(t)
	s.add("slipway", "postgresql", "staging", pg, "--name-suffix", "_staging")
	s.add("harbour", "postgresql", "production", testutil.Postgres(t))
	file := filepath.Join(t.TempDir(), "team.yaml")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	has(t, "none yet", s.run(0, "blueprint", "list").err, "no blueprints yet")
	write(strings.Replace(recipe, "title:", "tilte:", 1))
	has(t, "a slip", s.run(1, "blueprint", "check", file).err, "team.yaml:2:1", "a blueprint has no tilte")
	s.run(2, "blueprint", "put", "team_staging", file)
	write(strings.Replace(recipe, "connection_limit", "conection_limit", 1))
	has(t, "no such option", s.run(1, "blueprint", "check", file).err, "conection_limit is no option", "PostgreSQL")
	write(strings.Replace(recipe, "  comment:", "  coment:", 1))
	has(t, "an option of no engine", s.run(1, "blueprint", "check", file).err, "coment is no option", "any engine")
	s.run(2, "blueprint", "show")
	s.run(2, "blueprint", "put")
	write(recipe)
	has(t, "good", s.run(0, "blueprint", "check", file).err, "it can be used")
	has(t, "kept", s.run(0, "blueprint", "put", "team_staging", file).err, "version 1")
	has(t, "the same again", s.run(0, "blueprint", "put", "team_staging", file).err, "version 1")
	s.run(2, "blueprint", "put", "Team", file)
	has(t, "the list", s.run(0, "blueprint", "list", "-o", "csv").out, "team_staging,1,Database of a team,",
		"{team}_staging", "purpose=trials")
	has(t, "a value is missing", s.run(2, "database", "create", "slipway", "--blueprint", "team_staging").err,
		"team has to be given")
	has(t, "a value that does not go", s.run(2, "database", "create", "slipway", "--blueprint", "team_staging",
		"--with", "team=Lounges").err, "does not match")
	has(t, "not for production", s.run(2, "database", "create", "harbour", "--blueprint", "team_staging", "--with",
		"team=lounges").err, "it is for staging, development")
	has(t, "another name", s.run(2, "database", "create", "slipway/mine_staging", "--blueprint", "team_staging",
		"--with", "team=lounges").err, "is called lounges_staging")
	s.run(2, "database", "create", "slipway/x_staging", "--with", "team=lounges")
	write("format: 1\nengines:\n  postgresql:\n    script: |\n      CREATE TABLE first (n int);\n      INSERT " +
		"INTO first VALUES (7);\n")
	s.run(0, "blueprint", "put", "filled", file)
	s.run(0, "role", "create", "slipway/role:filled_owner", "--yes")
	filled := s.run(0, "database", "create", "slipway/filled_staging", "--blueprint", "filled",
		"--owner", "filled_owner", "--yes").err
	has(t, "a blueprint with a script", filled, "has a script to fill it with", "2 statements", "first: new, "+
		"with 1 row")
	again := s.run(0, "database", "create", "slipway/filled_staging", "--blueprint", "filled",
		"--owner", "filled_owner", "--if-not-exists", "--yes").err
	if strings.Contains(again, "script to fill it with") {
		t.Errorf("a database that is there already is filled again: %s", again)
	}
	has(t, "only looked at", s.run(0, "database", "create", "slipway/other_staging", "--blueprint", "filled",
		"--dry-run").err, "nothing was done")
	write(recipe)
	s.run(4, "database", "create", "slipway", "--blueprint", "nothing", "--with", "team=lounges")
	made := s.run(0, "database", "create", "slipway", "--blueprint", "team_staging", "--with", "team=lounges", "--set",
		"connection_limit=9", "--yes")
	has(t, "the brief", made.err, "lounges_staging", "team_staging, version 1", "CONNECTION LIMIT = 9", "lounges_app")
	has(t, "what is made", s.run(0, "database", "show", "slipway/lounges_staging").out, "lounges, for trials")
	write(strings.Replace(recipe, "connection_limit: 7", "connection_limit: 8", 1))
	has(t, "a new version", s.run(0, "blueprint", "put", "team_staging", file).err, "version 2")
	has(t, "the old one", s.run(0, "blueprint", "show", "team_staging", "--version", "1").out, "connection_limit: 7")
	has(t, "by the old one", s.run(3, "database", "create", "slipway", "--blueprint", "team_staging:1", "--with",
		"team=decks").err, "team_staging, version 1", "CONNECTION LIMIT = 7")
	var schema struct{ Properties map[string]any }
	if err := json.Unmarshal([]byte(s.run(0, "blueprint", "schema").out), &schema); err != nil ||
		schema.Properties["parameters"] == nil {
		t.Errorf("the schema: %v, %v", schema, err)
	}
	t.Run("console", func(t *testing.T) { testBlueprintConsole(t, s) })
	s.run(3, "blueprint", "remove", "team_staging")
	s.run(0, "blueprint", "remove", "team_staging", "--confirm", "team_staging")
	s.run(4, "blueprint", "show", "team_staging")
	has(t, "put again", s.run(0, "blueprint", "put", "team_staging", file).err, "version 4")
	has(t, "the journal", s.run(0, "journal", "list", "--action", "blueprint.put", "-o", "csv").out, "team_staging")
}

// testBlueprintConsole writes a version of the recipe, and makes a database by it.
func testBlueprintConsole(t *testing.T, s *service) {
	p := testutil.NewBrowser(t).Page(t, s.url)
	p.SignIn("keeper", password)
	p.Open("/blueprints")
	p.Axe("blueprints")
	p.Click("tr[data-blueprint=team_staging] a")
	p.WaitText("Version 2, put there by keeper")
	p.WaitText("It can be used")
	p.Axe("a blueprint")
	p.Type("textarea[name=text]", strings.Replace(recipe, "{team}_staging", "{taem}_staging", 1))
	p.WaitText("Line 7, column 7: there is no parameter taem")
	p.Type("textarea[name=text]", recipe+"description: for trials of a team\n")
	p.WaitText("It can be used")
	p.Click("form:has(textarea) button.btn-primary")
	p.WaitText("Kept as version 3.")
	p.Open("/servers/slipway/new-database")
	p.Wait("the choice", "document.querySelector('select[name=blueprint] option[value=team_staging]')")
	p.Select("select[name=blueprint]", "team_staging")
	p.WaitText("for trials of a team")
	p.Type("input[name=with_team]", "piers")
	p.WaitText("Version 3")
	p.WaitText("CONNECTION LIMIT = 7")
	p.Axe("a database by a blueprint")
	p.Click("form button.btn-primary")
	p.WaitText("What will happen")
	p.Click("main form button.btn-primary")
	p.WaitText("Done, and read back as asked")
	has(t, "what the console made", s.run(0, "database", "show", "slipway/piers_staging").out, "piers, for trials")
}
