-- +goose NO TRANSACTION
-- +goose Up
-- Names are told apart by every byte, by case and by spaces at their ends too, whatever the database was made with.
ALTER TABLE care CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE credential CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE decision CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE drift_day CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE finding CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE finding_comment CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE guess CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE hold CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE known_origin CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE lease CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE link CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE link_past CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE loose CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE mended CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE observed CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE observed_past CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE operator CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE piece CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE record CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE record_aside CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE record_head CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE revision CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE round CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE secret CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE step CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
ALTER TABLE target CONVERT TO CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
