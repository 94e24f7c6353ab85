-- The address that a certificate or an account always has, and where.
ALTER TABLE credentials ADD COLUMN fixed TEXT;
-- When a backup was last made.
ALTER TABLE estates ADD COLUMN saved TEXT;
-- What a person leaves behind is found by their devices.
CREATE INDEX sessions_by_device ON sessions(device, ended);
CREATE INDEX revocations_by_device ON revocations(device);
