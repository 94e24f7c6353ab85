-- What is found by what it has in common with another record, beside the lists in records, and kept by the database itself.
CREATE TABLE members (of_group TEXT NOT NULL, user TEXT NOT NULL, PRIMARY KEY (of_group, user)) STRICT, WITHOUT ROWID;
INSERT INTO members (of_group, user) SELECT DISTINCT value, name FROM users, json_each(users.groups);
CREATE TRIGGER members_added AFTER INSERT ON users BEGIN
  INSERT INTO members (of_group, user) SELECT DISTINCT value, NEW.name FROM json_each(NEW.groups);
END;
CREATE TRIGGER members_changed AFTER UPDATE OF groups, name ON users WHEN OLD.groups IS NOT NEW.groups OR OLD.name IS NOT NEW.name BEGIN
  DELETE FROM members WHERE user = OLD.name AND of_group IN (SELECT value FROM json_each(OLD.groups));
  INSERT INTO members (of_group, user) SELECT DISTINCT value, NEW.name FROM json_each(NEW.groups);
END;
CREATE TRIGGER members_removed AFTER DELETE ON users BEGIN
  DELETE FROM members WHERE user = OLD.name AND of_group IN (SELECT value FROM json_each(OLD.groups));
END;

-- Credentials that are not revoked, by each gateway at which they may come in: by a way of their own, or wherever their proof is taken.
CREATE TABLE admitted (gateway TEXT NOT NULL, credential TEXT NOT NULL, PRIMARY KEY (gateway, credential)) STRICT, WITHOUT ROWID;
INSERT INTO admitted (gateway, credential)
  SELECT substr(way.value, 1, instr(way.value, '/') - 1), credentials.name
    FROM credentials, json_tree(credentials.ways) AS way WHERE way.key = 'listener' AND credentials.revoked IS NULL
  UNION
  SELECT gate.value, credentials.name FROM credentials, json_each(credentials.gateways) AS gate WHERE credentials.revoked IS NULL;
CREATE TRIGGER admitted_added AFTER INSERT ON credentials WHEN NEW.revoked IS NULL BEGIN
  INSERT INTO admitted (gateway, credential)
    SELECT substr(value, 1, instr(value, '/') - 1), NEW.name FROM json_tree(NEW.ways) WHERE key = 'listener'
    UNION SELECT value, NEW.name FROM json_each(NEW.gateways);
END;
CREATE TRIGGER admitted_changed AFTER UPDATE OF name, ways, gateways, revoked ON credentials
WHEN OLD.name IS NOT NEW.name OR OLD.ways IS NOT NEW.ways OR OLD.gateways IS NOT NEW.gateways OR OLD.revoked IS NOT NEW.revoked BEGIN
  DELETE FROM admitted WHERE credential = OLD.name AND gateway IN (
    SELECT substr(value, 1, instr(value, '/') - 1) FROM json_tree(OLD.ways) WHERE key = 'listener'
    UNION SELECT value FROM json_each(OLD.gateways));
  INSERT INTO admitted (gateway, credential)
    SELECT substr(value, 1, instr(value, '/') - 1), NEW.name FROM json_tree(NEW.ways) WHERE key = 'listener' AND NEW.revoked IS NULL
    UNION SELECT value, NEW.name FROM json_each(NEW.gateways) WHERE NEW.revoked IS NULL;
END;
CREATE TRIGGER admitted_removed AFTER DELETE ON credentials BEGIN
  DELETE FROM admitted WHERE credential = OLD.name AND gateway IN (
    SELECT substr(value, 1, instr(value, '/') - 1) FROM json_tree(OLD.ways) WHERE key = 'listener'
    UNION SELECT value FROM json_each(OLD.gateways));
END;

-- Revocations only grow, and so does this; where they name other gateways after a rename, they are written anew.
CREATE TABLE kept_out (gateway TEXT NOT NULL, revocation TEXT NOT NULL, PRIMARY KEY (gateway, revocation)) STRICT, WITHOUT ROWID;
INSERT INTO kept_out (gateway, revocation) SELECT DISTINCT value, name FROM revocations, json_each(revocations.gateways);
CREATE TRIGGER kept_out_added AFTER INSERT ON revocations BEGIN
  INSERT INTO kept_out (gateway, revocation) SELECT DISTINCT value, NEW.name FROM json_each(NEW.gateways);
END;
CREATE TRIGGER kept_out_changed AFTER UPDATE OF gateways ON revocations WHEN OLD.gateways IS NOT NEW.gateways BEGIN
  DELETE FROM kept_out WHERE revocation = OLD.name AND gateway IN (SELECT value FROM json_each(OLD.gateways));
  INSERT INTO kept_out (gateway, revocation) SELECT DISTINCT value, NEW.name FROM json_each(NEW.gateways);
END;

