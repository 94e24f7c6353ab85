-- The shape of an estate. Lists and structures stand as JSON text, moments as RFC 3339 in UTC.
CREATE TABLE estates (
  name TEXT PRIMARY KEY,
  id TEXT NOT NULL,
  public_key TEXT NOT NULL,
  private_key TEXT NOT NULL,
  recovery_key TEXT,
  recovery_sealed TEXT,
  previous_keys TEXT NOT NULL,
  peer_secret TEXT NOT NULL,
  hold_addresses INTEGER NOT NULL,
  orders_hold INTEGER,
  created TEXT NOT NULL
) STRICT;
CREATE TABLE sites (
  name TEXT PRIMARY KEY,
  networks TEXT NOT NULL,
  time_zone TEXT NOT NULL,
  front TEXT,
  created TEXT NOT NULL
) STRICT;
CREATE TABLE hosts (
  name TEXT PRIMARY KEY,
  site TEXT NOT NULL REFERENCES sites(name),
  kind TEXT NOT NULL,
  via TEXT NOT NULL,
  access TEXT NOT NULL,
  facts TEXT,
  probed TEXT,
  leftover TEXT,
  created TEXT NOT NULL
) STRICT;
CREATE TABLE gateways (
  name TEXT PRIMARY KEY,
  host TEXT NOT NULL UNIQUE REFERENCES hosts(name),
  site TEXT NOT NULL REFERENCES sites(name),
  dialled TEXT NOT NULL,
  also TEXT NOT NULL,
  outward TEXT,
  masquerade INTEGER NOT NULL,
  public_key TEXT NOT NULL,
  private_key TEXT NOT NULL,
  adopted INTEGER NOT NULL,
  order_number INTEGER NOT NULL,
  news_seen INTEGER NOT NULL,
  updates TEXT,
  metrics TEXT,
  certificate TEXT,
  certificate_key TEXT,
  request_key TEXT,
  publish_port INTEGER,
  lists_there TEXT NOT NULL,
  trusts TEXT,
  peer_call TEXT NOT NULL,
  renewed TEXT,
  created TEXT NOT NULL
) STRICT;
CREATE TABLE listeners (
  name TEXT PRIMARY KEY,
  gateway TEXT NOT NULL REFERENCES gateways(name),
  tunnel TEXT NOT NULL,
  serves TEXT NOT NULL,
  pool TEXT NOT NULL,
  pool6 TEXT,
  reach TEXT NOT NULL,
  resolvers TEXT NOT NULL,
  domains TEXT NOT NULL,
  keep_alive INTEGER NOT NULL,
  packet_size INTEGER NOT NULL,
  created TEXT NOT NULL
) STRICT;
CREATE TABLE users (
  name TEXT PRIMARY KEY,
  mail TEXT,
  about TEXT,
  state TEXT NOT NULL,
  groups TEXT NOT NULL,
  created TEXT NOT NULL
) STRICT;
CREATE TABLE groups (
  name TEXT PRIMARY KEY,
  about TEXT,
  lifetime INTEGER,
  created TEXT NOT NULL
) STRICT;
CREATE TABLE devices (
  name TEXT PRIMARY KEY,
  user TEXT NOT NULL REFERENCES users(name),
  platform TEXT,
  created TEXT NOT NULL
) STRICT;
CREATE INDEX devices_by_user ON devices(user);
CREATE TABLE credentials (
  name TEXT PRIMARY KEY,
  device TEXT NOT NULL REFERENCES devices(name),
  user TEXT NOT NULL REFERENCES users(name),
  identity TEXT NOT NULL UNIQUE,
  kind TEXT NOT NULL,
  private_key TEXT,
  made_on_device INTEGER,
  ways TEXT,
  serial TEXT,
  account TEXT,
  gateways TEXT,
  superseded TEXT,
  once INTEGER NOT NULL,
  issued TEXT NOT NULL,
  valid_from TEXT,
  expires TEXT,
  handed_over TEXT,
  told TEXT NOT NULL,
  notice TEXT,
  notice_seen INTEGER NOT NULL,
  revoked TEXT,
  reason TEXT,
  first_used TEXT,
  last_used TEXT
) STRICT;
CREATE INDEX credentials_by_device ON credentials(device);
CREATE INDEX credentials_by_user ON credentials(user);
CREATE INDEX credentials_by_expires ON credentials(expires);
CREATE TABLE addresses (
  name TEXT PRIMARY KEY,
  listener TEXT NOT NULL REFERENCES listeners(name),
  inner TEXT NOT NULL,
  -- The credential may be gone, and its address still held.
  credential TEXT NOT NULL,
  leased INTEGER NOT NULL,
  held_until TEXT,
  UNIQUE (listener, inner)
) STRICT;
CREATE INDEX addresses_by_listener ON addresses(listener);
CREATE INDEX addresses_by_credential ON addresses(credential);
-- Revocations only grow: no statement of this program deletes from here.
CREATE TABLE revocations (
  name TEXT PRIMARY KEY,
  device TEXT NOT NULL,
  reason TEXT NOT NULL,
  at TEXT NOT NULL,
  gateways TEXT NOT NULL
) STRICT;
CREATE TRIGGER revocations_stay BEFORE DELETE ON revocations BEGIN SELECT RAISE(ABORT, 'revocations only grow'); END;
CREATE TABLE orders (
  name TEXT PRIMARY KEY,
  gateway TEXT NOT NULL,
  number INTEGER NOT NULL,
  envelope TEXT NOT NULL,
  hash TEXT NOT NULL,
  made TEXT NOT NULL,
  received TEXT
) STRICT;
CREATE INDEX orders_by_gateway ON orders(gateway, number);
CREATE TABLE sessions (
  name TEXT PRIMARY KEY,
  gateway TEXT NOT NULL,
  number INTEGER NOT NULL,
  device TEXT NOT NULL,
  from_address TEXT NOT NULL,
  inner TEXT NOT NULL,
  opened TEXT NOT NULL,
  ended TEXT,
  reason TEXT,
  received INTEGER NOT NULL,
  sent INTEGER NOT NULL,
  last_heard TEXT
) STRICT;
CREATE INDEX sessions_by_gateway ON sessions(gateway, ended);
CREATE TABLE history (
  number INTEGER PRIMARY KEY,
  at TEXT NOT NULL,
  who TEXT NOT NULL,
  what TEXT NOT NULL,
  subject TEXT NOT NULL,
  detail TEXT NOT NULL,
  hash TEXT NOT NULL
) STRICT;
CREATE TRIGGER history_stays_deleted BEFORE DELETE ON history BEGIN SELECT RAISE(ABORT, 'history only grows'); END;
CREATE TRIGGER history_stays_changed BEFORE UPDATE ON history BEGIN SELECT RAISE(ABORT, 'history only grows'); END;
-- The newest row of the history, kept apart from it, so that rows cut off its end show.
CREATE TABLE history_head (
  one INTEGER PRIMARY KEY CHECK (one = 1),
  number INTEGER NOT NULL,
  hash TEXT NOT NULL,
  -- The newest row up to which the estate's key has signed, as JSON.
  signed TEXT
) STRICT;
CREATE TABLE authorities (
  name TEXT PRIMARY KEY,
  parent TEXT REFERENCES authorities(name),
  certificate TEXT NOT NULL,
  above TEXT NOT NULL,
  serial TEXT NOT NULL,
  algorithm TEXT NOT NULL,
  private_key TEXT,
  domain TEXT,
  list TEXT,
  list_number INTEGER NOT NULL,
  list_from TEXT,
  list_until TEXT,
  responder TEXT,
  published_at TEXT NOT NULL,
  retired TEXT,
  created TEXT NOT NULL,
  expires TEXT NOT NULL
) STRICT;
CREATE TABLE certificates (
  name TEXT PRIMARY KEY,
  authority TEXT NOT NULL REFERENCES authorities(name),
  kind TEXT NOT NULL,
  subject TEXT NOT NULL,
  certificate TEXT NOT NULL,
  state TEXT NOT NULL,
  issued TEXT NOT NULL,
  expires TEXT NOT NULL,
  revoked TEXT,
  reason TEXT
) STRICT;
CREATE INDEX certificates_by_state ON certificates(authority, state);
CREATE INDEX certificates_by_subject ON certificates(subject);
CREATE TABLE shared_secrets (
  name TEXT PRIMARY KEY,
  holder TEXT NOT NULL,
  number INTEGER NOT NULL,
  secret TEXT NOT NULL,
  for_agent TEXT,
  issued TEXT NOT NULL,
  handed_over TEXT,
  until TEXT,
  revoked TEXT,
  reason TEXT
) STRICT;
CREATE INDEX shared_secrets_by_holder ON shared_secrets(holder);
CREATE TABLE registries (
  name TEXT PRIMARY KEY,
  kind TEXT NOT NULL,
  methods TEXT NOT NULL,
  created TEXT NOT NULL
) STRICT;
INSERT INTO registries (name, kind, methods, created) VALUES ('estate', 'estate', '["password"]', '2026-11-23T00:00:00Z');
