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
-- What was before lies in the order in which it ended: what a target held at a moment costs what changed since, not all that ever was.
ALTER TABLE observed_past DROP PRIMARY KEY, ADD PRIMARY KEY (target, until, kind, name), ADD KEY IF NOT EXISTS of_object (target, kind, name, until);
ALTER TABLE link_past DROP PRIMARY KEY, ADD PRIMARY KEY (target, until, user, rest);
ALTER TABLE member_past ADD KEY IF NOT EXISTS by_until (target, until);
-- The rows of the record are few: those of a kind, or by an operator, are looked for among them.
ALTER TABLE record DROP KEY IF EXISTS by_kind, DROP KEY IF EXISTS by_operator;
-- Who was cut off, and each of their accounts: what became of it, and when it is tried again.
CREATE TABLE IF NOT EXISTS suspension (
  id        BIGINT       NOT NULL AUTO_INCREMENT PRIMARY KEY,
  user      VARCHAR(200) NOT NULL,
  active    TINYINT      NULL DEFAULT 1,    -- NULL: it has ended; a user has one at a time
  operator  VARCHAR(100) NOT NULL,
  because   VARCHAR(500) NOT NULL,
  security  TINYINT      NOT NULL,          -- its end needs two persons
  at        DATETIME(6)  NOT NULL,
  revision  INT          NOT NULL DEFAULT 0, -- that says so; 0: not yet
  undeclared VARCHAR(1000) NOT NULL DEFAULT '', -- why not
  asked_by  VARCHAR(100) NOT NULL DEFAULT '', -- who wants it to end
  ended_by  VARCHAR(100) NOT NULL DEFAULT '',
  ended_because VARCHAR(500) NOT NULL DEFAULT '',
  ended_at  DATETIME(6)  NULL,
  round     BIGINT       NOT NULL DEFAULT 0, -- that opened the accounts again
  UNIQUE KEY one (user, active),
  KEY by_user (user, id),
  KEY undeclared (active, revision)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE TABLE IF NOT EXISTS suspended_account (
  suspension BIGINT      NOT NULL,
  target    VARCHAR(200) NOT NULL,
  name      VARCHAR(200) NOT NULL,
  user      VARCHAR(200) NOT NULL,
  state     VARCHAR(20)  NOT NULL,          -- waiting, shut, open, refused
  guessed   TINYINT      NOT NULL DEFAULT 0, -- it is declared to be theirs, and nobody has seen that it is
  begun     TINYINT      NOT NULL DEFAULT 0, -- it was tried, or was about to be
  before_it VARCHAR(20)  NOT NULL DEFAULT '', -- shut: it was so before
  proof     VARCHAR(20)  NOT NULL DEFAULT '', -- what a sign-in showed: refused, admitted, unknown
  words     VARCHAR(1000) NOT NULL DEFAULT '',
  sessions  INT          NOT NULL DEFAULT 0, -- ended
  tries     INT          NOT NULL DEFAULT 0,
  tried_at  DATETIME(6)  NULL,
  due_at    DATETIME(6)  NULL,              -- NULL: it is not tried again
  ended_at  DATETIME(6)  NULL,
  PRIMARY KEY (suspension, target, name),
  KEY by_due (due_at)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
UPDATE operator SET duties = CONCAT(duties, ',suspend,restore') WHERE FIND_IN_SET('administer', duties) AND NOT FIND_IN_SET('suspend', duties);
