-- +goose NO TRANSACTION
-- +goose Up
-- Findings lie in the order in which they are looked at, and every way to choose
-- them is an index that has it too: a page costs what is on it, wherever it is.
CREATE TABLE IF NOT EXISTS finding_new (
  target    VARCHAR(200) NOT NULL,
  place     VARCHAR(450) NOT NULL,          -- where it stands among the target's, by its own doing
  id        BINARY(16)   NOT NULL,
  kind      VARCHAR(20)  NOT NULL,
  verb      VARCHAR(20)  NOT NULL,
  user      VARCHAR(200) NOT NULL,
  sum       INT UNSIGNED NOT NULL,          -- CRC-32 of the body: whether it is as it was
  body      MEDIUMBLOB   NOT NULL,          -- what the columns do not say, packed
  seen_at   DATETIME(6)  NOT NULL,          -- first seen
  PRIMARY KEY (target, place, id),
  KEY by_id (id),
  KEY by_user (user),
  KEY by_kind (kind, target, place, id)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
REPLACE INTO finding_new (target, place, id, kind, verb, user, sum, body, seen_at)
  SELECT target, place, id, kind, verb, user, CRC32(body), body, seen_at FROM finding ORDER BY target, place, id;
DROP TABLE IF EXISTS finding_old;
RENAME TABLE finding TO finding_old, finding_new TO finding;
DROP TABLE finding_old;
-- How many findings there are is counted as they come and go, not at every look.
CREATE TABLE IF NOT EXISTS finding_count (
  target    VARCHAR(200) NOT NULL,
  kind      VARCHAR(20)  NOT NULL,
  decided   TINYINT      NOT NULL,          -- 1: they have a remedy
  n         INT          NOT NULL,
  PRIMARY KEY (target, kind, decided)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
REPLACE INTO finding_count (target, kind, decided, n) SELECT target, kind, verb <> '', COUNT(*) FROM finding GROUP BY target, kind, verb <> '';
ALTER TABLE care ADD KEY IF NOT EXISTS by_until (accepted_until);
-- So is what targets hold.
CREATE TABLE IF NOT EXISTS held (
  target    VARCHAR(200) NOT NULL,
  kind      VARCHAR(20)  NOT NULL,
  n         INT          NOT NULL,
  PRIMARY KEY (target, kind)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
REPLACE INTO held (target, kind, n) SELECT target, kind, COUNT(*) FROM observed GROUP BY target, kind;
-- What a round does where is settled when it is drafted.
CREATE TABLE IF NOT EXISTS round_act (
  round     BIGINT       NOT NULL,
  target    VARCHAR(200) NOT NULL,
  what      VARCHAR(60)  NOT NULL,
  n         INT          NOT NULL,
  PRIMARY KEY (round, target, what)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
-- By what very many accounts could be somebody else's.
CREATE TABLE IF NOT EXISTS loose_sieve (
  target    VARCHAR(200) NOT NULL PRIMARY KEY,
  bits      LONGBLOB     NOT NULL           -- a Bloom filter of the marks
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
-- What lies further back in the record, in sealed parts.
CREATE TABLE IF NOT EXISTS record_part (
  first     BIGINT       NOT NULL PRIMARY KEY,
  last      BIGINT       NOT NULL,
  before_it BINARY(32)   NOT NULL,          -- hash that the first entry follows from
  hash      BINARY(32)   NOT NULL,          -- of the last entry
  body      LONGBLOB     NOT NULL,          -- entries, packed; see core/chain
  sign_key  BINARY(32)   NOT NULL,
  signature BINARY(64)   NOT NULL,
  UNIQUE KEY by_last (last)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE TABLE IF NOT EXISTS record_note (    -- of whom and what the entries of a part speak
  what      TINYINT      NOT NULL,          -- 1 kind, 2 operator, 3 target, 4 user, 5 round, 6 entry that a comment is about
  value     VARCHAR(200) NOT NULL,
  part      BIGINT       NOT NULL,          -- its first entry
  PRIMARY KEY (what, value, part)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE drift_day ADD KEY IF NOT EXISTS of_target (target, day);
-- Nobody asks for a user's steps: the record has them.
ALTER TABLE step DROP KEY IF EXISTS by_user;
