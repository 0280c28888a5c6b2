-- +goose NO TRANSACTION
-- +goose Up
-- What makes accounts again that a step has removed: sealed, since how their passwords are kept is in it.
CREATE TABLE IF NOT EXISTS removed (
  round     BIGINT       NOT NULL,
  seq       INT          NOT NULL,
  body      MEDIUMBLOB   NOT NULL,
  at        DATETIME(6)  NOT NULL,
  PRIMARY KEY (round, seq),
  KEY by_at (at)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
