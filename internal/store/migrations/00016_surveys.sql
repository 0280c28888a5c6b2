-- +goose Up
-- A survey is of a target at one place, and says nothing of what is at another. What steps change beyond what they name is known
-- after a survey alone: until then one is due.
ALTER TABLE target
  ADD COLUMN IF NOT EXISTS surveyed_for VARCHAR(64) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS survey_due TINYINT(1) NOT NULL DEFAULT 0;
-- +goose Down
ALTER TABLE target DROP COLUMN surveyed_for, DROP COLUMN survey_due;
