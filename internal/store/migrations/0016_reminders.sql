-- +goose Up
-- Whom this node has reminded of the second factor, and when; and what people said of sign-ins on their phones.
CREATE TABLE reminders (
	store TEXT NOT NULL,
	name TEXT NOT NULL,
	at INTEGER NOT NULL,
	PRIMARY KEY (store, name)
) STRICT;
CREATE TABLE alarms (
	store TEXT NOT NULL,
	name TEXT NOT NULL,
	client TEXT NOT NULL,
	source TEXT NOT NULL,
	at INTEGER NOT NULL
) STRICT;
