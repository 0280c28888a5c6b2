-- +goose NO TRANSACTION
-- +goose Up
ALTER TABLE round ADD COLUMN IF NOT EXISTS guard VARCHAR(2000) NOT NULL DEFAULT '';  -- why a guard stopped it
ALTER TABLE hold  ADD COLUMN IF NOT EXISTS steps MEDIUMTEXT NOT NULL DEFAULT '';     -- numbers of the steps that are why, JSON; '': all of the target
-- A target that was never surveyed was noted with a zero date, and counted as surveyed and empty.
UPDATE target SET surveyed_at = NULL WHERE surveyed_at < '1000-01-01';
UPDATE target SET tried_at = NULL WHERE tried_at < '1000-01-01';
UPDATE target SET reconciled_at = NULL WHERE reconciled_at < '1000-01-01';
DELETE finding FROM finding JOIN target ON target.name = finding.target WHERE target.surveyed_at IS NULL;
ALTER TABLE operator
  ADD COLUMN IF NOT EXISTS given_by VARCHAR(1000) NOT NULL DEFAULT '', -- who made them, or gave them duties or a password, and who did that for those, comma separated
  ADD COLUMN IF NOT EXISTS given_at DATETIME(6) NULL;                  -- when, last; NULL: long ago, or confirmed
CREATE TABLE IF NOT EXISTS guess (           -- failed sign-ins, and those that are being looked at
  name      VARCHAR(100) NOT NULL,           -- '': of the address, whatever the name
  origin    VARCHAR(64)  NOT NULL,           -- address; '': of the name, from addresses it is not known from
  n         INT          NOT NULL,
  until     DATETIME(6)  NOT NULL,           -- no more before then
  print     BINARY(16)   NOT NULL,           -- of the last wrong password, under the service's key
  PRIMARY KEY (name, origin),
  KEY by_until (until)
);
CREATE TABLE IF NOT EXISTS known_origin (    -- addresses from which operators have signed in
  name      VARCHAR(100) NOT NULL,
  origin    VARCHAR(64)  NOT NULL,
  at        DATETIME(6)  NOT NULL,
  PRIMARY KEY (name, origin)
);
CREATE TABLE IF NOT EXISTS record_aside (    -- rows that stood behind the record's head though no service wrote them
  found_at  DATETIME(6)  NOT NULL,
  seq       BIGINT       NOT NULL,
  at        DATETIME(6)  NOT NULL,
  kind      VARCHAR(30)  NOT NULL,
  operator  VARCHAR(100) NOT NULL,
  words     VARCHAR(2000) NOT NULL,
  body      MEDIUMBLOB   NOT NULL,
  PRIMARY KEY (found_at, seq)
);
