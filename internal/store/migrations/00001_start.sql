-- +goose NO TRANSACTION
-- +goose Up
CREATE TABLE IF NOT EXISTS operator (
  name      VARCHAR(100) NOT NULL PRIMARY KEY,
  full_name VARCHAR(200) NOT NULL,
  password  VARCHAR(200) NOT NULL,          -- argon2id, PHC string; '' cannot sign in by password
  duties    VARCHAR(200) NOT NULL,          -- comma separated
  made_at   DATETIME(6)  NOT NULL
);
CREATE TABLE IF NOT EXISTS credential (     -- browser sessions and API tokens; only hashes are kept
  hash      BINARY(32)   NOT NULL PRIMARY KEY,
  operator  VARCHAR(100) NOT NULL,
  kind      ENUM('session','token') NOT NULL,
  name      VARCHAR(100) NOT NULL,
  made_at   DATETIME(6)  NOT NULL,
  ends_at   DATETIME(6)  NOT NULL,
  used_at   DATETIME(6)  NULL,
  KEY by_operator (operator, kind, name),
  KEY by_end (ends_at)
);
CREATE TABLE IF NOT EXISTS secret (
  name      VARCHAR(100) NOT NULL PRIMARY KEY,
  sealed    BLOB         NOT NULL,
  set_at    DATETIME(6)  NOT NULL,
  set_by    VARCHAR(100) NOT NULL
);
CREATE TABLE IF NOT EXISTS revision (
  number    INT          NOT NULL PRIMARY KEY,
  files     LONGBLOB     NOT NULL,          -- JSON, gzip
  operator  VARCHAR(100) NOT NULL,
  because   VARCHAR(500) NOT NULL,
  made_at   DATETIME(6)  NOT NULL
);
CREATE TABLE IF NOT EXISTS target (
  name        VARCHAR(200) NOT NULL PRIMARY KEY,
  accepted    TEXT         NOT NULL,        -- identity key, '' before the first acceptance
  offered     TEXT         NOT NULL,        -- identity key it last showed and nobody accepted
  print       VARCHAR(100) NOT NULL,        -- fingerprint of the offered key
  state       VARCHAR(20)  NOT NULL,
  words       VARCHAR(2000) NOT NULL,
  tried_at    DATETIME(6)  NULL,
  surveyed_at DATETIME(6)  NULL,            -- the last survey that saw everything
  took_ms     INT          NOT NULL DEFAULT 0,
  survey      BIGINT       NOT NULL DEFAULT 0,
  accounts    INT          NOT NULL DEFAULT 0
);
CREATE TABLE IF NOT EXISTS observed (       -- what the last survey of each target saw
  target    VARCHAR(200) NOT NULL,
  kind      VARCHAR(20)  NOT NULL,
  name      VARCHAR(200) NOT NULL,
  uniq      VARCHAR(100) NOT NULL,
  belongs   TINYINT      NOT NULL,          -- 1: to the target itself
  body      MEDIUMBLOB   NOT NULL,          -- attributes, JSON
  survey    BIGINT       NOT NULL,
  PRIMARY KEY (target, kind, name)
);
CREATE TABLE IF NOT EXISTS link (           -- whose account it is: adopted, or made by us
  target    VARCHAR(200) NOT NULL,
  user      VARCHAR(200) NOT NULL,
  name      VARCHAR(200) NOT NULL,
  uniq      VARCHAR(100) NOT NULL,
  round     BIGINT       NOT NULL,
  since     DATETIME(6)  NOT NULL,
  PRIMARY KEY (target, user),
  KEY by_user (user)
);
CREATE TABLE IF NOT EXISTS finding (
  target    VARCHAR(200) NOT NULL,
  id        BINARY(16)   NOT NULL,
  kind      VARCHAR(20)  NOT NULL,
  verb      VARCHAR(20)  NOT NULL,
  user      VARCHAR(200) NOT NULL,
  body      MEDIUMBLOB   NOT NULL,
  place     VARCHAR(450) NOT NULL,          -- where it stands among the target's, by its own doing
  seen_at   DATETIME(6)  NOT NULL,          -- first seen
  PRIMARY KEY (target, id),
  KEY in_order (target, place),
  KEY by_user (user),
  KEY by_kind (kind, target)
);
CREATE TABLE IF NOT EXISTS round (
  id          BIGINT       NOT NULL AUTO_INCREMENT PRIMARY KEY,
  state       VARCHAR(20)  NOT NULL,
  because     VARCHAR(500) NOT NULL,
  revision    INT          NOT NULL,
  drafted_by  VARCHAR(100) NOT NULL,
  drafted_at  DATETIME(6)  NOT NULL,
  approved_by VARCHAR(100) NOT NULL DEFAULT '',
  approved_at DATETIME(6)  NULL,
  run_by      VARCHAR(100) NOT NULL DEFAULT '',
  started_at  DATETIME(6)  NULL,
  ended_at    DATETIME(6)  NULL,
  KEY by_state (state, id)
);
CREATE TABLE IF NOT EXISTS step (
  round     BIGINT       NOT NULL,
  seq       INT          NOT NULL,
  target    VARCHAR(200) NOT NULL,
  stage     INT          NOT NULL,
  verb      VARCHAR(20)  NOT NULL,
  user      VARCHAR(200) NOT NULL,
  body      MEDIUMBLOB   NOT NULL,          -- the act, JSON
  outcome   VARCHAR(20)  NOT NULL,
  words     VARCHAR(2000) NOT NULL,
  tries     INT          NOT NULL DEFAULT 0,
  started_at DATETIME(6) NULL,
  ended_at  DATETIME(6)  NULL,
  PRIMARY KEY (round, seq),
  KEY by_outcome (round, outcome),
  KEY by_user (user, round)
);
CREATE TABLE IF NOT EXISTS lease (
  what      VARCHAR(220) NOT NULL PRIMARY KEY,
  owner     VARCHAR(100) NOT NULL,
  until     DATETIME(6)  NOT NULL
);
CREATE TABLE IF NOT EXISTS record (
  seq       BIGINT       NOT NULL PRIMARY KEY,
  at        DATETIME(6)  NOT NULL,
  kind      VARCHAR(30)  NOT NULL,
  operator  VARCHAR(100) NOT NULL,
  target    VARCHAR(200) NOT NULL,
  user      VARCHAR(200) NOT NULL,
  round     BIGINT       NOT NULL,
  about     BIGINT       NOT NULL,          -- the entry a comment is about
  because   VARCHAR(500) NOT NULL,
  words     VARCHAR(2000) NOT NULL,
  body      MEDIUMBLOB   NOT NULL,          -- before and after, JSON
  before_it BINARY(32)   NOT NULL,          -- hash of the entry before
  hash      BINARY(32)   NOT NULL,
  KEY by_target (target, seq),
  KEY by_user (user, seq),
  KEY by_operator (operator, seq),
  KEY by_kind (kind, seq),
  KEY by_round (round, seq),
  KEY by_about (about, seq)
);
CREATE TABLE IF NOT EXISTS record_head (
  one       TINYINT      NOT NULL PRIMARY KEY,
  seq       BIGINT       NOT NULL,
  hash      BINARY(32)   NOT NULL
);
INSERT IGNORE INTO record_head VALUES (1, 0, REPEAT(CHAR(0), 32));
