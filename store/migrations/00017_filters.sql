-- +goose Up
-- Changes and entries of the journal are looked for by who, what and when.
ALTER TABLE changes ADD KEY by_time (created_at), ADD KEY by_kind (kind, id);
ALTER TABLE journal ADD KEY by_time (at), ADD KEY by_operator (operator, seq), ADD KEY by_action (action, seq), ADD KEY by_subject (subject(200), seq);

-- +goose Down
ALTER TABLE changes DROP KEY by_time, DROP KEY by_kind;
ALTER TABLE journal DROP KEY by_time, DROP KEY by_operator, DROP KEY by_action, DROP KEY by_subject;
