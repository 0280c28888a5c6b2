-- +goose NO TRANSACTION
-- +goose Up
-- How many people a round concerns is settled when it is drafted, and asked at every look.
ALTER TABLE round ADD COLUMN IF NOT EXISTS people INT NOT NULL DEFAULT 0;
UPDATE round SET people = (SELECT COUNT(DISTINCT s.user) FROM step s WHERE s.round = round.id AND s.user <> '') WHERE people = 0;
-- So is how its steps stand: counted as they change, not at every look.
CREATE TABLE IF NOT EXISTS phase (
  round     BIGINT       NOT NULL,
  wave      INT          NOT NULL,
  tier      INT          NOT NULL,
  target    VARCHAR(200) NOT NULL,
  outcome   VARCHAR(20)  NOT NULL,
  writer    TINYINT      NOT NULL,          -- each of those who count has rows of their own
  n         INT          NOT NULL,          -- the sum of all writers counts
  PRIMARY KEY (round, wave, tier, target, outcome, writer)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
REPLACE INTO phase (round, wave, tier, target, outcome, writer, n)
  SELECT round, wave, tier, target, outcome, 0, COUNT(*) FROM step GROUP BY round, wave, tier, target, outcome;
-- Every outcome moved in this key twice; what never changes stays where it is.
ALTER TABLE step ADD KEY IF NOT EXISTS of_target (round, target, seq), DROP KEY IF EXISTS in_phase;
