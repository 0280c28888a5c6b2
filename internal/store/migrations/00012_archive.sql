-- +goose NO TRANSACTION
-- +goose Up
-- Homes of those who were removed, fetched from their targets and sealed here until their last day.
CREATE TABLE IF NOT EXISTS archive (
  id        BIGINT       NOT NULL AUTO_INCREMENT PRIMARY KEY,
  target    VARCHAR(200) NOT NULL,
  file      VARCHAR(200) NOT NULL,          -- what it is called there; '' until it was fetched
  account   VARCHAR(200) NOT NULL,
  number    VARCHAR(20)  NOT NULL,
  user      VARCHAR(200) NOT NULL,          -- '' when it was nobody's that is declared
  bytes     BIGINT       NOT NULL DEFAULT 0,
  sum       BINARY(32)   NULL,              -- SHA-256 of what was fetched
  state     VARCHAR(20)  NOT NULL,          -- awaited, kept or returned
  words     VARCHAR(1000) NOT NULL DEFAULT '', -- why it is still awaited
  at        DATETIME(6)  NOT NULL,
  until     DATETIME(6)  NULL,              -- after which it is forgotten
  KEY by_state (state, target),
  KEY by_target (target, id),
  KEY by_until (until)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE TABLE IF NOT EXISTS archive_piece (
  archive   BIGINT       NOT NULL,
  seq       INT          NOT NULL,
  body      MEDIUMBLOB   NOT NULL,          -- a stretch of the sealed file
  PRIMARY KEY (archive, seq)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
