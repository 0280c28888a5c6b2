-- +goose NO TRANSACTION
-- +goose Up
-- A survey is of a target at one place, and says nothing of what is at another. What steps change beyond what they name is known
-- after a survey alone: until then one is due.
ALTER TABLE target
  ADD COLUMN IF NOT EXISTS surveyed_for VARCHAR(64) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS survey_due TINYINT(1) NOT NULL DEFAULT 0;
-- Whether the last administrator of a target is shut too. What a guard kept open is looked at anew after a survey of its target.
ALTER TABLE suspension ADD COLUMN IF NOT EXISTS although_last TINYINT(1) NOT NULL DEFAULT 0;
ALTER TABLE suspended_account ADD KEY IF NOT EXISTS by_target (target, state);
-- +goose Down
ALTER TABLE suspended_account DROP KEY by_target;
ALTER TABLE suspension DROP COLUMN although_last;
ALTER TABLE target DROP COLUMN surveyed_for, DROP COLUMN survey_due;
