-- +goose NO TRANSACTION
-- +goose Up
ALTER TABLE round
  ADD COLUMN IF NOT EXISTS undoes     BIGINT       NOT NULL DEFAULT 0,   -- the round this one takes back
  ADD COLUMN IF NOT EXISTS bulk       TINYINT      NOT NULL DEFAULT 0,   -- its steps were asked for, not found
  ADD COLUMN IF NOT EXISTS first      VARCHAR(100) NOT NULL DEFAULT '',  -- how the first wave was chosen
  ADD COLUMN IF NOT EXISTS params     TEXT         NOT NULL DEFAULT '',  -- overrides, JSON; '' none
  ADD COLUMN IF NOT EXISTS not_before DATETIME(6)  NULL,                 -- scheduled: not before then
  ADD COLUMN IF NOT EXISTS in_window  TINYINT      NOT NULL DEFAULT 0,   -- scheduled: only inside the targets' windows
  ADD COLUMN IF NOT EXISTS due        TINYINT      NOT NULL DEFAULT 0,   -- scheduled: waits for its time
  ADD COLUMN IF NOT EXISTS stopped_by VARCHAR(100) NOT NULL DEFAULT '';
ALTER TABLE step
  ADD COLUMN IF NOT EXISTS wave INT NOT NULL DEFAULT 1,
  ADD COLUMN IF NOT EXISTS tier INT NOT NULL DEFAULT 0;                  -- place of its target among those that feed each other
CREATE TABLE IF NOT EXISTS hold (            -- why a round may not run until somebody else approves it
  round     BIGINT       NOT NULL,
  seq       INT          NOT NULL,
  kind      VARCHAR(30)  NOT NULL,
  target    VARCHAR(200) NOT NULL,
  words     VARCHAR(2000) NOT NULL,
  firm      TINYINT      NOT NULL,           -- no approval lifts it
  PRIMARY KEY (round, seq)
);
CREATE TABLE IF NOT EXISTS decision (        -- what a person said of an account that could be somebody's
  target    VARCHAR(200) NOT NULL,
  name      VARCHAR(200) NOT NULL,
  user      VARCHAR(200) NOT NULL,
  theirs    TINYINT      NOT NULL,
  operator  VARCHAR(100) NOT NULL,
  because   VARCHAR(500) NOT NULL,
  made_at   DATETIME(6)  NOT NULL,
  PRIMARY KEY (target, name, user),
  KEY by_user (user)
);
CREATE TABLE IF NOT EXISTS care (            -- who looks after a finding: accepted for a time, assigned; outlives the finding
  target    VARCHAR(200) NOT NULL,
  id        BINARY(16)   NOT NULL,
  accepted_until DATE    NULL,
  accepted_by VARCHAR(100) NOT NULL DEFAULT '',
  because   VARCHAR(500) NOT NULL DEFAULT '',
  assigned  VARCHAR(100) NOT NULL DEFAULT '',
  at        DATETIME(6)  NOT NULL,
  PRIMARY KEY (target, id),
  KEY by_assigned (assigned)
);
CREATE TABLE IF NOT EXISTS finding_comment (
  target    VARCHAR(200) NOT NULL,
  id        BINARY(16)   NOT NULL,
  seq       INT          NOT NULL,
  operator  VARCHAR(100) NOT NULL,
  words     VARCHAR(2000) NOT NULL,
  at        DATETIME(6)  NOT NULL,
  PRIMARY KEY (target, id, seq)
);
CREATE TABLE IF NOT EXISTS mended (          -- what steps have put right, to notice when it comes back
  target    VARCHAR(200) NOT NULL,
  id        BINARY(16)   NOT NULL,           -- of the finding, whatever its kind
  times     INT          NOT NULL,
  back      INT          NOT NULL,           -- how often it came back after that
  round     BIGINT       NOT NULL,
  at        DATETIME(6)  NOT NULL,
  back_at   DATETIME(6)  NULL,
  PRIMARY KEY (target, id)
);
CREATE TABLE IF NOT EXISTS drift_day (       -- how many findings a day ended with, so far
  day       DATE         NOT NULL,
  target    VARCHAR(200) NOT NULL,
  kind      VARCHAR(20)  NOT NULL,
  n         INT          NOT NULL,
  PRIMARY KEY (day, target, kind)
);
ALTER TABLE observed ADD COLUMN IF NOT EXISTS since DATETIME(6) NOT NULL DEFAULT '2000-01-01', DROP COLUMN IF EXISTS survey;
CREATE TABLE IF NOT EXISTS observed_past (   -- what a target held before, and from when until when
  target    VARCHAR(200) NOT NULL,
  kind      VARCHAR(20)  NOT NULL,
  name      VARCHAR(200) NOT NULL,
  until     DATETIME(6)  NOT NULL,
  since     DATETIME(6)  NOT NULL,
  uniq      VARCHAR(100) NOT NULL,
  belongs   TINYINT      NOT NULL,
  body      MEDIUMBLOB   NOT NULL,
  PRIMARY KEY (target, kind, name, until)
);
CREATE TABLE IF NOT EXISTS link_past (       -- whose accounts were before
  target    VARCHAR(200) NOT NULL,
  user      VARCHAR(200) NOT NULL,
  until     DATETIME(6)  NOT NULL,
  since     DATETIME(6)  NOT NULL,
  name      VARCHAR(200) NOT NULL,
  uniq      VARCHAR(100) NOT NULL,
  PRIMARY KEY (target, user, until)
);
ALTER TABLE link ADD KEY IF NOT EXISTS by_name (target, name);
ALTER TABLE round ADD KEY IF NOT EXISTS unfinished (ended_at, state);
ALTER TABLE round ADD KEY IF NOT EXISTS by_due (due, state);
ALTER TABLE step ADD KEY IF NOT EXISTS in_phase (round, wave, tier, target, outcome);
ALTER TABLE target ADD COLUMN IF NOT EXISTS reconciled_at DATETIME(6) NULL, DROP COLUMN IF EXISTS survey;
-- The duty run was split: who had it could draft and approve.
UPDATE operator SET duties = CONCAT(duties, ',draft,approve') WHERE FIND_IN_SET('run', duties) AND NOT FIND_IN_SET('draft', duties);
ALTER TABLE finding ADD KEY IF NOT EXISTS by_id (id);
