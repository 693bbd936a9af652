-- +goose Up
-- Who asked for a running change to be stopped, and how a step that clears
-- sessions went.
ALTER TABLE changes ADD COLUMN stop_by VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '' AFTER run_by;
ALTER TABLE change_steps ADD COLUMN clearing JSON NULL AFTER failure;

-- +goose Down
ALTER TABLE change_steps DROP COLUMN clearing;
ALTER TABLE changes DROP COLUMN stop_by;
