-- +goose Up
-- What the sessions of others ran is not kept any more: texts in a statement can be
-- passwords or data of people. What was kept is removed.
UPDATE changes SET brief = JSON_REMOVE(brief, '$.affected') WHERE JSON_EXTRACT(brief, '$.affected') IS NOT NULL;

-- +goose Down
SELECT 1;
