-- +goose NO TRANSACTION
-- +goose Up
-- Systems that push people in, and what each of them has pushed. One that was taken away stays, so that its leaving is proposed.
CREATE TABLE IF NOT EXISTS intake (
  source    VARCHAR(64)  NOT NULL,
  settings  TEXT         NOT NULL,
  PRIMARY KEY (source)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
CREATE TABLE IF NOT EXISTS pushed (
  source    VARCHAR(64)  NOT NULL,
  id        VARCHAR(26)  NOT NULL,
  name      VARCHAR(255) NOT NULL,
  version   INT          NOT NULL,
  gone      TINYINT      NOT NULL,
  made      DATETIME(6)  NOT NULL,
  at        DATETIME(6)  NOT NULL,
  body      MEDIUMBLOB   NOT NULL,
  PRIMARY KEY (source, id),
  UNIQUE KEY by_name (source, name),
  KEY by_made (source, made, id),
  KEY by_time (source, at)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
