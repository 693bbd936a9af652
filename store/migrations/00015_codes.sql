-- +goose Up
-- What was a text for people is a code now; keys have the words of the trade. A value of a
-- JSON text is told from a text in it by its quotes: within a text they are escaped.
UPDATE changes SET
  intent = REPLACE(REPLACE(REPLACE(intent, '"class":"in transaction"', '"class":"in_transaction"'), '"class":"written work"', '"class":"written"'), '"class":"not visible"', '"class":"hidden"'),
  brief = REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(brief, '"class":"in transaction"', '"class":"in_transaction"'), '"class":"written work"', '"class":"written"'), '"class":"not visible"', '"class":"hidden"'), ':"idle in transaction"', ':"idle_in_transaction"'), '"code":"gate.leaky"', '"code":"gate.incomplete"'), '"stays":true', '"irreversible":true'), '"mend":"', '"repair":"'), '"kind":"settle_grants"', '"kind":"restore_grants"'),
  accepted = REPLACE(accepted, '"gate.leaky"', '"gate.incomplete"');
UPDATE change_steps SET
  step = REPLACE(REPLACE(REPLACE(step, '"stays":true', '"irreversible":true'), '"mend":"', '"repair":"'), '"kind":"settle_grants"', '"kind":"restore_grants"'),
  clearing = REPLACE(REPLACE(REPLACE(REPLACE(clearing, '"class":"in transaction"', '"class":"in_transaction"'), '"class":"written work"', '"class":"written"'), '"class":"not visible"', '"class":"hidden"'), '"phase":"given up"', '"phase":"given_up"');

-- +goose Down
UPDATE changes SET
  intent = REPLACE(REPLACE(REPLACE(intent, '"class":"in_transaction"', '"class":"in transaction"'), '"class":"written"', '"class":"written work"'), '"class":"hidden"', '"class":"not visible"'),
  brief = REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(REPLACE(brief, '"class":"in_transaction"', '"class":"in transaction"'), '"class":"written"', '"class":"written work"'), '"class":"hidden"', '"class":"not visible"'), ':"idle_in_transaction"', ':"idle in transaction"'), '"code":"gate.incomplete"', '"code":"gate.leaky"'), '"irreversible":true', '"stays":true'), '"repair":"', '"mend":"'), '"kind":"restore_grants"', '"kind":"settle_grants"'),
  accepted = REPLACE(accepted, '"gate.incomplete"', '"gate.leaky"');
UPDATE change_steps SET
  step = REPLACE(REPLACE(REPLACE(step, '"irreversible":true', '"stays":true'), '"repair":"', '"mend":"'), '"kind":"restore_grants"', '"kind":"settle_grants"'),
  clearing = REPLACE(REPLACE(REPLACE(REPLACE(clearing, '"class":"in_transaction"', '"class":"in transaction"'), '"class":"written"', '"class":"written work"'), '"class":"hidden"', '"class":"not visible"'), '"phase":"given_up"', '"phase":"given up"');
