-- +goose Up
-- Emergency accounts: the condition over devices that one is for ('' for an ordinary account), and when and where its seal was
-- broken (0 for never).
ALTER TABLE accounts ADD COLUMN emergency TEXT NOT NULL DEFAULT '';
ALTER TABLE accounts ADD COLUMN opened INTEGER NOT NULL DEFAULT 0;
ALTER TABLE accounts ADD COLUMN opened_on TEXT NOT NULL DEFAULT '';
ALTER TABLE accounts ADD COLUMN uses INTEGER NOT NULL DEFAULT 0;
