-- +goose Up
-- Privileges and roles are granted and revoked; options have the names that SQL gives
-- them. A key of a JSON text is told from a text in it by its quotes: within a text
-- they are escaped.
UPDATE changes SET kind = CASE kind WHEN 'grant.give' THEN 'privilege.grant' WHEN 'grant.take' THEN 'privilege.revoke' WHEN 'role.give' THEN 'role.grant' WHEN 'role.take' THEN 'role.revoke' ELSE kind END,
  intent = JSON_SET(intent, '$.kind', CASE JSON_VALUE(intent, '$.kind') WHEN 'grant.give' THEN 'privilege.grant' WHEN 'grant.take' THEN 'privilege.revoke' WHEN 'role.give' THEN 'role.grant' ELSE 'role.revoke' END)
  WHERE kind IN ('grant.give', 'grant.take', 'role.give', 'role.take');
UPDATE changes SET intent = REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(intent, '"if_absent":', '"if_not_exists":'), '"if_present":', '"if_exists":'), '"pass_on":', '"grant_option":'), '"give_to":', '"reassign_to":'), '"hold_accounts":', '"lock_accounts":'),
  brief = REPLACE(REPLACE(brief, '"code":"grant.pass_on"', '"code":"privilege.grant_option"'), '"code":"role.pass_on"', '"code":"role.admin_option"'),
  accepted = REPLACE(REPLACE(accepted, '"grant.pass_on"', '"privilege.grant_option"'), '"role.pass_on"', '"role.admin_option"');

-- +goose Down
UPDATE changes SET intent = REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(intent, '"if_not_exists":', '"if_absent":'), '"if_exists":', '"if_present":'), '"grant_option":', '"pass_on":'), '"reassign_to":', '"give_to":'), '"lock_accounts":', '"hold_accounts":'),
  brief = REPLACE(REPLACE(brief, '"code":"privilege.grant_option"', '"code":"grant.pass_on"'), '"code":"role.admin_option"', '"code":"role.pass_on"'),
  accepted = REPLACE(REPLACE(accepted, '"privilege.grant_option"', '"grant.pass_on"'), '"role.admin_option"', '"role.pass_on"');
UPDATE changes SET kind = CASE kind WHEN 'privilege.grant' THEN 'grant.give' WHEN 'privilege.revoke' THEN 'grant.take' WHEN 'role.grant' THEN 'role.give' ELSE 'role.take' END,
  intent = JSON_SET(intent, '$.kind', CASE JSON_VALUE(intent, '$.kind') WHEN 'privilege.grant' THEN 'grant.give' WHEN 'privilege.revoke' THEN 'grant.take' WHEN 'role.grant' THEN 'role.give' ELSE 'role.take' END)
  WHERE kind IN ('privilege.grant', 'privilege.revoke', 'role.grant', 'role.revoke');
