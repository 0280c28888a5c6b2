-- +goose NO TRANSACTION
-- +goose Up
CREATE TABLE IF NOT EXISTS piece (           -- of the files of revisions, which share what they have in common
  sum       BINARY(32)   NOT NULL PRIMARY KEY, -- SHA-256 of the text
  text      LONGBLOB     NOT NULL            -- deflate (RFC 1951)
);
CREATE TABLE IF NOT EXISTS loose (           -- by what an account could be somebody else's, or stand in their way
  target    VARCHAR(200) NOT NULL,
  mark      BIGINT UNSIGNED NOT NULL,        -- a hash; 0: too many to list
  PRIMARY KEY (mark, target),
  KEY by_target (target)
);
ALTER TABLE target
  ADD COLUMN IF NOT EXISTS compared    INT    NOT NULL DEFAULT 0,  -- the revision its findings are of; 0: they may be stale
  ADD COLUMN IF NOT EXISTS compared_on DATE   NULL,                -- and the day
  ADD COLUMN IF NOT EXISTS comparisons BIGINT NOT NULL DEFAULT 0;  -- counts up with each, so that nobody builds on an older one
ALTER TABLE round ADD COLUMN IF NOT EXISTS lost MEDIUMTEXT NOT NULL DEFAULT '';  -- of an undo: what it cannot bring back, a line each
ALTER TABLE step DROP KEY IF EXISTS by_outcome; -- every outcome moved in it twice; in_phase finds as well