-- Addresses as numbers, and from where on the next free one of a pool is looked for: below it, from the pool's first on, each is in a row.
CREATE TABLE addresses_now (
  name TEXT PRIMARY KEY,
  listener TEXT NOT NULL REFERENCES listeners(name),
  inner TEXT NOT NULL,
  -- The credential may be gone, and its address still held.
  credential TEXT NOT NULL,
  leased INTEGER NOT NULL,
  held_until TEXT,
  number INTEGER NOT NULL
) STRICT;
INSERT INTO addresses_now SELECT name, listener, inner, credential, leased, held_until, (
  WITH a (first, rest) AS (SELECT CAST(inner AS INTEGER), substr(inner, instr(inner, '.') + 1)),
  b (first, second, rest) AS (SELECT first, CAST(rest AS INTEGER), substr(rest, instr(rest, '.') + 1) FROM a)
  SELECT ((first * 256 + second) * 256 + CAST(rest AS INTEGER)) * 256 + CAST(substr(rest, instr(rest, '.') + 1) AS INTEGER) FROM b)
  FROM addresses;
DROP TABLE addresses;
ALTER TABLE addresses_now RENAME TO addresses;
CREATE UNIQUE INDEX addresses_by_number ON addresses(listener, number);
CREATE INDEX addresses_by_credential ON addresses(credential);
CREATE INDEX addresses_by_held ON addresses(listener, held_until, number) WHERE held_until IS NOT NULL;
CREATE TABLE address_marks (
  listener TEXT NOT NULL, first INTEGER NOT NULL, lowest INTEGER NOT NULL, PRIMARY KEY (listener, first)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER address_marks_back AFTER DELETE ON addresses BEGIN
  UPDATE address_marks SET lowest = min(lowest, OLD.number) WHERE listener = OLD.listener AND first <= OLD.number;
END;

-- An order is whole, or amends the one before it; its text is kept as it was signed, and of old ones only the hash.
CREATE TABLE orders_now (
  name TEXT PRIMARY KEY,
  gateway TEXT NOT NULL,
  number INTEGER NOT NULL,
  base INTEGER NOT NULL,
  hash TEXT NOT NULL,
  size INTEGER NOT NULL,
  amended INTEGER NOT NULL,
  made TEXT NOT NULL,
  received TEXT,
  signature TEXT NOT NULL,
  successor_signature TEXT,
  -- Everything that a whole order says but of people; nothing where an earlier version made it.
  settings TEXT
) STRICT;
INSERT INTO orders_now SELECT name, gateway, number, number, hash, length(json_extract(envelope, '$.order')), 0, made, received,
  json_extract(envelope, '$.signature'), json_extract(envelope, '$.successor_signature'), NULL FROM orders;
-- Apart: a row is written whole, and what is noted of an order later is little.
CREATE TABLE order_texts (name TEXT PRIMARY KEY, text TEXT NOT NULL) STRICT;
INSERT INTO order_texts (name, text) SELECT name, json_extract(envelope, '$.order') FROM orders;
DROP TABLE orders;
ALTER TABLE orders_now RENAME TO orders;
CREATE INDEX orders_by_gateway ON orders(gateway, number);
-- Whether a gateway's agent takes amendments, as far as it has said so.
ALTER TABLE gateways ADD COLUMN amends INTEGER NOT NULL DEFAULT 0;

-- What each command did to records, compressed; as text where an earlier version wrote it.
ALTER TABLE changes ADD COLUMN packed BLOB;
-- Of what most have nothing, only what is there.
DROP INDEX users_by_alias;
CREATE UNIQUE INDEX users_by_alias ON users(alias) WHERE alias IS NOT NULL;
DROP INDEX credentials_by_account;
CREATE INDEX credentials_by_account ON credentials(json_extract(account, '$.name')) WHERE account IS NOT NULL;
-- How many live credentials a user has costs no look at any of them.
CREATE INDEX credentials_live_by_user ON credentials(user) WHERE revoked IS NULL;
DROP INDEX credentials_by_expires;
CREATE INDEX credentials_by_expires ON credentials(expires) WHERE revoked IS NULL AND expires IS NOT NULL;

-- Whose entries in the next order of a gateway may be other than in its newest; '*' for anybody's. Whoever makes an order takes out whom it is about.
CREATE TABLE pending (gateway TEXT NOT NULL, device TEXT NOT NULL, PRIMARY KEY (gateway, device)) STRICT, WITHOUT ROWID;
INSERT INTO pending (gateway, device) SELECT name, '*' FROM gateways;
CREATE TRIGGER pending_gateway AFTER INSERT ON gateways BEGIN INSERT INTO pending (gateway, device) VALUES (NEW.name, '*') ON CONFLICT DO NOTHING; END;
CREATE TRIGGER pending_issued AFTER INSERT ON credentials BEGIN
  INSERT INTO pending (gateway, device)
    SELECT substr(value, 1, instr(value, '/') - 1), NEW.device FROM json_tree(NEW.ways) WHERE key = 'listener'
    UNION SELECT value, NEW.device FROM json_each(NEW.gateways) WHERE true ON CONFLICT DO NOTHING;
END;
CREATE TRIGGER pending_changed AFTER UPDATE OF device, user, identity, kind, ways, account, gateways, fixed, once, valid_from, expires, revoked
ON credentials WHEN OLD.device IS NOT NEW.device OR OLD.user IS NOT NEW.user OR OLD.identity IS NOT NEW.identity OR OLD.kind IS NOT NEW.kind
  OR OLD.ways IS NOT NEW.ways OR OLD.account IS NOT NEW.account OR OLD.gateways IS NOT NEW.gateways OR OLD.fixed IS NOT NEW.fixed
  OR OLD.once IS NOT NEW.once OR OLD.valid_from IS NOT NEW.valid_from OR OLD.expires IS NOT NEW.expires OR OLD.revoked IS NOT NEW.revoked
BEGIN
  INSERT INTO pending (gateway, device)
    SELECT substr(value, 1, instr(value, '/') - 1), OLD.device FROM json_tree(OLD.ways) WHERE key = 'listener'
    UNION SELECT substr(value, 1, instr(value, '/') - 1), NEW.device FROM json_tree(NEW.ways) WHERE key = 'listener'
    UNION SELECT value, OLD.device FROM json_each(OLD.gateways)
    UNION SELECT value, NEW.device FROM json_each(NEW.gateways) WHERE true ON CONFLICT DO NOTHING;
END;
CREATE TRIGGER pending_removed AFTER DELETE ON credentials BEGIN
  INSERT INTO pending (gateway, device)
    SELECT substr(value, 1, instr(value, '/') - 1), OLD.device FROM json_tree(OLD.ways) WHERE key = 'listener'
    UNION SELECT value, OLD.device FROM json_each(OLD.gateways) WHERE true ON CONFLICT DO NOTHING;
END;
CREATE TRIGGER pending_state AFTER UPDATE OF state ON users WHEN OLD.state IS NOT NEW.state BEGIN
  INSERT INTO pending (gateway, device)
    SELECT substr(way.value, 1, instr(way.value, '/') - 1), credentials.device
      FROM credentials, json_tree(credentials.ways) AS way WHERE credentials.user = NEW.name AND way.key = 'listener'
    UNION SELECT gate.value, credentials.device FROM credentials, json_each(credentials.gateways) AS gate WHERE credentials.user = NEW.name
    ON CONFLICT DO NOTHING;
END;
CREATE TRIGGER pending_revoked AFTER INSERT ON revocations BEGIN
  INSERT INTO pending (gateway, device) SELECT DISTINCT value, NEW.device FROM json_each(NEW.gateways) WHERE true ON CONFLICT DO NOTHING;
END;
CREATE TRIGGER pending_revoked_otherwise AFTER UPDATE OF device, reason, gateways ON revocations
WHEN OLD.device IS NOT NEW.device OR OLD.reason IS NOT NEW.reason OR OLD.gateways IS NOT NEW.gateways BEGIN
  INSERT INTO pending (gateway, device)
    SELECT value, NEW.device FROM json_each(NEW.gateways) UNION SELECT value, OLD.device FROM json_each(OLD.gateways) WHERE true ON CONFLICT DO NOTHING;
END;

-- What devices were told, and how many of each: most of a listener were told the same.
CREATE TABLE told_texts (told TEXT PRIMARY KEY, devices INTEGER NOT NULL) STRICT, WITHOUT ROWID;
INSERT INTO told_texts (told, devices) SELECT told, count(*) FROM credentials WHERE revoked IS NULL AND told <> '[]' GROUP BY told;
CREATE TRIGGER told_first AFTER INSERT ON credentials WHEN NEW.revoked IS NULL AND NEW.told <> '[]' BEGIN
  INSERT INTO told_texts (told, devices) VALUES (NEW.told, 1) ON CONFLICT (told) DO UPDATE SET devices = devices + 1;
END;
CREATE TRIGGER told_otherwise AFTER UPDATE OF told, revoked ON credentials WHEN OLD.told IS NOT NEW.told OR OLD.revoked IS NOT NEW.revoked BEGIN
  UPDATE told_texts SET devices = devices - 1 WHERE told = OLD.told AND OLD.revoked IS NULL AND OLD.told <> '[]';
  DELETE FROM told_texts WHERE told = OLD.told AND devices = 0;
  INSERT INTO told_texts (told, devices) SELECT NEW.told, 1 WHERE NEW.revoked IS NULL AND NEW.told <> '[]'
    ON CONFLICT (told) DO UPDATE SET devices = devices + 1;
END;
CREATE TRIGGER told_no_more AFTER DELETE ON credentials WHEN OLD.revoked IS NULL AND OLD.told <> '[]' BEGIN
  UPDATE told_texts SET devices = devices - 1 WHERE told = OLD.told;
  DELETE FROM told_texts WHERE told = OLD.told AND devices = 0;
END;
CREATE INDEX credentials_noticed ON credentials(name) WHERE notice IS NOT NULL AND revoked IS NULL;
