package demo

import (
	"context"
	"fmt"

	"example.com/genarch/client"
)

// blueprints are the recipes of the ferry company.
var blueprints = map[string]string{
	"team_staging": `format: 1
title: Database of a team, to try things
description: Made for a team on staging or development, with its accounts and a small limit.
environments: [staging, development]
parameters:
  team:
    title: Team
    description: Its accounts are called after it, and so is the database.
    pattern: "[a-z][a-z0-9_]{1,20}"
  purpose:
    title: What for
    default: trials
name: "{team}_staging"
options:
  comment: "{team}, for {purpose}"
engines:
  postgresql:
    options:
      connection_limit: 10
  mariadb:
    options:
      collation: utf8mb4_uca1400_ai_ci
team:
  name: "{team}"
  host: 127.0.0.1
`,
	"ferry": `format: 1
title: Database of a new ferry
description: Calendar, ports and vessel types are there from the start.
environments: [production]
parameters:
  ferry:
    title: Ferry
    pattern: "[a-z][a-z0-9_]{1,20}"
name: "ferry_{ferry}_prod"
options:
  comment: "what the ferry {ferry} sails and sells"
engines:
  postgresql:
    options:
      template: ferry_base
      owner: sailings_owner
      connection_limit: 40
`,
	"office": `format: 1
title: Small database for an office
description: For lists that several people keep; nobody but its owner gets in by itself.
parameters:
  name:
    title: Name of the database
    description: As the rule of the server has it.
  size:
    title: How many may work in it at once
    values: ["5", "20", "50"]
    default: "20"
name: "{name}"
engines:
  postgresql:
    options:
      private: true
      connection_limit: "{size}"
    script: |
      CREATE TABLE lists (id integer PRIMARY KEY, title text NOT NULL);
      CREATE TABLE entries (list integer NOT NULL REFERENCES lists, entry text NOT NULL, kept_by text NOT NULL);
  mariadb:
    options:
      encoding: utf8mb4
`,
}

// putBlueprints keeps the recipes; those that are there already stay as they are.
func putBlueprints(ctx context.Context, api *client.Client) error {
	list, err := api.Blueprints(ctx)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, b := range list.Blueprints {
		there[b.Name] = true
	}
	for name, text := range blueprints {
		if there[name] {
			continue
		}
		if _, err := api.PutBlueprint(ctx, name, text); err != nil {
			return fmt.Errorf("the blueprint %s: %w", name, err)
		}
	}
	return nil
}
