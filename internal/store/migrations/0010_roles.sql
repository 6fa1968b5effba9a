-- +goose Up
-- Until now everybody could do everything; whoever is there keeps that.
ALTER TABLE operators ADD COLUMN role TEXT NOT NULL DEFAULT 'owner';
-- A token may allow less than its operator, and be good from some prefixes alone; those from before have no end.
ALTER TABLE keys ADD COLUMN scope TEXT NOT NULL DEFAULT '';
ALTER TABLE keys ADD COLUMN prefixes TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE keys DROP COLUMN prefixes;
ALTER TABLE keys DROP COLUMN scope;
ALTER TABLE operators DROP COLUMN role;
