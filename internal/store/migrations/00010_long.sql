-- +goose NO TRANSACTION
-- +goose Up
-- What grows for ever. Steps of rounds that ended long ago are kept packed.
CREATE TABLE IF NOT EXISTS step_part (
  round     BIGINT       NOT NULL,
  last      INT          NOT NULL,          -- number of its last step
  low       VARCHAR(200) NOT NULL,          -- of the targets of its steps, the first in order
  high      VARCHAR(200) NOT NULL,          -- and the last
  outcomes  VARCHAR(200) NOT NULL,          -- of its steps, comma separated
  body      MEDIUMBLOB   NOT NULL,          -- steps, packed
  PRIMARY KEY (round, last)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE round
  ADD COLUMN IF NOT EXISTS packed TINYINT NOT NULL DEFAULT 0, -- all of its steps are
  ADD KEY IF NOT EXISTS to_pack (packed, ended_at);
-- What was before is asked of a moment: of what ended since, not of all that ever was.
ALTER TABLE observed_past ADD KEY IF NOT EXISTS by_until (target, until);
ALTER TABLE link_past ADD KEY IF NOT EXISTS by_until (target, until);
ALTER TABLE member_past ADD KEY IF NOT EXISTS by_until (target, until);
-- The rows of the record are few: those of a kind, or by an operator, are looked for among them.
ALTER TABLE record DROP KEY IF EXISTS by_kind, DROP KEY IF EXISTS by_operator;
