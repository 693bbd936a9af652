package cli

import (
	"strings"

	"github.com/urfave/cli/v3"
)

// examples has one or more for every command, by its words. They stand in its help and on
// its page of the manual; a test holds that each is a command that exists, with its options.
var examples = map[string][]string{
	"serve": {"genarch serve --data /srv/genarch",
		"genarch serve --listen 0.0.0.0:7437 --tls-cert chain.pem --tls-key key.pem"},
	"key rotate": {"genarch key rotate --data /srv/genarch"},
	"demo":       {"genarch demo --reset"},
	"openapi":    {"genarch openapi > openapi.json"},
	"man":        {"genarch man --into /usr/local/share/man/man1"},
	"login":      {"genarch login https://genarch.ossavik.example"},
	"logout":     {"genarch logout"},
	"attention":  {"genarch attention", "genarch attention --where urgent=yes -o json"},

	"server prepare": {"genarch server prepare ENGINE --login genarch > login.sql"},
	"server add": {"genarch server add harbour --engine ENGINE --host db1.ossavik.example --admin genarch " +
		"--environment production --name-suffix _prod"},
	"server list": {
		"genarch server list",
		"genarch server list --columns name,environment,sessions --sort -sessions",
	},
	"server show":    {"genarch server show harbour"},
	"server history": {"genarch server history harbour --days 30"},
	"server check":   {"genarch server check harbour"},
	"server choices": {"genarch server choices harbour", "genarch server choices harbour collations --search nb"},
	"server edit":    {"genarch server edit harbour --name-suffix _prod", "genarch server edit harbour --tls verified"},
	"server accept":  {"genarch server accept harbour"},
	"server mark":    {"genarch server mark quay"},
	"server forget":  {"genarch server forget slipway"},

	"engine list": {"genarch engine list"},
	"engine show": {"genarch engine show ENGINE"},

	"database list": {"genarch database list harbour",
		"genarch database list harbour --where 'size>1GiB' --where sessions=0 --sort -size"},
	"database show":    {"genarch database show harbour/tickets_prod"},
	"database history": {"genarch database history harbour/tickets_prod --days 90"},
	"database create": {"genarch database create harbour/lounges_prod --for-team lounges",
		"genarch database create quay/lounges_prod --encoding utf8mb4 --comment 'seats and meals' --draft",
		"genarch database create slipway --blueprint team_staging --with team=lounges"},
	"database alter": {"genarch database alter harbour/tickets_prod --connection-limit 50"},
	"holding list":   {"genarch holding list", "genarch holding list harbour --where due=yes"},
	"holding show":   {"genarch holding show harbour/tickets_prod"},
	"holding bring-back": {
		"genarch holding bring-back harbour/tickets_prod",
		"genarch holding bring-back harbour/tickets_prod --as tickets_old_prod",
	},
	"holding extend":  {"genarch holding extend harbour/tickets_prod --days 90"},
	"holding hold":    {"genarch holding hold harbour/tickets_prod --reason 'the audit of 2026'"},
	"holding release": {"genarch holding release harbour/tickets_prod"},
	"holding discard": {"genarch holding discard harbour/tickets_prod"},
	"database drop": {
		"genarch database drop harbour/tickets_prod --grace 1m",
		"genarch database drop harbour/tickets_prod --keep-days 90",
		"genarch database drop harbour/tides_prod --for-good --export-first",
		"genarch database drop quay/old_dev --when-empty 2h --confirm old_dev --accept gate.incomplete",
	},
	"database copy": {"genarch database copy harbour/ferry_base pier_prod",
		"genarch database copy quay/loyalty_prod loyalty_trial_prod --set data=none"},
	"export list":   {"genarch export list", "genarch export list harbour -o json"},
	"export fetch":  {"genarch export fetch q3zm", "genarch export fetch q3zm tides.dump"},
	"export remove": {"genarch export remove q3zm --confirm tides_prod"},
	"database fill": {"genarch database fill harbour/tickets_prod seed.sql",
		"genarch database fill quay/loyalty_prod dump.sql --set definer=loyalty_app",
		"genarch database fill harbour/tickets_prod - --yes < seed.sql"},
	"blueprint list":   {"genarch blueprint list"},
	"blueprint show":   {"genarch blueprint show team_staging"},
	"blueprint check":  {"genarch blueprint check team_staging.yaml"},
	"blueprint put":    {"genarch blueprint put team_staging team_staging.yaml"},
	"blueprint remove": {"genarch blueprint remove team_staging"},
	"blueprint schema": {"genarch blueprint schema > blueprint.schema.json"},
	"database rename":  {"genarch database rename harbour/fares_prod --to fares_old_prod"},

	"session list": {"genarch session list harbour/tickets_prod", "genarch session list quay --tree",
		"genarch session list quay --class written --older-than 10m"},
	"session show": {"genarch session show harbour/session:4711-hw2k9x3f1z0"},
	"session end": {"genarch session end harbour/session:4711-hw2k9x3f1z0",
		"genarch session end quay --account report --idle-longer-than 1h"},

	"account list": {"genarch account list quay --marked"},
	"account show": {"genarch account show quay/account:tickets_app@10.20.%"},
	"account create": {"genarch account create harbour/account:tickets_app --connection-limit 20",
		"genarch account create quay/account:report@10.20.% --expires 2027-01-31"},
	"account alter":    {"genarch account alter harbour/account:tickets_app --connection-limit 40"},
	"account lock":     {"genarch account lock harbour/account:tickets_app --end-sessions"},
	"account unlock":   {"genarch account unlock harbour/account:tickets_app"},
	"account password": {"genarch account password harbour/account:tickets_app"},
	"account rename":   {"genarch account rename quay/account:report@% --host 10.20.%"},
	"account drop": {"genarch account drop harbour/account:old_app",
		"genarch account drop harbour/account:old_app --for-good --reassign-to tickets_owner"},

	"role list":   {"genarch role list harbour"},
	"role show":   {"genarch role show harbour/role:tickets_owner"},
	"role create": {"genarch role create harbour/role:readers"},
	"role grant":  {"genarch role grant harbour/role:readers --to tickets_app"},
	"role revoke": {"genarch role revoke harbour/role:readers --from tickets_app"},
	"role drop":   {"genarch role drop harbour/role:readers"},

	"privilege list": {
		"genarch privilege list harbour/tickets_prod",
		"genarch privilege list quay/account:report@%",
	},
	"privilege matrix":  {"genarch privilege matrix harbour --database tickets"},
	"privilege why":     {"genarch privilege why harbour/account:tickets_app INSERT tickets_prod/public.bookings"},
	"privilege compare": {"genarch privilege compare harbour/account:tickets_app slipway/account:tickets_app"},
	"privilege grant": {"genarch privilege grant harbour/tickets_prod --to tickets_app --bundle write",
		"genarch privilege grant harbour/tickets_prod --to report --privilege SELECT --table public.fares"},
	"privilege revoke": {"genarch privilege revoke harbour/tickets_prod --from report --keep-bundle read"},
	"handover":         {"genarch handover harbour/tickets_prod --form url"},

	"change list":      {"genarch change list --state waiting", "genarch change list --server harbour --since 24h"},
	"change show":      {"genarch change show 12"},
	"change run":       {"genarch change run 12"},
	"change follow":    {"genarch change follow 12"},
	"change stop":      {"genarch change stop 12"},
	"change script":    {"genarch change script 12 > change-12.sql"},
	"change decline":   {"genarch change decline 12 --reason 'not before the weekend'"},
	"change passwords": {"genarch change passwords 12"},
	"change withdraw":  {"genarch change withdraw 12"},

	"operator list":     {"genarch operator list"},
	"operator add":      {"genarch operator add purser --permissions view,request"},
	"operator edit":     {"genarch operator edit purser --permissions view,request,run"},
	"operator password": {"genarch operator password"},
	"operator sessions": {"genarch operator sessions --end-others"},
	"token list":        {"genarch token list"},
	"token create":      {"genarch token create nightly --title 'nightly report' --days 30 --permissions view"},
	"token revoke":      {"genarch token revoke 7"},
	"journal list": {"genarch journal list --subject harbour/tickets_prod --since 2026-11-01",
		"genarch journal list --operator purser --action operator"},
	"journal check": {"genarch journal check"},
}

// exampleText is what a command's description ends with; empty: it has none.
func exampleText(words []string) string {
	list := examples[strings.Join(words, " ")]
	if len(list) == 0 {
		return ""
	}
	return "For example:\n  " + strings.Join(list, "\n  ")
}

// addExamples puts the examples into the descriptions, down the whole tree.
func addExamples(c *cli.Command, words []string) {
	if text := exampleText(words); text != "" {
		if c.Description != "" {
			c.Description += "\n\n"
		}
		c.Description += text
	}
	for _, sub := range c.Commands {
		addExamples(sub, append(words[:len(words):len(words)], sub.Name))
	}
}
