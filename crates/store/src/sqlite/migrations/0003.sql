-- The name that a user had elsewhere, which stays good to sign in with.
ALTER TABLE users ADD COLUMN alias TEXT;
CREATE UNIQUE INDEX users_by_alias ON users(alias);
-- An account is found by what it is called, whatever its device is called by now.
CREATE INDEX credentials_by_account ON credentials(json_extract(account, '$.name'));
-- What each command did to records, without their secrets: before and after, as JSON. By the last row that it wrote into the history.
CREATE TABLE changes (
  number INTEGER PRIMARY KEY,
  first INTEGER NOT NULL,
  records TEXT NOT NULL
) STRICT;
CREATE TRIGGER changes_stay_deleted BEFORE DELETE ON changes BEGIN SELECT RAISE(ABORT, 'changes stay'); END;
CREATE TRIGGER changes_stay_changed BEFORE UPDATE ON changes BEGIN SELECT RAISE(ABORT, 'changes stay'); END;
