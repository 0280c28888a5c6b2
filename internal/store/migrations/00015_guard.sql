-- +goose NO TRANSACTION
-- +goose Up
-- What is approved of the settings that guard power, and what waits, as of each revision that changed it.
CREATE TABLE IF NOT EXISTS guarded (
  thing     VARCHAR(255) NOT NULL,
  revision  INT          NOT NULL,
  body      MEDIUMTEXT   NOT NULL,
  PRIMARY KEY (thing, revision)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
-- The key of a target is accepted for one place and way of coming there; so is the one that it offered.
ALTER TABLE target
  ADD COLUMN IF NOT EXISTS accepted_for VARCHAR(64) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS offered_for  VARCHAR(64) NOT NULL DEFAULT '';
-- Who could have approved, and may no more: for a time they count as if they were there.
CREATE TABLE IF NOT EXISTS operator_parted (
  name      VARCHAR(100) NOT NULL,
  duties    TEXT         NOT NULL,
  made_at   DATETIME(6)  NOT NULL,
  at        DATETIME(6)  NOT NULL,
  PRIMARY KEY (name, at),
  KEY by_time (at)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE operator ADD COLUMN IF NOT EXISTS signed_in_at DATETIME(6) NULL;
UPDATE operator SET signed_in_at = UTC_TIMESTAMP(6) WHERE signed_in_at IS NULL;
-- Whom a system that pushes people in has brought, or was given: only those can leave by what it says. And how many did.
CREATE TABLE IF NOT EXISTS intake_person (
  source    VARCHAR(64)  NOT NULL,
  user      VARCHAR(255) NOT NULL,
  PRIMARY KEY (source, user)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE TABLE IF NOT EXISTS intake_left (
  source    VARCHAR(64)  NOT NULL,
  at        DATETIME(6)  NOT NULL,
  n         INT          NOT NULL,
  PRIMARY KEY (source, at)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
