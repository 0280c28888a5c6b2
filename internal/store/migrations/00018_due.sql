-- +goose NO TRANSACTION
-- +goose Up
-- Surveys that are due are counted: one that was asked for while another reads is not done with that one.
ALTER TABLE target MODIFY survey_due INT NOT NULL DEFAULT 0;
-- +goose Down
UPDATE target SET survey_due = 1 WHERE survey_due > 1;
ALTER TABLE target MODIFY survey_due TINYINT(1) NOT NULL DEFAULT 0;
