-- +goose Up
-- A survey is of a target at one place, and says nothing of what is at another.
ALTER TABLE target
  ADD COLUMN IF NOT EXISTS surveyed_for VARCHAR(64) NOT NULL DEFAULT '';
-- +goose Down
ALTER TABLE target DROP COLUMN surveyed_for;
