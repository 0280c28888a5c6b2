-- How the rota database is found.
CREATE ROLE rota_owner;
CREATE DATABASE rota OWNER rota_owner;
\c rota
SET ROLE rota_owner;
CREATE TABLE shifts (day date, vessel text, hand text, berth text, PRIMARY KEY (day, vessel, hand));
CREATE TABLE hands (login text PRIMARY KEY, name text NOT NULL, ticket text);
CREATE FUNCTION hours(hand text, since date) RETURNS bigint LANGUAGE sql
  AS 'SELECT count(*) * 12 FROM shifts s WHERE s.hand = hours.hand AND s.day >= since';
RESET ROLE;
INSERT INTO shifts VALUES ('2026-11-26', 'Arctic Tern', 'kari.berg', 'deck'), ('2026-11-26', 'Sooty Tern', 'jarle.holm', 'deck');

-- Mates who plan, one of whom may do more than that.
CREATE ROLE "astrid.lindqvist" LOGIN PASSWORD 'spring tide' CREATEDB;
CREATE ROLE "chloe.lefevre" LOGIN PASSWORD 'neap tide';
CREATE ROLE "ulla.niemi" LOGIN PASSWORD 'slack water';
GRANT SELECT, INSERT, UPDATE, DELETE ON shifts TO "astrid.lindqvist", "chloe.lefevre", "ulla.niemi";
GRANT TRUNCATE ON shifts TO "ulla.niemi";

-- Left years ago: superuser, and what belongs to it is still used.
CREATE ROLE "rolf.eide" LOGIN SUPERUSER PASSWORD 'harbour1';
CREATE VIEW today AS SELECT * FROM shifts WHERE day = CURRENT_DATE;
ALTER VIEW today OWNER TO "rolf.eide";

-- Shared, its password kept as it was long ago, and good for a few days more.
SET password_encryption = 'md5';
CREATE ROLE wheelhouse LOGIN PASSWORD 'wheelhouse';
RESET password_encryption;
DO $$ BEGIN EXECUTE format('ALTER ROLE wheelhouse VALID UNTIL %L', current_date + 6); END $$;
GRANT SELECT ON shifts, hands TO wheelhouse;

CREATE ROLE "svc-rota" LOGIN PASSWORD 'kept elsewhere';
GRANT SELECT ON ALL TABLES IN SCHEMA public TO "svc-rota";
