-- +goose NO TRANSACTION
-- +goose Up
-- Ids that users had before: the record and the past speak of them by those.
CREATE TABLE IF NOT EXISTS renamed (
  old       VARCHAR(200) NOT NULL PRIMARY KEY,
  new       VARCHAR(200) NOT NULL,
  operator  VARCHAR(100) NOT NULL,
  at        DATETIME(6)  NOT NULL,
  KEY by_new (new, at)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
-- Nobody asked before whose these are.
ALTER TABLE suspended_account ADD KEY IF NOT EXISTS by_user (user);
ALTER TABLE archive ADD KEY IF NOT EXISTS by_user (user);
ALTER TABLE intake_person ADD KEY IF NOT EXISTS by_user (user);
ALTER TABLE screened ADD KEY IF NOT EXISTS by_user (user);
-- What a round changes against the declaration is kept until a day: the findings that it leaves are accepted until then.
ALTER TABLE round ADD COLUMN IF NOT EXISTS kept_until DATE NULL;
-- +goose Down
ALTER TABLE round DROP COLUMN kept_until;
ALTER TABLE screened DROP KEY by_user;
ALTER TABLE intake_person DROP KEY by_user;
ALTER TABLE archive DROP KEY by_user;
ALTER TABLE suspended_account DROP KEY by_user;
DROP TABLE renamed;
