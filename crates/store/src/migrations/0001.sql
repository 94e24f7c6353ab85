-- The first shape of an estate. Lists and structures stand as JSON text, moments as RFC 3339 in UTC.
CREATE TABLE estates (name TEXT PRIMARY KEY, id TEXT NOT NULL, public_key TEXT NOT NULL, private_key TEXT NOT NULL, created TEXT NOT NULL) STRICT;
CREATE TABLE sites (name TEXT PRIMARY KEY, networks TEXT NOT NULL, time_zone TEXT NOT NULL, front TEXT, created TEXT NOT NULL) STRICT;
CREATE TABLE hosts (name TEXT PRIMARY KEY, site TEXT NOT NULL REFERENCES sites(name), kind TEXT NOT NULL, via TEXT NOT NULL, facts TEXT, probed TEXT, created TEXT NOT NULL) STRICT;
CREATE TABLE gateways (name TEXT PRIMARY KEY, host TEXT NOT NULL UNIQUE REFERENCES hosts(name), site TEXT NOT NULL REFERENCES sites(name), dialled TEXT NOT NULL, outward TEXT, masquerade INTEGER NOT NULL, public_key TEXT NOT NULL, private_key TEXT NOT NULL, adopted INTEGER NOT NULL, order_number INTEGER NOT NULL, news_seen INTEGER NOT NULL, created TEXT NOT NULL) STRICT;
CREATE TABLE listeners (name TEXT PRIMARY KEY, gateway TEXT NOT NULL REFERENCES gateways(name), tunnel TEXT NOT NULL, port INTEGER NOT NULL, outside_port INTEGER NOT NULL, pool TEXT NOT NULL, reach TEXT NOT NULL, resolvers TEXT NOT NULL, keep_alive INTEGER NOT NULL, packet_size INTEGER NOT NULL, cipher TEXT NOT NULL, created TEXT NOT NULL, UNIQUE (gateway, port)) STRICT;
CREATE TABLE users (name TEXT PRIMARY KEY, mail TEXT, about TEXT, state TEXT NOT NULL, groups TEXT NOT NULL, created TEXT NOT NULL) STRICT;
CREATE TABLE groups (name TEXT PRIMARY KEY, about TEXT, created TEXT NOT NULL) STRICT;
CREATE TABLE devices (name TEXT PRIMARY KEY, user TEXT NOT NULL REFERENCES users(name), platform TEXT, created TEXT NOT NULL) STRICT;
CREATE INDEX devices_by_user ON devices(user);
CREATE TABLE credentials (name TEXT PRIMARY KEY, device TEXT NOT NULL REFERENCES devices(name), user TEXT NOT NULL REFERENCES users(name), public_key TEXT NOT NULL UNIQUE, private_key TEXT, made_on_device INTEGER NOT NULL, ways TEXT NOT NULL, issued TEXT NOT NULL, valid_from TEXT, expires TEXT, handed_over TEXT, told TEXT NOT NULL, revoked TEXT, reason TEXT, first_used TEXT, last_used TEXT) STRICT;
CREATE INDEX credentials_by_device ON credentials(device);
CREATE INDEX credentials_by_user ON credentials(user);
CREATE TABLE addresses (name TEXT PRIMARY KEY, listener TEXT NOT NULL REFERENCES listeners(name), inner TEXT NOT NULL, credential TEXT NOT NULL REFERENCES credentials(name), UNIQUE (listener, inner)) STRICT;
CREATE INDEX addresses_by_listener ON addresses(listener);
CREATE INDEX addresses_by_credential ON addresses(credential);
-- Revocations only grow: no statement of this program deletes from here.
CREATE TABLE revocations (name TEXT PRIMARY KEY, device TEXT NOT NULL, reason TEXT NOT NULL, at TEXT NOT NULL, gateways TEXT NOT NULL) STRICT;
CREATE TRIGGER revocations_stay BEFORE DELETE ON revocations BEGIN SELECT RAISE(ABORT, 'revocations only grow'); END;
CREATE TABLE orders (name TEXT PRIMARY KEY, gateway TEXT NOT NULL, number INTEGER NOT NULL, envelope TEXT NOT NULL, hash TEXT NOT NULL, made TEXT NOT NULL, received TEXT) STRICT;
CREATE INDEX orders_by_gateway ON orders(gateway, number);
CREATE TABLE sessions (name TEXT PRIMARY KEY, gateway TEXT NOT NULL, number INTEGER NOT NULL, device TEXT NOT NULL, from_address TEXT NOT NULL, inner TEXT NOT NULL, opened TEXT NOT NULL, ended TEXT, reason TEXT, received INTEGER NOT NULL, sent INTEGER NOT NULL, last_heard TEXT) STRICT;
CREATE INDEX sessions_by_gateway ON sessions(gateway, ended);
CREATE TABLE history (number INTEGER PRIMARY KEY, at TEXT NOT NULL, who TEXT NOT NULL, what TEXT NOT NULL, subject TEXT NOT NULL, detail TEXT NOT NULL, hash TEXT NOT NULL) STRICT;
CREATE TRIGGER history_stays_deleted BEFORE DELETE ON history BEGIN SELECT RAISE(ABORT, 'history only grows'); END;
CREATE TRIGGER history_stays_changed BEFORE UPDATE ON history BEGIN SELECT RAISE(ABORT, 'history only grows'); END;
