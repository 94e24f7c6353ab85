-- The address that a certificate or an account always has, and where.
ALTER TABLE credentials ADD COLUMN fixed TEXT;
-- When a backup was last made.
ALTER TABLE estates ADD COLUMN saved TEXT;
