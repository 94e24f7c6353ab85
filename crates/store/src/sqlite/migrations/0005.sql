-- A command on many makes its records in batches, so that others come in between. What it has made counts once its row is gone from here.
CREATE TABLE jobs (
  name TEXT PRIMARY KEY,
  what TEXT NOT NULL,
  wish TEXT NOT NULL,
  who TEXT NOT NULL,
  begun TEXT NOT NULL,
  done INTEGER NOT NULL,
  whole INTEGER NOT NULL
) STRICT;
ALTER TABLE credentials ADD COLUMN job TEXT;
CREATE INDEX credentials_by_job ON credentials(job) WHERE job IS NOT NULL;
-- The end of a job says at once that it may be anybody.
DROP TRIGGER pending_issued;
CREATE TRIGGER pending_issued AFTER INSERT ON credentials WHEN NEW.job IS NULL BEGIN
  INSERT INTO pending (gateway, device)
    SELECT substr(value, 1, instr(value, '/') - 1), NEW.device FROM json_tree(NEW.ways) WHERE key = 'listener'
    UNION SELECT value, NEW.device FROM json_each(NEW.gateways) WHERE true ON CONFLICT DO NOTHING;
END;
