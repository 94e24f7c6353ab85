-- Which sign-ins a registry claims, what it calls those that sign in, and in which order registries are asked.
ALTER TABLE registries ADD COLUMN claims TEXT NOT NULL DEFAULT '{}';
ALTER TABLE registries ADD COLUMN called TEXT NOT NULL DEFAULT '{name}';
ALTER TABLE registries ADD COLUMN rank INTEGER;
-- How many policies were asked when a session began, and the realm of the name that was given.
ALTER TABLE sessions ADD COLUMN asked INTEGER;
ALTER TABLE sessions ADD COLUMN realm TEXT;
-- How many users a machine carries at once.
ALTER TABLE hosts ADD COLUMN users_at_once INTEGER;
CREATE TRIGGER pending_registry AFTER INSERT ON registries BEGIN
  INSERT INTO pending (gateway, device) SELECT name, '*' FROM gateways WHERE true ON CONFLICT DO NOTHING;
END;
CREATE TRIGGER pending_other_registry AFTER UPDATE ON registries BEGIN
  INSERT INTO pending (gateway, device) SELECT name, '*' FROM gateways WHERE true ON CONFLICT DO NOTHING;
END;
CREATE TRIGGER pending_no_registry AFTER DELETE ON registries BEGIN
  INSERT INTO pending (gateway, device) SELECT name, '*' FROM gateways WHERE true ON CONFLICT DO NOTHING;
END;
-- Whether a device has signed in stands in orders where a policy asks for it.
CREATE TRIGGER pending_first_use AFTER UPDATE OF first_used ON credentials WHEN OLD.first_used IS NULL AND NEW.first_used IS NOT NULL
AND EXISTS (SELECT 1 FROM policies WHERE wants LIKE '%"first-sign-in"%' OR bars LIKE '%"first-sign-in"%') BEGIN
  INSERT INTO pending (gateway, device)
    SELECT substr(way.value, 1, instr(way.value, '/') - 1), credentials.device
      FROM credentials, json_tree(credentials.ways) AS way WHERE credentials.device = NEW.device AND way.key = 'listener'
    UNION SELECT gate.value, credentials.device FROM credentials, json_each(credentials.gateways) AS gate WHERE credentials.device = NEW.device
    ON CONFLICT DO NOTHING;
END;
