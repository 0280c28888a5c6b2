-- How the stores database is found: everybody who was let in since it was set up.
CREATE DATABASE stores CHARACTER SET utf8mb4;
USE stores;
CREATE TABLE items (id INT PRIMARY KEY, name VARCHAR(80) NOT NULL, berth VARCHAR(20), amount INT NOT NULL DEFAULT 0);
CREATE TABLE orders (id INT AUTO_INCREMENT PRIMARY KEY, item INT NOT NULL, amount INT NOT NULL, due DATE, ordered_by VARCHAR(80));
CREATE PROCEDURE receive(wanted INT) MODIFIES SQL DATA UPDATE items, orders SET items.amount = items.amount + orders.amount
  WHERE orders.id = wanted AND items.id = orders.item;
INSERT INTO items VALUES (1, 'mooring line, 40 m', 'N-12', 6), (2, 'life jacket, child', 'N-03', 44), (3, 'diesel filter', 'S-01', 9);

-- The bosuns. One has two accounts that may do different things, and the nearer one may do everything.
CREATE USER 'gunnar.holt'@'10.20.%' IDENTIFIED VIA ed25519 USING PASSWORD('a line too short') WITH MAX_USER_CONNECTIONS 5;
GRANT SELECT, INSERT ON stores.* TO 'gunnar.holt'@'10.20.%';
CREATE USER 'gunnar.holt'@'%' IDENTIFIED BY 'a line too short';
GRANT ALL ON stores.* TO 'gunnar.holt'@'%' WITH GRANT OPTION;
CREATE USER 'stefan.kral'@'10.20.%' IDENTIFIED VIA ed25519 USING PASSWORD('fender, fender');
GRANT ALL ON stores.* TO 'stefan.kral'@'10.20.%';

-- Looks up what is in stock, from a desk that is long gone.
CREATE USER 'ines.moreau'@'localhost' IDENTIFIED VIA ed25519 USING PASSWORD('rigging screw');
GRANT SELECT ON stores.items TO 'ines.moreau'@'localhost';

-- The engineers look up filters and hoses.
CREATE USER 'lars.nygaard'@'10.20.%' IDENTIFIED VIA ed25519 USING PASSWORD('oil, lars.nygaard');
CREATE USER 'olga.petrova'@'10.20.%' IDENTIFIED VIA ed25519 USING PASSWORD('oil, olga.petrova');
CREATE USER 'miguel.pena'@'10.20.%' IDENTIFIED VIA ed25519 USING PASSWORD('oil, miguel.pena');
CREATE USER 'koji'@'10.20.%' IDENTIFIED VIA ed25519 USING PASSWORD('oil, koji');
CREATE USER 'eilidh.grant'@'10.20.%' IDENTIFIED VIA ed25519 USING PASSWORD('oil, eilidh.grant');
CREATE USER 'torvald.eide'@'10.20.%' IDENTIFIED VIA ed25519 USING PASSWORD('oil, torvald.eide');
CREATE USER 'zoe.brontee'@'10.20.%' IDENTIFIED VIA ed25519 USING PASSWORD('oil, zoe.brontee');
GRANT SELECT ON stores.* TO 'lars.nygaard'@'10.20.%', 'olga.petrova'@'10.20.%',
  'miguel.pena'@'10.20.%', 'koji'@'10.20.%', 'eilidh.grant'@'10.20.%',
  'torvald.eide'@'10.20.%', 'zoe.brontee'@'10.20.%';

-- Left years ago, and can still become anything.
CREATE USER 'rolf.eide'@'%' IDENTIFIED BY 'harbour1';
GRANT ALL ON *.* TO 'rolf.eide'@'%' WITH GRANT OPTION;
CREATE DEFINER='rolf.eide'@'%' VIEW stores.low AS SELECT name, amount FROM stores.items WHERE amount < 10;

-- Shared, without a password, and nobody's.
CREATE USER 'stores'@'%';
GRANT SELECT, INSERT, UPDATE, DELETE ON stores.* TO 'stores'@'%';
CREATE USER ''@'localhost';

-- What the service itself runs as.
CREATE USER 'svc-stock'@'10.20.9.1' IDENTIFIED VIA ed25519 USING PASSWORD('kept elsewhere');
GRANT SELECT, INSERT, UPDATE, DELETE, EXECUTE ON stores.* TO 'svc-stock'@'10.20.9.1';
