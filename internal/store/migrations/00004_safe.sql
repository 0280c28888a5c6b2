-- +goose NO TRANSACTION
-- +goose Up
ALTER TABLE round ADD COLUMN IF NOT EXISTS guard VARCHAR(2000) NOT NULL DEFAULT '';  -- why a guard stopped it
ALTER TABLE hold  ADD COLUMN IF NOT EXISTS steps MEDIUMTEXT NOT NULL DEFAULT '';     -- numbers of the steps that are why, JSON; '': all of the target
-- A target that was never surveyed was noted with a zero date, and counted as surveyed and empty.
UPDATE target SET surveyed_at = NULL WHERE surveyed_at < '1000-01-01';
UPDATE target SET tried_at = NULL WHERE tried_at < '1000-01-01';
UPDATE target SET reconciled_at = NULL WHERE reconciled_at < '1000-01-01';
DELETE finding FROM finding JOIN target ON target.name = finding.target WHERE target.surveyed_at IS NULL;
