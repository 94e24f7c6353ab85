-- The one ordered list that decides who is admitted.
CREATE TABLE policies (
  name TEXT PRIMARY KEY,
  place INTEGER NOT NULL,
  effect TEXT NOT NULL,
  active INTEGER NOT NULL,
  wants TEXT NOT NULL,
  bars TEXT NOT NULL,
  terms TEXT NOT NULL,
  about TEXT,
  created TEXT NOT NULL
) STRICT;
CREATE INDEX policies_by_place ON policies(place);
-- An estate that was made before goes on admitting every valid credential.
INSERT INTO policies (name, place, effect, active, wants, bars, terms, about, created)
  SELECT 'everyone', 1048576, 'admit', 1, '{}', '{}', '{}', 'made when this estate came to have policies: it admits as before', strftime('%Y-%m-%dT%H:%M:%SZ', 'now')
    FROM estates LIMIT 1;
-- What an order says of people goes by what policies ask about: another list, and it may be anybody.
CREATE TRIGGER pending_policy AFTER INSERT ON policies BEGIN
  INSERT INTO pending (gateway, device) SELECT name, '*' FROM gateways WHERE true ON CONFLICT DO NOTHING;
END;
CREATE TRIGGER pending_other_policy AFTER UPDATE OF effect, active, wants, bars, terms ON policies BEGIN
  INSERT INTO pending (gateway, device) SELECT name, '*' FROM gateways WHERE true ON CONFLICT DO NOTHING;
END;
CREATE TRIGGER pending_no_policy AFTER DELETE ON policies BEGIN
  INSERT INTO pending (gateway, device) SELECT name, '*' FROM gateways WHERE true ON CONFLICT DO NOTHING;
END;
CREATE TRIGGER pending_groups AFTER UPDATE OF groups ON users WHEN OLD.groups IS NOT NEW.groups
AND EXISTS (SELECT 1 FROM policies WHERE wants LIKE '%"group"%' OR bars LIKE '%"group"%') BEGIN
  INSERT INTO pending (gateway, device)
    SELECT substr(way.value, 1, instr(way.value, '/') - 1), credentials.device
      FROM credentials, json_tree(credentials.ways) AS way WHERE credentials.user = NEW.name AND way.key = 'listener'
    UNION SELECT gate.value, credentials.device FROM credentials, json_each(credentials.gateways) AS gate WHERE credentials.user = NEW.name
    ON CONFLICT DO NOTHING;
END;
CREATE TRIGGER pending_platform AFTER UPDATE OF platform ON devices WHEN OLD.platform IS NOT NEW.platform
AND EXISTS (SELECT 1 FROM policies WHERE wants LIKE '%"platform"%' OR bars LIKE '%"platform"%') BEGIN
  INSERT INTO pending (gateway, device)
    SELECT substr(way.value, 1, instr(way.value, '/') - 1), credentials.device
      FROM credentials, json_tree(credentials.ways) AS way WHERE credentials.device = NEW.name AND way.key = 'listener'
    UNION SELECT gate.value, credentials.device FROM credentials, json_each(credentials.gateways) AS gate WHERE credentials.device = NEW.name
    ON CONFLICT DO NOTHING;
END;
-- Days that what happened stays on record.
ALTER TABLE estates ADD COLUMN keep_sessions INTEGER NOT NULL DEFAULT 365;
-- By which policy a session was admitted, as far as its gateway said.
ALTER TABLE sessions ADD COLUMN policy TEXT;
CREATE INDEX sessions_by_policy ON sessions(policy, opened) WHERE policy IS NOT NULL;
