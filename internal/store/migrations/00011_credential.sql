-- +goose NO TRANSACTION
-- +goose Up
-- New credentials that wait to be collected once by their people. What is in them lies in sealed, until then.
CREATE TABLE IF NOT EXISTS handover (
  id        BIGINT       NOT NULL AUTO_INCREMENT PRIMARY KEY,
  user      VARCHAR(200) NOT NULL,
  what      VARCHAR(20)  NOT NULL,            -- password, key
  state     VARCHAR(20)  NOT NULL,            -- made, waiting, collected, expired, withdrawn, not set
  batch     VARCHAR(100) NOT NULL DEFAULT '',
  aloud     TINYINT      NOT NULL DEFAULT 0,
  given     TINYINT      NOT NULL DEFAULT 0,  -- its person has it already: nobody need collect it
  keeps     TINYINT      NOT NULL DEFAULT 0,  -- it need not be changed at the first sign-in
  sealed    VARCHAR(40)  NOT NULL DEFAULT '', -- '': not made yet, or gone
  operator  VARCHAR(100) NOT NULL,
  because   VARCHAR(500) NOT NULL,
  made_at   DATETIME(6)  NOT NULL,
  lasts     INT          NOT NULL,            -- seconds that it waits
  expires_at DATETIME(6) NULL,                -- since it waits
  link      BINARY(32)   NULL,                -- of what the link holds, a hash
  code      BINARY(32)   NULL,                -- and of what is told beside it
  tries     INT          NOT NULL DEFAULT 0,  -- with a wrong code
  ended_at  DATETIME(6)  NULL,
  ended_by  VARCHAR(300) NOT NULL DEFAULT '', -- who collected or withdrew it, or why it ended
  UNIQUE KEY by_link (link),
  KEY by_user (user, id),
  KEY by_state (state, id),
  KEY by_expiry (state, expires_at),
  KEY by_made (state, sealed),
  KEY by_batch (batch, id),
  KEY by_sealed (sealed)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE TABLE IF NOT EXISTS handover_account (
  handover  BIGINT       NOT NULL,
  target    VARCHAR(200) NOT NULL,
  name      VARCHAR(200) NOT NULL,
  round     BIGINT       NOT NULL,
  state     VARCHAR(20)  NOT NULL,            -- waiting, proved, set, not set
  words     VARCHAR(1000) NOT NULL DEFAULT '',
  at        DATETIME(6)  NULL,
  PRIMARY KEY (handover, target, name),
  KEY by_state (state, round)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
-- Handovers of many, sealed for those who will give them out: nobody else can read them.
CREATE TABLE IF NOT EXISTS handover_file (
  id        BIGINT       NOT NULL AUTO_INCREMENT PRIMARY KEY,
  batch     VARCHAR(100) NOT NULL,
  operator  VARCHAR(100) NOT NULL,
  made_at   DATETIME(6)  NOT NULL,
  recipients VARCHAR(2000) NOT NULL,
  people    INT          NOT NULL,
  body      MEDIUMBLOB   NOT NULL
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
-- Client certificates of our own authority, and those of them that are let in no more.
CREATE TABLE IF NOT EXISTS certificate (
  serial    VARCHAR(40)  NOT NULL PRIMARY KEY,
  handover  BIGINT       NOT NULL,
  user      VARCHAR(200) NOT NULL,
  until     DATETIME(6)  NOT NULL,
  withdrawn_at DATETIME(6) NULL,
  held      TINYINT      NOT NULL DEFAULT 0,  -- for the time of a suspension only
  KEY by_user (user, until),
  KEY by_withdrawn (withdrawn_at, until),
  KEY by_until (until)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
-- How often somebody took a password that should not be used, where that is watched only.
CREATE TABLE IF NOT EXISTS screened (
  week      DATE         NOT NULL,            -- its Monday
  user      VARCHAR(200) NOT NULL,
  policy    VARCHAR(200) NOT NULL,
  n         INT          NOT NULL,
  PRIMARY KEY (week, user, policy)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE TABLE IF NOT EXISTS screened_told (
  week      DATE         NOT NULL PRIMARY KEY
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
UPDATE operator SET duties = CONCAT(duties, ',credential') WHERE FIND_IN_SET('administer', duties) AND NOT FIND_IN_SET('credential', duties);
