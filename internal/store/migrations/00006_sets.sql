-- +goose NO TRANSACTION
-- +goose Up
-- Who is in the sets of a target, in pieces of some sixty: a join reads and writes its own.
CREATE TABLE IF NOT EXISTS member (
  target    VARCHAR(200) NOT NULL,
  kind      VARCHAR(20)  NOT NULL,          -- of the set
  name      VARCHAR(200) NOT NULL,
  mkind     VARCHAR(20)  NOT NULL,          -- of the members
  first     VARCHAR(200) NOT NULL,          -- the piece holds those from here on, up to the next; '': from the beginning
  last      VARCHAR(200) NOT NULL,          -- its last member
  body      MEDIUMBLOB   NOT NULL,          -- names, packed
  since     DATETIME(6)  NOT NULL,
  PRIMARY KEY (target, kind, name, mkind, first),
  KEY in_what (target, mkind, first, last)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE TABLE IF NOT EXISTS member_past (
  target    VARCHAR(200) NOT NULL,
  kind      VARCHAR(20)  NOT NULL,
  name      VARCHAR(200) NOT NULL,
  mkind     VARCHAR(20)  NOT NULL,
  first     VARCHAR(100) NOT NULL,          -- the beginning of it is enough to tell pieces apart with their time
  until     DATETIME(6)  NOT NULL,
  since     DATETIME(6)  NOT NULL,
  body      MEDIUMBLOB   NOT NULL,
  KEY of_set (target, kind, name, until)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE observed ADD KEY IF NOT EXISTS by_unique (target, uniq);
-- Who can become superuser, and what is shut, is noted beside the attributes: nobody searches inside them.
UPDATE observed SET belongs = belongs | 8 WHERE kind = 'account' AND (INSTR(body, CONCAT(CHAR(9), 'elevation')) > 0 OR LEFT(body, 1) = '{' AND INSTR(body, '"elevation":[') > 0);
UPDATE observed SET belongs = belongs | 16 WHERE kind = 'account' AND (INSTR(body, CONCAT(CHAR(8), 'disabled', CHAR(4), CHAR(3), 'yes')) > 0 OR LEFT(body, 1) = '{' AND INSTR(body, '"disabled":["yes"]') > 0);
ALTER TABLE observed ADD KEY IF NOT EXISTS by_note (target, kind, belongs);
-- A person may have several accounts on a target, whose names differ in what comes behind the login.
ALTER TABLE link ADD COLUMN IF NOT EXISTS rest VARCHAR(200) NOT NULL DEFAULT '' AFTER name, DROP PRIMARY KEY, ADD PRIMARY KEY (target, user, rest);
ALTER TABLE link_past ADD COLUMN IF NOT EXISTS rest VARCHAR(200) NOT NULL DEFAULT '' AFTER name, DROP PRIMARY KEY, ADD PRIMARY KEY (target, user, rest, until);
-- Joining and leaving is the same act for every kind of set.
UPDATE step SET verb = SUBSTRING_INDEX(verb, ' ', 1),
  body = REPLACE(REPLACE(REPLACE(body, '"object":"membership"', '"object":"group"'), '"verb":"join group"', '"verb":"join"'), '"verb":"leave group"', '"verb":"leave"')
  WHERE verb IN ('join group', 'leave group');
UPDATE finding SET verb = SUBSTRING_INDEX(verb, ' ', 1),
  body = REPLACE(REPLACE(REPLACE(body, '"object":"membership"', '"object":"group"'), '"verb":"join group"', '"verb":"join"'), '"verb":"leave group"', '"verb":"leave"')
  WHERE verb IN ('join group', 'leave group');
UPDATE finding SET place = LEFT(CONCAT('0group ', SUBSTRING(place, 2)), 450) WHERE LEFT(place, 1) = '0';
UPDATE finding SET place = LEFT(CONCAT('2group ', TRIM(TRAILING ' group' FROM SUBSTRING(place, 2))), 450) WHERE LEFT(place, 1) = '2';
-- What a step is done to has a column: it is counted.
ALTER TABLE step ADD COLUMN IF NOT EXISTS object VARCHAR(20) NOT NULL DEFAULT '' AFTER verb;
UPDATE step SET object = COALESCE(JSON_VALUE(CONVERT(body USING utf8mb4), '$.object'), '') WHERE object = '';
ALTER TABLE step
  ADD COLUMN IF NOT EXISTS trial_token VARCHAR(200) NOT NULL DEFAULT '',  -- of the trial on which the target took it last
  ADD COLUMN IF NOT EXISTS trial_until DATETIME(6) NULL;
CREATE TABLE IF NOT EXISTS sealed (          -- values that acts set and nobody reads: passwords
  id        CHAR(26)     NOT NULL PRIMARY KEY,
  body      MEDIUMBLOB   NOT NULL,
  at        DATETIME(6)  NOT NULL
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
-- From where a survey can go on: the target's own mark, what it was read by, and when everything was read last.
ALTER TABLE target
  ADD COLUMN IF NOT EXISTS mark     TEXT        NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS mark_of  VARCHAR(64) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS whole_at DATETIME(6) NULL;
